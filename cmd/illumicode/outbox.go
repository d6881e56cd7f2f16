package main

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode/config"
	"github.com/illumicode/illumicode/outbox"
	"github.com/illumicode/illumicode/store"
)

func (a *app) outbox() *cobra.Command {
	return group("outbox", "Look into the outbox, and free what is stuck", a.outboxList(), a.outboxShow(), a.outboxExport(),
		a.outboxRelease(), a.outboxRetry(), a.outboxCancel(), a.outboxPause(), a.outboxResume(), a.outboxEvents(), a.outboxAdopt())
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
	if err := st.Ready(ctx); err != nil {
		return err
	}
	return fn(st)
}

func (a *app) outboxList() *cobra.Command {
	var which filter
	var before string
	var most int
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
				var matching map[store.State]int
				if !f.None() {
					if matching, err = st.Matching(cmd.Context(), f); err != nil {
						return err
					}
				}
				cfg, err := a.load()
				if err != nil {
					return err
				}
				ways, err := waysAt(cmd.Context(), cfg, st, now)
				if err != nil {
					return err
				}
				rows := []deliveryJSON{}
				for _, d := range list {
					rows = append(rows, deliveryOf(d))
				}
				here := map[string]string{"site": cfg.SiteURL(), "guard": string(guardOf(cfg))}
				return a.print(map[string]any{"summary": summaryOf(sum, now), "here": here, "matching": matching, "providers": ways, "deliveries": rows}, func() {
					a.listText(cfg, sum, ways, matching, list, most, now)
				})
			})
		},
	}
	which.flags(cmd)
	cmd.Flags().StringVar(&before, "before", "", "only those before the delivery with this full id, for paging")
	cmd.Flags().IntVar(&most, "most", 30, "how many at the most")
	return cmd
}

func (a *app) listText(cfg *config.File, sum store.Summary, ways []wayJSON, matching map[store.State]int, list []store.Delivery, most int, now time.Time) {
	a.line("%s", summaryLine(sum))
	for _, l := range sum.Loads {
		if l.State == store.Waiting && !l.Oldest.After(now) {
			a.line("  lane %-6s  %d waiting, the oldest due for %s", l.Lane, l.Count, now.Sub(l.Oldest).Round(time.Second))
		}
	}
	if here := cfg.SiteURL(); sum.Site != "" && sum.Site != here {
		a.line("THIS DATABASE SENDS FOR ANOTHER SITE, %s, so nothing is sent for %s: is it a copy?\n  If it is to send for this one, cancel what must not go out, then run `illumicode outbox adopt`.", sum.Site, here)
	}
	if mode := guardOf(cfg); mode != outbox.Live {
		a.line("THE GUARD IS ON %s in this configuration, see [guard] there.", strings.ToUpper(string(mode)))
	}
	for _, p := range sum.Pauses {
		a.line("PAUSED: %s %s, since %s%s\n  Continue with `illumicode outbox resume %s %s`.", p.Kind, p.Name, clock(p.Since), because(p.Note), p.Kind, p.Name)
	}
	a.tellWays(ways)
	if sum.NobodyWorks(now) {
		a.line("NOBODY WORKS: letters have been due since %s and no worker was seen for a minute.\nRun `illumicode deliver`, or svc.Run in your application.", clock(sum.OldestDue))
	}
	if sum.Aside > 0 {
		a.line("%d events were set aside; `illumicode outbox events` says why.", sum.Aside)
	}
	if matching != nil {
		a.line("These match: %s", countLine(matching))
	}
	if len(list) == 0 {
		return
	}
	a.line("")
	w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "ID\tSTATE\tLANE\tLETTER\tTO\tTRIES\tWHEN\tWHY")
	for _, d := range list {
		fmt.Fprintf(w, "…%s\t%s\t%s\t%s\t%s\t%d\t%s\t%s\n", tail(d.ID), d.State, d.Lane, d.Letter, d.Address, d.Attempts, when(d), short(d.Note, 40))
	}
	w.Flush()
	if len(list) == most {
		a.line("\nThere may be more: --before %s", list[len(list)-1].ID)
	}
}

// guardOf returns the mode of the guard that a configuration sets.
func guardOf(cfg *config.File) outbox.Mode { return cmp.Or(outbox.Mode(cfg.Guard.Mode), outbox.Live) }

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
	if line == "none." {
		line = "The outbox is empty."
	}
	if sum.Lists > 0 {
		line += fmt.Sprintf(" %d lists are being expanded.", sum.Lists)
	}
	if sum.Repeats > 0 {
		line += fmt.Sprintf(" %d sent again after an attempt whose end is unknown.", sum.Repeats)
	}
	return line
}

