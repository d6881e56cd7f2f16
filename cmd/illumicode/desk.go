package main

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/message"
)

// A change is a verb that changes the deliveries an id or a filter chooses.
type change struct {
	use, short string
	does       string        // what it does to them, for the question
	states     []store.State // of those it can change
	lists      bool          // it changes lists too
	// whether it changes what may have been sent too; nil where it never does
	perhapsSent *bool
	do          func(ctx context.Context, st *store.Store, f store.Filter, now time.Time) (int64, error)
}

// again reports whether what may have been sent is to be tried again.
func (c change) again() bool { return c.perhapsSent != nil && *c.perhapsSent }

func (a *app) outboxRelease() *cobra.Command {
	return a.change(change{use: "release", short: "Let held deliveries go", does: "released",
		states: []store.State{store.Held},
		do: func(ctx context.Context, st *store.Store, f store.Filter, _ time.Time) (int64, error) {
			return st.Release(ctx, f)
		}})
}

func (a *app) outboxRetry() *cobra.Command {
	var perhapsSent bool
	return a.change(change{use: "retry", short: "Try deliveries at once that wait for another attempt or have failed",
		does: "tried again", states: []store.State{store.Waiting, store.Failed, store.Unknown},
		perhapsSent: &perhapsSent,
		do: func(ctx context.Context, st *store.Store, f store.Filter, now time.Time) (int64, error) {
			hurried, err := st.Hurry(ctx, f, now)
			if err != nil {
				return hurried, err
			}
			revived, err := st.Revive(ctx, f, perhapsSent, now)
			return hurried + revived, err
		}})
}

func (a *app) outboxCancel() *cobra.Command {
	return a.change(change{use: "cancel",
		short: "Cancel deliveries that no worker has begun to send, and what is left of lists", does: "cancelled",
		states: []store.State{store.Waiting, store.Held, store.Claimed}, lists: true,
		do: func(ctx context.Context, st *store.Store, f store.Filter, now time.Time) (int64, error) {
			return st.Cancel(ctx, f, "cancelled by an operator", now)
		}})
}

