package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/internal/store"
)

func (a *app) outboxRecall() *cobra.Command {
	var which filter
	var why string
	cmd := &cobra.Command{
		Use:   "recall --why WHY",
		Short: "Call back the letters that the flags choose: no more of them are begun, and later ones are held",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			now := time.Now()
			f, err := which.filter(now)
			if err != nil {
				return err
			}
			if why == "" {
				return misuse{errors.New("outbox recall wants --why: those who find it tomorrow will ask")}
			}
			return a.withStore(cmd.Context(), func(st *store.Store) error {
				r, err := st.TakeBack(cmd.Context(), f, why, now)
				if err != nil {
					return err
				}
				if err := a.tellRecall(cmd.Context(), st, r); err != nil {
					return fmt.Errorf("recall %s holds; who has the letters cannot be told yet: %w", r.ID, err)
				}
				if _, err := st.HoldRecalled(cmd.Context(), now, 0); err != nil {
					return fmt.Errorf("recall %s holds; workers mark the rest of it as held: %w", r.ID, err)
				}
				return nil
			})
		},
	}
	which.flags(cmd)
	cmd.Flags().StringVar(&why, "why", "", "the reason, which is kept")
	cmd.AddCommand(a.recallShow(), a.recallRelease(), a.recallEnd(), a.recallCorrect())
	return cmd
}

type recallJSON struct {
	ID        string    `json:"id"`
	Choice    string    `json:"choice"`
	Why       string    `json:"why"`
	Made      time.Time `json:"made"`
	HaveIt    int       `json:"have_it"`
	MayHaveIt int       `json:"may_have_it"`
	WillNot   int       `json:"will_not"`
	Lists     int       `json:"lists"`
}

func recallOf(ctx context.Context, st *store.Store, r store.Recall) (recallJSON, error) {
	count, lists, err := st.Arrivals(ctx, r)
	return recallJSON{r.ID, choiceLine(r.Choice), r.Why, r.Made, count[store.Arrived],
		count[store.ArrivedPerhaps], count[store.NotArrived], lists}, err
}

// choiceLine says what a recall chooses.
func choiceLine(f store.Filter) string {
	var parts []string
	for _, one := range [][2]string{{"delivery", f.ID}, {"letter", f.Letter}, {"lane", string(f.Lane)},
		{"to", f.Address}, {"key", f.Key}, {"subject", f.Subject}} {
		if one[1] != "" {
			parts = append(parts, one[0]+" "+one[1])
		}
	}
	if !f.CreatedAfter.IsZero() {
		parts = append(parts, "asked for since "+clock(f.CreatedAfter))
	}
	if !f.CreatedBefore.IsZero() {
		parts = append(parts, "asked for before "+clock(f.CreatedBefore))
	}
	return strings.Join(parts, ", ")
}

// tellRecall says who has what a recall chooses that holds, and how to go on.
func (a *app) tellRecall(ctx context.Context, st *store.Store, r store.Recall) error {
	v, err := recallOf(ctx, st, r)
	if err != nil {
		return err
	}
	return a.print(v, func() {
		a.line("Recall %s holds: %s%s", v.ID, v.Choice, because(v.Why))
		a.line("%7d have it", v.HaveIt)
		a.line("%7d may have it: an attempt is under way, or ended without an answer", v.MayHaveIt)
		a.line("%7d will not, unless it is released", v.WillNot)
		if v.Lists > 0 {
			a.line("%7d lists are not expanded yet; those in them will not either", v.Lists)
		}
		if v.HaveIt+v.MayHaveIt+v.WillNot+v.Lists == 0 {
			a.line("It matches nothing so far.")
		}
		if r.Choice.CreatedBefore.IsZero() && r.Choice.ID == "" {
			a.line("What is asked for later is held too.")
		}
		a.line("\nWho they are         illumicode outbox recall show %s", v.ID)
		if v.HaveIt+v.MayHaveIt > 0 {
			a.line("Tell those who have  illumicode outbox recall correct %s --letter NAME", v.ID)
		}
		a.line("Let some go          illumicode outbox recall release %s with flags that choose", v.ID)
		a.line("End it               illumicode outbox recall end %s --send, or --cancel", v.ID)
	})
}

// withRecall finds a recall by its id.
func (a *app) withRecall(ctx context.Context, id string, fn func(*store.Store, store.Recall) error) error {
	return a.withStore(ctx, func(st *store.Store) error {
		r, err := st.RecallOf(ctx, id)
		if errors.Is(err, store.ErrNotFound) {
			return fmt.Errorf("there is no recall %s; `illumicode outbox recall show` lists those that hold", id)
		}
		if err != nil {
			return err
		}
		return fn(st, r)
	})
}

func (a *app) recallShow() *cobra.Command {
	return &cobra.Command{
		Use:   "show [ID]",
		Short: "List the recalls that hold, or who has the letters of one, may have them, and will not",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return a.withStore(cmd.Context(), func(st *store.Store) error {
					return a.listRecalls(cmd.Context(), st)
				})
			}
			return a.withRecall(cmd.Context(), args[0], func(st *store.Store, r store.Recall) error {
				return a.showRecall(cmd.Context(), st, r)
			})
		},
	}
}

