package main

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode/store"
)

func (a *app) outbox() *cobra.Command {
	return group("outbox", "Look into the outbox", a.outboxList(), a.outboxShow())
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
	var state, before string
	var most int
	cmd := &cobra.Command{
		Use:   "list",
		Short: "List deliveries, the newest first, and count them by state",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if state != "" && !slices.Contains(store.States, store.State(state)) {
				return misuse{fmt.Errorf("--state %s: there is no such state; the states are %v", state, store.States)}
			}
			if most < 1 || most > 10_000 {
				return misuse{fmt.Errorf("--most %d: give a number from 1 to 10000", most)}
			}
			return a.withStore(cmd.Context(), func(st *store.Store) error {
				now := time.Now()
				sum, err := st.Summary(cmd.Context(), now)
				if err != nil {
					return err
				}
				list, err := st.List(cmd.Context(), store.State(state), before, most)
				if err != nil {
					return err
				}
				rows := []deliveryJSON{}
				for _, d := range list {
					rows = append(rows, deliveryOf(d))
				}
				return a.print(map[string]any{"summary": summaryOf(sum, now), "deliveries": rows}, func() {
					a.listText(sum, list, most, now)
				})
			})
		},
	}
	cmd.Flags().StringVar(&state, "state", "", "only this state: waiting, claimed, sent, failed, cancelled or expired")
	cmd.Flags().StringVar(&before, "before", "", "only those older than the delivery with this full id, for paging")
	cmd.Flags().IntVar(&most, "most", 30, "how many at the most")
	return cmd
}

func (a *app) listText(sum store.Summary, list []store.Delivery, most int, now time.Time) {
	a.line("%s", summaryLine(sum))
	if sum.NobodyWorks(now) {
		a.line("NOBODY WORKS: letters have been due since %s and no worker was seen for a minute.\nRun `illumicode deliver`, or svc.Run in your application.", clock(sum.OldestDue))
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

func summaryLine(sum store.Summary) string {
	var parts []string
	for _, s := range store.States {
		if n := sum.Count[s]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, s))
		}
	}
	if len(parts) == 0 {
		return "The outbox is empty."
	}
	line := strings.Join(parts, ", ") + "."
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
			return a.withStore(cmd.Context(), func(st *store.Store) error {
				d, err := find(cmd.Context(), st, strings.TrimPrefix(args[0], "…"))
				if err != nil {
					return err
				}
				attempts, err := st.Attempts(cmd.Context(), d.ID)
				if err != nil {
					return err
				}
				v := deliveryOf(d)
				v.Tried = []attemptJSON{}
				for _, at := range attempts {
					v.Tried = append(v.Tried, attemptOf(at))
				}
				return a.print(v, func() { a.showText(d, attempts) })
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

func (a *app) showText(d store.Delivery, attempts []store.Attempt) {
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
	row("created", "%s", clock(d.Created))
	if !d.DeliverBefore.IsZero() {
		row("deliver before", "%s", clock(d.DeliverBefore))
	}
	if d.Note != "" {
		row("why", "%s", d.Note)
	}
	row("next", "%s", next(d))
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
		if at.Remote != "" {
			a.line("    there it is %s", at.Remote)
		}
	}
	if len(attempts) == 0 {
		a.line("\nno attempt yet")
	}
}

// next says what will happen without anybody's doing.
func next(d store.Delivery) string {
	switch d.State {
	case store.Waiting:
		return "an attempt at " + clock(d.Due) + ", if a worker runs"
	case store.Claimed:
		return "the worker that holds it since " + clock(d.Claimed) + " records what the provider says"
	}
	return "nothing: it ended at " + clock(d.Ended)
}