func (a *app) outboxShow() *cobra.Command {
	return &cobra.Command{
		Use:   "show ID",
		Short: "Tell the whole story of one delivery; the last eight characters of its id are enough",
		Args:  oneArg("the id of a delivery, as `illumicode outbox list` shows it"),
		RunE: func(cmd *cobra.Command, args []string) error {
			f, err := a.load()
			if err != nil {
				return err
			}
			svc, closeAll, err := f.Open(cmd.Context(), slog.New(slog.DiscardHandler), nil)
			if err != nil {
				return err
			}
			defer closeAll()
			d, err := find(cmd.Context(), svc.Store(), strings.TrimPrefix(args[0], "…"))
			if err != nil {
				return err
			}
			attempts, err := svc.Store().Attempts(cmd.Context(), d.ID)
			if err != nil {
				return err
			}
			v := deliveryOf(d)
			v.Tried = []attemptJSON{}
			for _, at := range attempts {
				v.Tried = append(v.Tried, attemptOf(at))
			}
			feedback, err := svc.Store().FeedbackOn(cmd.Context(), d.ID)
			if err != nil {
				return err
			}
			v.Outcome, v.Feedback = outcome(feedback), feedbackJSON(feedback)
			look, lookErr := svc.Preview(cmd.Context(), d)
			v.Looks = look.Text
			return a.print(v, func() {
				a.showText(d, attempts, feedback)
				a.line("")
				if lookErr != nil {
					a.line("The letter cannot be shown: %v.", lookErr)
					return
				}
				a.line("The letter, with its secrets masked:")
				if look.Subject != "" {
					a.line("    Subject: %s\n", look.Subject)
				}
				for line := range strings.SplitSeq(strings.TrimRight(look.Text, "\r\n"), "\n") {
					a.line("    %s", strings.TrimRight(line, "\r"))
				}
			})
		},
	}
}

// find returns the delivery with this id, or whose id ends in it.
func find(ctx context.Context, st *store.Store, id string) (store.Delivery, error) {
	if len(id) == 36 {
		d, err := st.Delivery(ctx, id)
		if err != nil {
			return d, fmt.Errorf("delivery %s: %w", id, err)
		}
		return d, nil
	}
	found, err := st.DeliveriesByTail(ctx, id)
	switch {
	case err != nil:
		return store.Delivery{}, err
	case len(found) == 0:
		return store.Delivery{}, fmt.Errorf("no delivery's id ends in %q; give six characters or more", id)
	case len(found) > 1:
		return store.Delivery{}, fmt.Errorf("more than one delivery's id ends in %q; give more characters", id)
	}
	return found[0], nil
}

func (a *app) showText(d store.Delivery, attempts []store.Attempt, feedback []store.Feedback) {
	w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
	row := func(name, format string, args ...any) {
		fmt.Fprintf(w, "%s\t%s\n", name, fmt.Sprintf(format, args...))
	}
	row("delivery", "%s", d.ID)
	row("state", "%s", d.State)
	row("letter", "%s, locale %s, lane %s", d.Letter, d.Locale, d.Lane)
	row("to", "%s", strings.TrimSpace(d.Name+" <"+d.Address+">"))
	if d.Challenge != "" {
		row("challenge", "%s, code generation %d", d.Challenge, d.Generation)
	}
	row("asked for by", "%s, at %s", askedBy(d), clock(d.Created))
	if d.Key != "" {
		row("key", "%s", d.Key)
	}
	if d.Fallback != "" {
		row("if it fails", "the letter goes to %s", d.Fallback)
	}
	if !d.DeliverBefore.IsZero() {
		row("deliver before", "%s", clock(d.DeliverBefore))
	}
	if d.Note != "" {
		row("why", "%s", d.Note)
	}
	row("next", "%s", next(d))
	if o := outcome(feedback); o != "" {
		row("outcome", "%s", o)
	}
	w.Flush()
	for _, at := range attempts {
		a.line("")
		if at.Ended.IsZero() {
			a.line("attempt %d through %s, begun %s: under way", at.Number, at.Provider, clock(at.Begun))
			continue
		}
		a.line("attempt %d through %s, %s, %d ms: %s", at.Number, at.Provider, clock(at.Begun), at.Ended.Sub(at.Begun).Milliseconds(), at.Class)
		for line := range strings.SplitSeq(at.Reply, "\n") {
			a.line("    %s", line)
		}
		if at.Route != "" {
			a.line("    chosen so: %s", at.Route)
		}
		if at.Remote != "" {
			a.line("    there it is %s", at.Remote)
		}
	}
	if len(attempts) == 0 {
		a.line("\nno attempt yet")
	}
	for i, f := range feedback {
		if i == 0 {
			a.line("")
		}
		a.line("%s", cameBack(f))
	}
}

func askedBy(d store.Delivery) string {
	switch {
	case d.AskedBy != "":
		return d.AskedBy
	case d.Challenge != "":
		return "its challenge"
	}
	return "the application"
}

// next says what will happen without anybody's doing.
func next(d store.Delivery) string {
	switch d.State {
	case store.Waiting:
		if time.Since(d.Due) > time.Minute {
			return "an attempt, due since " + clock(d.Due) + "; `illumicode outbox list` says what keeps it"
		}
		return "an attempt at " + clock(d.Due) + ", if a worker runs"
	case store.Held:
		if kind, name, ok := strings.Cut(d.HeldBy, ": "); ok {
			return "nothing, until `illumicode outbox resume " + kind + " " + name + "`"
		}
		return "nothing, until `illumicode outbox release " + tail(d.ID) + "` or `outbox cancel " + tail(d.ID) + "`"
	case store.Failed:
		return "nothing: it ended at " + clock(d.Ended) + "; `illumicode outbox retry " + tail(d.ID) + "` tries again"
	case store.Claimed:
		return "the worker that holds it since " + clock(d.Claimed) + " records what the provider says"
	}
	return "nothing: it ended at " + clock(d.Ended)
}
