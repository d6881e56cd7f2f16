package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/feedback"
	"github.com/illumicode/illumicode/internal/core/report"
	"github.com/illumicode/illumicode/internal/store"
)

func (a *app) feedback() *cobra.Command {
	return group("feedback", "What comes back about letters: bounces and complaints", a.feedbackRead(),
		a.feedbackList())
}

func (a *app) feedbackRead() *cobra.Command {
	var to []string
	cmd := &cobra.Command{
		Use:   "read [FILE…]",
		Short: "Take a report from each file, or from standard input, as a mail server pipes it",
		RunE: func(cmd *cobra.Command, args []string) error {
			f, err := a.load()
			if err != nil {
				return err
			}
			if f.Feedback.ReturnPath == "" {
				return errors.New(
					"the configuration has no feedback.return_path; without it nothing that comes back can be told")
			}
			return a.onService(cmd.Context(), func(svc *illumicode.Service) error {
				post := feedback.New(svc, f.Feedback.Complaints, slog.New(slog.DiscardHandler))
				if len(args) == 0 {
					args = []string{"-"}
				}
				var all []readJSON
				failed := 0
				for _, name := range args {
					one := a.readReport(cmd.Context(), post, to, name)
					if one.Why != "" {
						failed++
					}
					all = append(all, one)
				}
				err := a.print(all, func() {
					for _, one := range all {
						if one.Why != "" {
							a.line("%s: NOT TAKEN: %s", one.File, one.Why)
							continue
						}
						a.line("%s: %s", one.File,
							strings.TrimSpace(fmt.Sprintf("%s %s %s", one.Kind, one.Status, one.Words)))
					}
				})
				if err == nil && failed > 0 {
					err = fmt.Errorf("%d of %d were not taken", failed, len(args))
				}
				return err
			})
		},
	}
	cmd.Flags().StringArrayVar(&to, "to", nil, "the address it was sent to, where its header does not say it")
	return cmd
}

type readJSON struct {
	File   string      `json:"file"`
	Kind   report.Kind `json:"kind,omitempty"`
	Status string      `json:"status,omitempty"`
	Words  string      `json:"words,omitempty"`
	Why    string      `json:"not_taken,omitempty"`
}

// readReport takes the report in a file; "-" is standard input.
func (a *app) readReport(ctx context.Context, post *feedback.Post, to []string, name string) readJSON {
	one := readJSON{File: name}
	var in io.Reader = os.Stdin
	if name != "-" {
		file, err := os.Open(name)
		if err != nil {
			one.Why = err.Error()
			return one
		}
		defer file.Close()
		in = file
	}
	rep, err := post.Take(ctx, to, in)
	if err != nil {
		one.Why = err.Error()
		return one
	}
	one.Kind, one.Status, one.Words = rep.Kind, rep.Status, rep.Text
	return one
}

func (a *app) feedbackList() *cobra.Command {
	var state string
	var most int
	cmd := &cobra.Command{
		Use:   "list",
		Short: "Count what came back, and show what waits for its letter, was applied, or was set aside",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			states := []store.FeedbackState{store.FeedbackWaiting, store.FeedbackAside}
			switch s := store.FeedbackState(state); s {
			case "":
			case store.FeedbackWaiting, store.FeedbackApplied, store.FeedbackAside:
				states = []store.FeedbackState{s}
			default:
				return misuse{fmt.Errorf("--state %q is none; say waiting, applied or aside", state)}
			}
			return a.withStore(cmd.Context(), func(st *store.Store) error {
				counts, err := st.CountFeedback(cmd.Context())
				if err != nil {
					return err
				}
				list := []store.Feedback{}
				for _, s := range states {
					found, err := st.FeedbackIn(cmd.Context(), s, most)
					if err != nil {
						return err
					}
					list = append(list, found...)
				}
				return a.print(map[string]any{"counts": countsJSON(counts), "feedback": feedbackJSON(list)},
					func() { a.feedbackText(counts, list) })
			})
		},
	}
	cmd.Flags().StringVar(&state, "state", "", "waiting, applied or aside (default: waiting and aside)")
	cmd.Flags().IntVar(&most, "most", 30, "how many at the most, of each state")
	return cmd
}

func (a *app) feedbackText(counts []store.FeedbackCount, list []store.Feedback) {
	if len(counts) == 0 {
		a.line("Nothing has come back.")
		return
	}
	w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "KIND\tAPPLIED\tWAITING\tASIDE")
	for _, kind := range report.Kinds {
		n := make(map[store.FeedbackState]int)
		for _, c := range counts {
			if c.Kind == kind {
				n[c.State] += c.Count
			}
		}
		if len(n) > 0 {
			fmt.Fprintf(w, "%s\t%d\t%d\t%d\n", kind, n[store.FeedbackApplied], n[store.FeedbackWaiting],
				n[store.FeedbackAside])
		}
	}
	w.Flush()
	if len(list) == 0 {
		return
	}
	a.line("")
	fmt.Fprintln(w, "LETTER\tSTATE\tKIND\tSTATUS\tFROM\tTAKEN\tWHAT IT SAYS\tWHAT FOLLOWED")
	for _, f := range list {
		letter := "…" + tail(f.Delivery)
		if f.Delivery == "" {
			letter = f.Remote
		}
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\t%s\t%s\t%s\n", letter, f.State, f.Kind, f.Status, f.Source, clock(f.Taken),
			short(f.Words, 36), short(f.Note, 48))
	}
	w.Flush()
}

// outcome says what became of a letter after it was sent; empty if nobody has told.
func outcome(all []store.Feedback) report.Kind {
	kinds := make([]report.Kind, len(all))
	for i, f := range all {
		kinds[i] = f.Kind
	}
	return report.Outcome(kinds...)
}

// cameBack is a feedback as one line of a story.
func cameBack(f store.Feedback) string {
	line := fmt.Sprintf("%s  %s, told by %s: %s", clock(f.Happened), f.Kind, f.Source,
		strings.TrimSpace(f.Status+" "+f.Words))
	if f.Note != "" {
		line += " (" + f.Note + ")"
	}
	return strings.TrimSuffix(line, ": ")
}

type feedbackLine struct {
	Delivery string              `json:"delivery,omitempty"`
	Letter   string              `json:"letter,omitempty"` // the provider's own id
	Source   string              `json:"source"`
	Kind     report.Kind         `json:"kind"`
	Status   string              `json:"status,omitempty"`
	Words    string              `json:"words,omitempty"`
	At       time.Time           `json:"at"`
	State    store.FeedbackState `json:"state"`
	Note     string              `json:"note,omitempty"`
}

func feedbackJSON(all []store.Feedback) []feedbackLine {
	lines := make([]feedbackLine, len(all))
	for i, f := range all {
		lines[i] = feedbackLine{f.Delivery, f.Remote, f.Source, f.Kind, f.Status, f.Words, f.Happened, f.State, f.Note}
	}
	return lines
}

func countsJSON(all []store.FeedbackCount) []map[string]any {
	out := make([]map[string]any, len(all))
	for i, c := range all {
		out[i] = map[string]any{"kind": c.Kind, "state": c.State, "count": c.Count}
	}
	return out
}

// returned is what came back about a letter of a story, as the verbs of the outbox have it.
func returned(l desk.Letter) []store.Feedback {
	all := make([]store.Feedback, len(l.Returned))
	for i, r := range l.Returned {
		all[i] = store.Feedback{
			Delivery: l.ID, Source: r.Source, Kind: r.Kind, Status: r.Status, Words: r.Words, Happened: r.At,
			State: store.FeedbackState(r.State), Note: r.Note,
		}
	}
	return all
}