func (a *app) listRecalls(ctx context.Context, st *store.Store) error {
	holding, err := st.Recalls(ctx)
	if err != nil {
		return err
	}
	all := make([]recallJSON, len(holding))
	for i, r := range holding {
		if all[i], err = recallOf(ctx, st, r); err != nil {
			return err
		}
	}
	return a.print(all, func() {
		if len(all) == 0 {
			a.line("No recall holds.")
			return
		}
		w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
		fmt.Fprintln(w, "ID\tSINCE\tWHAT\tHAVE IT\tMAY HAVE IT\tWILL NOT\tWHY")
		for _, v := range all {
			fmt.Fprintf(w, "%s\t%s\t%s\t%d\t%d\t%d\t%s\n", v.ID, clock(v.Made), v.Choice, v.HaveIt, v.MayHaveIt,
				v.WillNot, short(v.Why, 40))
		}
		w.Flush()
	})
}

// showRecall writes everybody whom a recall concerns, as they are read: there may be a million.
func (a *app) showRecall(ctx context.Context, st *store.Store, r store.Recall) error {
	return st.EachRecalled(ctx, r, func(one store.Recalled) error {
		if a.json {
			return a.print(map[string]string{"delivery": one.ID, "to": goesTo(one.Delivery),
				"arrival": string(one.Arrival), "state": string(one.State)}, nil)
		}
		a.line("%-11s  %s  %s", one.Arrival, one.ID, goesTo(one.Delivery))
		return nil
	})
}

func (a *app) recallRelease() *cobra.Command {
	var which filter
	cmd := &cobra.Command{
		Use:   "release ID",
		Short: "Let some of what a recall holds go; the recall goes on for the others",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			f, err := which.filter(time.Now())
			if err != nil {
				return err
			}
			if f.None() {
				return misuse{errors.New("outbox recall release wants flags that choose some; " +
					"`outbox recall end ID --send` lets all go")}
			}
			return a.withRecall(cmd.Context(), args[0], func(st *store.Store, r store.Recall) error {
				n, err := st.ReleaseRecalled(cmd.Context(), r, f)
				if err != nil {
					return fmt.Errorf("%d were released, then: %w", n, err)
				}
				return a.print(map[string]int64{"released": n}, func() { a.line("%d released.", n) })
			})
		},
	}
	which.flags(cmd)
	return cmd
}

func (a *app) recallEnd() *cobra.Command {
	var send, cancel bool
	cmd := &cobra.Command{
		Use:   "end ID",
		Short: "End a recall: let go what it holds, or cancel it",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if send == cancel {
				return misuse{errors.New("outbox recall end wants --send or --cancel: what is to become of what it " +
					"holds")}
			}
			return a.withRecall(cmd.Context(), args[0], func(st *store.Store, r store.Recall) error {
				end, does := st.EndReleasing, "released"
				if cancel {
					end, does = st.EndCancelling, "cancelled"
				}
				n, err := end(cmd.Context(), r, time.Now())
				if err != nil {
					return fmt.Errorf("%d were %s, then: %w; the same command goes on", n, does, err)
				}
				return a.print(map[string]int64{does: n}, func() { a.line("The recall has ended; %d %s.", n, does) })
			})
		},
	}
	cmd.Flags().BoolVar(&send, "send", false, "let go what it holds")
	cmd.Flags().BoolVar(&cancel, "cancel", false, "cancel what it holds, and the lists that are not expanded")
	return cmd
}

func (a *app) recallCorrect() *cobra.Command {
	var n illumicode.Notice
	var data []string
	var perhaps bool
	cmd := &cobra.Command{
		Use:   "correct ID --letter NAME",
		Short: "Send a letter to everybody who has what was recalled, once each",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			values, err := pairs(data)
			if err != nil {
				return err
			}
			if n.Letter == "" {
				return misuse{errors.New("outbox recall correct wants --letter, the letter that tells of the mistake")}
			}
			n.Data = values
			f, err := a.load()
			if err != nil {
				return err
			}
			return a.withService(cmd.Context(), f, func(svc *illumicode.Service, _ *slog.Logger) error {
				count, err := desk.New(svc).Correct(cmd.Context(), args[0], n, perhaps)
				if err != nil {
					return err
				}
				return a.print(map[string]int{"asked_for": count}, func() {
					if count == 0 {
						a.line("Nobody has it, or they were told before.")
						return
					}
					a.line("%d corrections are in the outbox.", count)
				})
			})
		},
	}
	cmd.Flags().StringVar(&n.Letter, "letter", "", "the letter's name")
	cmd.Flags().StringArrayVar(&data, "data", nil, "a value of the letter, as name=value; may be given several times")
	cmd.Flags().BoolVar(&perhaps, "perhaps", false, "also to those who may have it")
	return cmd
}
