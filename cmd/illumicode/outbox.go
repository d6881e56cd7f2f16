package main

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/internal/config"
	"github.com/illumicode/illumicode/internal/outbox"
	"github.com/illumicode/illumicode/internal/store"
)

func (a *app) outbox() *cobra.Command {
	return group("outbox", "Look into the outbox, and free what is stuck", a.outboxList(), a.outboxShow(),
		a.outboxExport(),
		a.outboxRelease(), a.outboxRetry(), a.outboxCancel(), a.outboxPause(), a.outboxResume(), a.outboxEvents(),
		a.outboxAdopt(), a.outboxRecall())
}

// withStore runs fn with the configured database, whose tables must be there.
func (a *app) withStore(ctx context.Context, fn func(*store.Store) error) error {
	f, err := a.load()
	if err != nil {
		return err
	}
	st, err := f.OpenStore(ctx)
	if err != nil {
		return err
	}
	defer st.Close()
	rows := store.Of(st).Patient()
	if err := rows.Ready(ctx); err != nil {
		return err
	}
	return fn(rows)
}

func (a *app) outboxList() *cobra.Command {
	var which filter
	before, most := "", 30
	cmd := &cobra.Command{
		Use:   "list",
		Short: "List deliveries, the newest first, and count them by state",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if most < 1 || most > 10_000 {
				return misuse{fmt.Errorf("--most %d: give a number from 1 to 10000", most)}
			}
			now := time.Now()
			f, err := which.filter(now)
			if err != nil {
				return err
			}
			return a.withStore(cmd.Context(), func(st *store.Store) error {
				sum, err := st.Summary(cmd.Context(), now)
				if err != nil {
					return err
				}
				list, err := st.List(cmd.Context(), f, before, most)
				if err != nil {
					return err
				}
				matching, err := matchingOf(cmd.Context(), st, f)
				if err != nil {
					return err
				}
				cfg, err := a.load()
				if err != nil {
					return err
				}
				more, err := besidesAt(cmd.Context(), cfg, st, now)
				if err != nil {
					return err
				}
				here := map[string]string{"site": cfg.SiteURL(), "guard": string(guardOf(cfg))}
				return a.print(map[string]any{"summary": summaryOf(sum, now), "here": here, "matching": matching,
					"providers": more.ways, "deliveries": deliveriesOf(list),
					"sweep_lag_seconds": int(more.behind.Seconds()), "looks_like_a_copy": more.away,
					"erasures": more.erasures}, func() {
					a.summaryText(cfg, sum, more, now)
					if matching != nil {
						a.line("These match: %s", countLine(matching))
					}
					a.listText(list, most)
				})
			})
		},
	}
	which.flags(cmd)
	cmd.Flags().StringVar(&before, "before", before, "only those before the delivery with this full id, for paging")
	cmd.Flags().IntVar(&most, "most", most, "how many at the most")
	return cmd
}

// matchingOf counts what a filter chooses, by state; nil for no filter.
func matchingOf(ctx context.Context, st *store.Store, f store.Filter) (map[store.State]int, error) {
	if f.None() {
		return nil, nil
	}
	return st.Matching(ctx, f)
}

// behindAt returns for how long something has been kept that should have been removed.
func behindAt(ctx context.Context, cfg *config.File, st *store.Store, now time.Time) (time.Duration, error) {
	since := cfg.KeptSince(now)
	if since.IsZero() {
		return 0, nil
	}
	at, err := st.Overdue(ctx, since)
	if err != nil || at.IsZero() {
		return 0, err
	}
	return since.Sub(at), nil
}

// besides are what an operator should know besides the deliveries.
type besides struct {
	ways     []wayJSON
	behind   time.Duration // for how long old rows have been left
	away     bool          // it looks like a copy
	erasures int           // that have not ended
}

func besidesAt(ctx context.Context, cfg *config.File, st *store.Store, now time.Time) (b besides, err error) {
	if b.ways, err = waysAt(ctx, cfg, st, now); err != nil {
		return b, err
	}
	if b.behind, err = behindAt(ctx, cfg, st, now); err != nil {
		return b, err
	}
	if b.away, err = st.LooksAway(ctx); err != nil {
		return b, err
	}
	b.erasures, err = st.CountErasures(ctx)
	return b, err
}

func behindLine(behind time.Duration) string {
	return fmt.Sprintf("OLD ROWS ARE LEFT: the oldest should have been removed %d days ago. A worker removes them, in "+
		"a tenth of its time while it has letters to send.", int(behind.Hours()/24))
}

func erasuresLine(n int) string {
	return fmt.Sprintf("NOT FORGOTTEN YET: %d. If nobody is at it any more, `illumicode address forget --resume` "+
		"goes on.", n)
}

func deliveriesOf(list []store.Delivery) []deliveryJSON {
	all := make([]deliveryJSON, len(list))
	for i, d := range list {
		all[i] = deliveryOf(d)
	}
	return all
}