func (a *app) change(c change) *cobra.Command {
	var which filter
	var yes bool
	cmd := &cobra.Command{
		Use:   c.use + " [ID]",
		Short: c.short + ": one by its id, or all that the flags choose",
		RunE: func(cmd *cobra.Command, args []string) error {
			now := time.Now()
			f, err := which.filter(now)
			if err != nil {
				return err
			}
			if len(args) > 1 || len(args) == 1 && !f.None() || len(args) == 0 && f.None() {
				return misuse{fmt.Errorf("outbox %s wants the id of a delivery, or flags that choose some", c.use)}
			}
			return a.withStore(cmd.Context(), func(st *store.Store) error {
				if len(args) == 1 {
					d, err := find(cmd.Context(), st, strings.TrimPrefix(args[0], "…"))
					if err != nil {
						return err
					}
					if !slices.Contains(c.states, d.State) {
						return fmt.Errorf("delivery %s is %s; only what is %s can be %s", d.ID, d.State,
							joined(c.states), c.does)
					}
					if d.State == store.Unknown && !c.again() {
						return fmt.Errorf("delivery %s may have been sent; to try it again, so that it may come "+
							"twice, say --perhaps-sent", d.ID)
					}
					f.ID, yes = d.ID, true
				}
				do := func() (int64, error) { return c.do(cmd.Context(), st, f, now) }
				if yes {
					return a.changeAll(cmd.Context(), st, c, f, do)
				}
				return a.changeAsked(cmd.Context(), st, c, f, do)
			})
		},
	}
	which.flags(cmd)
	if c.perhapsSent != nil {
		cmd.Flags().BoolVar(c.perhapsSent, "perhaps-sent", false,
			"also those of which it is unknown whether they were sent: they may come twice")
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

// changeAsked says how many deliveries there are to change, asks, and changes them.
func (a *app) changeAsked(ctx context.Context, st *store.Store, c change, f store.Filter,
	do func() (int64, error)) error {
	count, err := st.Matching(ctx, f)
	if err != nil {
		return err
	}
	n := 0
	for _, s := range c.states {
		if s != store.Unknown || c.again() {
			n += count[s]
		}
	}
	if n > 0 || c.lists { // lists that are not expanded yet are no deliveries
		but := ""
		if c.lists && count[store.Claimed] > 0 {
			but = fmt.Sprintf(", but for those of %d in hand that have begun", count[store.Claimed])
		}
		ok, err := a.ask(fmt.Sprintf("%d deliveries would be %s%s. Go on?", n, c.does, but))
		if err != nil {
			return err
		}
		if !ok {
			return errors.New("nothing was changed")
		}
	}
	return a.changeAll(ctx, st, c, f, do)
}

// changeAll changes deliveries, and says how many.
func (a *app) changeAll(ctx context.Context, st *store.Store, c change, f store.Filter,
	do func() (int64, error)) error {
	done, err := do()
	if err != nil {
		return fmt.Errorf("%d were %s, then: %w", done, c.does, err)
	}
	if f.ID != "" && done == 0 && c.use != "retry" { // what is tried again may be due already
		return a.unchanged(ctx, st, c, f.ID)
	}
	count, err := st.Matching(ctx, f)
	if err != nil {
		return err
	}
	gone := count[store.Sent] + count[store.Unknown] + count[store.Claimed]
	return a.print(map[string]any{c.does: done, "now": count}, func() {
		a.line("%d %s.", done, c.does)
		if f.ID == "" {
			a.line("Of those that match, there are now: %s", countLine(count))
		}
		if c.use == "cancel" && gone > 0 && f.ID == "" {
			a.line("%d have been sent, may have been, or are under way; `illumicode outbox export` with the same "+
				"flags lists them.", gone)
		}
	})
}

// unchanged says why a delivery was not changed that could be a moment ago.
func (a *app) unchanged(ctx context.Context, st *store.Store, c change, id string) error {
	d, err := st.Delivery(ctx, id)
	if err != nil {
		return err
	}
	if recall, ok := strings.CutPrefix(d.HeldBy, "recall "); ok && d.State == store.Held {
		return fmt.Errorf("delivery %s was not %s, as recall %s holds it; `illumicode outbox recall release` lets "+
			"it go", id, c.does, recall)
	}
	return fmt.Errorf("delivery %s was not %s: it is %s by now", id, c.does, d.State)
}

// ask puts a question to the person at the terminal. Without one, --yes is needed.
func (a *app) ask(question string) (bool, error) {
	if a.json || !term.IsTerminal(int(os.Stdin.Fd())) {
		return false, misuse{errors.New(strings.TrimSuffix(question, " Go on?") + " Say --yes to do it")}
	}
	fmt.Fprintf(a.err, "%s [y/N] ", question)
	line, err := bufio.NewReader(os.Stdin).ReadString('\n')
	if err != nil {
		return false, fmt.Errorf("no answer: %w", err)
	}
	return slices.Contains([]string{"y", "yes"}, strings.ToLower(strings.TrimSpace(line))), nil
}

// pauseOf reads the two arguments of pause and resume.
func pauseOf(cmd *cobra.Command, args []string) (store.Pause, error) {
	if len(args) != 2 || !slices.Contains(store.PauseKinds, args[0]) {
		return store.Pause{},
			misuse{fmt.Errorf("%s wants what and which: one of %s, and its name", cmd.CommandPath(),
				joined(store.PauseKinds))}
	}
	p := store.Pause{Kind: args[0], Name: args[1]}
	if p.Kind == "lane" && !slices.Contains(store.Lanes, store.Lane(p.Name)) {
		return p, misuse{fmt.Errorf("there is no lane %q; the lanes are %s", p.Name, joined(store.Lanes))}
	}
	if p.Kind == "domain" {
		a, err := message.ParseAddress("anybody@" + p.Name)
		if err != nil {
			return p, misuse{fmt.Errorf("%q is no domain", p.Name)}
		}
		p.Name = a.Domain()
	}
	return p, nil
}

func (a *app) outboxPause() *cobra.Command {
	var note string
	cmd := &cobra.Command{
		Use:   "pause lane|letter|provider|domain NAME",
		Short: "Send nothing of this on any machine, until it is resumed",
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := pauseOf(cmd, args)
			if err != nil {
				return err
			}
			p.Since, p.Note = time.Now(), note
			return a.withStore(cmd.Context(), func(st *store.Store) error {
				if err := st.Pause(cmd.Context(), p); err != nil {
					return err
				}
				a.mindName(p)
				return a.print(map[string]string{"paused": p.HeldBy()}, func() {
					a.line("Paused %s %s. Workers see it within their poll, half a second by default; what they "+
						"have in hand is sent.", p.Kind, p.Name)
				})
			})
		},
	}
	cmd.Flags().StringVar(&note, "why", "", "the reason, for whoever looks next")
	return cmd
}

// mindName warns, beside the output, of a pause whose name this configuration lacks: it may be mistyped, or be another
// process's. What cannot be read keeps nobody from pausing.
func (a *app) mindName(p store.Pause) {
	f, err := a.load()
	if err != nil {
		return
	}
	var known []string
	switch p.Kind {
	case "letter":
		if set, err := f.LetterSet(); err == nil {
			known = set.Names()
		}
	case "provider":
		for _, way := range f.Provider {
			known = append(known, way.Name)
		}
	}
	if len(known) > 0 && !slices.Contains(known, p.Name) {
		fmt.Fprintf(a.err, "MIND THE NAME: this configuration has no %s %q. It has %s.\n", p.Kind, p.Name,
			joined(known))
	}
}

func (a *app) outboxResume() *cobra.Command {
	return &cobra.Command{
		Use:   "resume lane|letter|provider|domain NAME",
		Short: "End a pause; what it held goes on",
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := pauseOf(cmd, args)
			if err != nil {
				return err
			}
			return a.withStore(cmd.Context(), func(st *store.Store) error {
				n, err := st.Resume(cmd.Context(), p)
				if errors.Is(err, store.ErrNotFound) {
					return fmt.Errorf("%s %s is not paused", p.Kind, p.Name)
				}
				if err != nil {
					return err
				}
				return a.print(map[string]any{"resumed": p.HeldBy(), "released": n}, func() {
					a.line("Resumed %s %s; %d deliveries that it held go on.", p.Kind, p.Name, n)
				})
			})
		},
	}
}

func (a *app) outboxAdopt() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use: "adopt",
		Short: "Let this database send for the configured site, as after a move; of a copy, cancel first what must " +
			"not go out",
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			f, err := a.load()
			if err != nil {
				return err
			}
			return a.withStore(cmd.Context(), func(st *store.Store) error {
				sum, err := st.Summary(cmd.Context(), time.Now())
				if err != nil {
					return err
				}
				site := f.SiteURL()
				away, err := st.LooksAway(cmd.Context())
				if err != nil {
					return err
				}
				if sum.Site == site && !away {
					return a.print(map[string]string{"site": site},
						func() { a.line("The database sends for %s already.", site) })
				}
				if !yes {
					ok, err := a.ask(
						fmt.Sprintf("The database sends for %s and has %d deliveries on their way. They would be "+
							"sent for %s. Go on?",
							cmp.Or(sum.Site, "no site yet"), sum.Count[store.Waiting]+sum.Count[store.Claimed], site))
					if err != nil {
						return err
					}
					if !ok {
						return errors.New("nothing was changed")
					}
				}
				if err := st.Adopt(cmd.Context(), site); err != nil {
					return err
				}
				return a.print(map[string]string{"site": site},
					func() { a.line("The database sends for %s now.", site) })
			})
		},
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}
