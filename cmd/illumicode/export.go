package main

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode/internal/store"
)

func (a *app) outboxExport() *cobra.Command {
	var which filter
	var format string
	cmd := &cobra.Command{
		Use:   "export",
		Short: "Write all deliveries that the flags choose to standard output, as CSV or JSON lines",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			f, err := which.filter(time.Now())
			if err != nil {
				return err
			}
			if a.json && !cmd.Flags().Changed("format") {
				format = "jsonl"
			}
			if format != "csv" && format != "jsonl" {
				return misuse{fmt.Errorf("--format %s: say csv or jsonl", format)}
			}
			return a.withStore(cmd.Context(), func(st *store.Store) error {
				if format == "jsonl" {
					enc := json.NewEncoder(a.out)
					return st.Each(cmd.Context(), f, func(d store.Delivery) error { return enc.Encode(deliveryOf(d)) })
				}
				w := csv.NewWriter(a.out)
				w.Write([]string{"id", "state", "lane", "letter", "locale", "address", "attempts", "created", "due",
					"ended", "key", "why"})
				err := st.Each(cmd.Context(), f, func(d store.Delivery) error {
					return w.Write([]string{d.ID, string(d.State), string(d.Lane), d.Letter, d.Locale, d.Address,
						strconv.Itoa(d.Attempts),
						stamp(d.Created), stamp(d.Due), stamp(d.Ended), d.Key, d.Note})
				})
				w.Flush()
				if err == nil {
					err = w.Error()
				}
				return err
			})
		},
	}
	which.flags(cmd)
	cmd.Flags().StringVar(&format, "format", "csv", "csv or jsonl, which --json stands for, too")
	return cmd
}

// stamp is how programs read an instant; empty for none.
func stamp(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Format(time.RFC3339Nano)
}

func (a *app) outboxEvents() *cobra.Command {
	var again, forget int64
	cmd := &cobra.Command{
		Use:   "events",
		Short: "List the inserted events that no rule could take, with the reason; let one wait again, or forget it",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.withStore(cmd.Context(), func(st *store.Store) error {
				switch {
				case again > 0:
					if err := st.Readmit(cmd.Context(), again); err != nil {
						return fmt.Errorf("event %d: %w", again, err)
					}
					return a.print(map[string]int64{"again": again}, func() { a.line("Event %d waits again.", again) })
				case forget > 0:
					if err := st.Forget(cmd.Context(), forget); err != nil {
						return fmt.Errorf("event %d: %w", forget, err)
					}
					return a.print(map[string]int64{"forgotten": forget},
						func() { a.line("Event %d is forgotten.", forget) })
				}
				all, err := st.Aside(cmd.Context(), 1000)
				if err != nil {
					return err
				}
				waiting, err := st.EventsWaiting(cmd.Context())
				if err != nil {
					return err
				}
				f, err := a.load()
				if err != nil {
					return err
				}
				return a.print(map[string]any{"aside": all, "waiting": waiting, "rules": len(f.Event)}, func() {
					if waiting > 0 && len(f.Event) == 0 {
						a.line("%d INSERTED EVENTS WAIT, and this configuration has no rule on events: give it an "+
							"[[event]].",
							waiting)
					} else if waiting > 0 {
						a.line("%d inserted events wait to be taken.", waiting)
					}
					for _, e := range all {
						a.line("%d  %s  %s of %s, type %s\n    %s\n    %s", e.Seq, clock(e.At), e.ID, e.Source, e.Type,
							e.Reason, short(e.Data, 90))
					}
					if len(all) == 0 {
						a.line("No event was set aside.")
					}
				})
			})
		},
	}
	cmd.Flags().Int64Var(&again, "again", 0, "let the event with this number wait again, as after a rule was added")
	cmd.Flags().Int64Var(&forget, "forget", 0, "remove the event with this number")
	return cmd
}