func (a *app) summaryText(cfg *config.File, sum store.Summary, more besides, now time.Time) {
	a.line("%s", summaryLine(sum))
	for _, l := range sum.Loads {
		if l.State == store.Waiting && !l.Oldest.After(now) {
			a.line("  lane %-6s  %d waiting, the oldest due for %s", l.Lane, l.Count,
				now.Sub(l.Oldest).Round(time.Second))
		}
	}
	if here := cfg.SiteURL(); sum.Site != "" && sum.Site != here {
		a.line("THIS DATABASE SENDS FOR ANOTHER SITE, %s, so nothing is sent for %s: is it a copy?\n  If it is to "+
			"send for this one, cancel what must not go out, then run `illumicode outbox adopt`.", sum.Site, here)
	}
	if mode := guardOf(cfg); mode != delivery.Live {
		a.line("THE GUARD IS ON %s in this configuration, see [guard] there.", strings.ToUpper(string(mode)))
	}
	for _, p := range sum.Pauses {
		a.line("PAUSED: %s %s, since %s%s\n  Continue with `illumicode outbox resume %s %s`.", p.Kind, p.Name,
			clock(p.Since), because(p.Note), p.Kind, p.Name)
	}
	if more.away {
		a.line("THIS DATABASE LOOKS LIKE A COPY, or was moved; workers that see it so send nothing.\n  If it is to " +
			"send from here, cancel what must not go out, then run `illumicode outbox adopt`.")
	}
	for _, r := range sum.Recalls {
		a.line("RECALLED: %s, since %s%s\n  `illumicode outbox recall show %s` says who has it.", choiceLine(r.Choice),
			clock(r.Made), because(r.Why), r.ID)
	}
	a.tellWays(more.ways)
	if sum.NobodyWorks(now) {
		what := "lists or events wait"
		if !sum.OldestDue.IsZero() {
			what = "letters have been due since " + clock(sum.OldestDue)
		}
		a.line("NOBODY WORKS: %s and no worker was seen for a minute.\nRun `illumicode deliver`, or svc.Run in your "+
			"application.", what)
	}
	if sum.Aside > 0 {
		a.line("%d events were set aside; `illumicode outbox events` says why.", sum.Aside)
	}
	if more.behind > outbox.LateSweep {
		a.line("%s", behindLine(more.behind))
	}
	if more.erasures > 0 {
		a.line("%s", erasuresLine(more.erasures))
	}
}

func (a *app) listText(list []store.Delivery, most int) {
	if len(list) == 0 {
		return
	}
	a.line("")
	w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "ID\tSTATE\tLANE\tLETTER\tTO\tTRIES\tWHEN\tWHY")
	for _, d := range list {
		fmt.Fprintf(w, "…%s\t%s\t%s\t%s\t%s\t%d\t%s\t%s\n", tail(d.ID), d.State, d.Lane, d.Letter, goesTo(d),
			d.Attempts, when(d), short(d.Note, 40))
	}
	w.Flush()
	if len(list) == most {
		a.line("\nThere may be more: --before %s", list[len(list)-1].ID)
	}
}

// guardOf returns the mode of the guard that a configuration sets.
func guardOf(cfg *config.File) delivery.Mode {
	return cmp.Or(delivery.Mode(cfg.Guard.Mode), delivery.Live)
}

// because returns a reason as the end of a sentence; the end alone for none.
func because(why string) string {
	if why = strings.TrimRight(why, ". "); why != "" {
		return ": " + why + "."
	}
	return "."
}

// tail is how lists show an id: enough to be unique, and taken by `outbox show`.
func tail(id string) string { return id[max(0, len(id)-8):] }

func when(d store.Delivery) string {
	switch {
	case !d.Ended.IsZero():
		return clock(d.Ended)
	case d.State == store.Claimed:
		return "since " + clock(d.Claimed)
	}
	return "due " + clock(d.Due)
}

func clock(t time.Time) string {
	if t.IsZero() {
		return "never"
	}
	return t.Local().Format("2006-01-02 15:04:05")
}

func short(s string, n int) string {
	r := []rune(strings.Join(strings.Fields(s), " "))
	if len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return string(r)
}

// countLine counts by state, in words.
func countLine(count map[store.State]int) string {
	var parts []string
	for _, s := range store.States {
		if n := count[s]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, s))
		}
	}
	if len(parts) == 0 {
		return "none."
	}
	return strings.Join(parts, ", ") + "."
}

func summaryLine(sum store.Summary) string {
	line := countLine(sum.Count)
	switch {
	case line != "none.":
	case sum.Lists+sum.Events > 0:
		line = "No letters."
	default:
		line = "The outbox is empty."
	}
	if sum.Lists > 0 {
		line += fmt.Sprintf(" %d lists wait to be expanded.", sum.Lists)
	}
	if sum.Events > 0 {
		line += fmt.Sprintf(" %d events wait for their rules.", sum.Events)
	}
	if sum.Repeats > 0 {
		line += fmt.Sprintf(" %d sent again after an attempt whose end is unknown.", sum.Repeats)
	}
	return line
}

// goesTo says where a delivery goes; one to a subject has no address before its first attempt.
func goesTo(d store.Delivery) string {
	if d.Address == "" && d.Subject != "" {
		return "subject " + d.Subject
	}
	return d.Address
}
