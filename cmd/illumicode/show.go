package main

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
)

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
			d, err := find(cmd.Context(), flow.Of(svc).Store, strings.TrimPrefix(args[0], "…"))
			if err != nil {
				return err
			}
			attempts, err := flow.Of(svc).Store.Attempts(cmd.Context(), d.ID)
			if err != nil {
				return err
			}
			v := deliveryOf(d)
			v.Tried = []attemptJSON{}
			for _, at := range attempts {
				v.Tried = append(v.Tried, attemptOf(at))
			}
			feedback, err := flow.Of(svc).Store.FeedbackOn(cmd.Context(), d.ID)
			if err != nil {
				return err
			}
			v.Outcome, v.Feedback = outcome(feedback), feedbackJSON(feedback)
			pauses, err := flow.Of(svc).Store.Pauses(cmd.Context())
			if err != nil {
				return err
			}
			look, lookErr := desk.New(svc).Preview(cmd.Context(), d.ID)
			v.Looks = look.Text
			return a.print(v, func() {
				a.showText(d, pauses, attempts, feedback)
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

func (a *app) showText(d store.Delivery, pauses []store.Pause, attempts []store.Attempt, feedback []store.Feedback) {
	w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
	row := func(name, format string, args ...any) {
		fmt.Fprintf(w, "%s\t%s\n", name, fmt.Sprintf(format, args...))
	}
	row("delivery", "%s", d.ID)
	row("state", "%s", d.State)
	row("letter", "%s, locale %s, lane %s", d.Letter, d.Locale, d.Lane)
	row("to", "%s", strings.TrimSpace(d.Name+" <"+goesTo(d)+">"))
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
	row("next", "%s", next(d, pauses))
	if o := outcome(feedback); o != "" {
		row("outcome", "%s", o)
	}
	w.Flush()
	for _, at := range attempts {
		a.line("")
		if at.Ended.IsZero() {
			a.line("attempt %d through %s, begun %s: under way", at.Number, through(at.Provider), clock(at.Begun))
			continue
		}
		a.line("attempt %d through %s, %s, %d ms: %s", at.Number, through(at.Provider), clock(at.Begun),
			at.Ended.Sub(at.Begun).Milliseconds(), at.Class)
		for line := range strings.SplitSeq(at.Reply, "\n") {
			a.line("    %s", line)
		}
		if at.Route != "" {
			a.wrapped(4, "chosen so: "+at.Route)
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
func next(d store.Delivery, pauses []store.Pause) string {
	switch d.State {
	case store.Waiting:
		if slices.ContainsFunc(pauses, func(p store.Pause) bool {
			return p.Kind == "lane" &&
				p.Name == string(d.Lane)
		}) {
			return "nothing, until `illumicode outbox resume lane " + string(d.Lane) + "`"
		}
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
	case store.Unknown:
		return "nothing: it may have been sent, and a report settles that; `illumicode outbox retry " + tail(d.ID) +
			" --perhaps-sent` tries again"
	case store.Claimed:
		return "the worker that holds it since " + clock(d.Claimed) + " records what the provider says"
	}
	return "nothing: it ended at " + clock(d.Ended)
}

// through returns the provider of an attempt, for people: the letter of a decoy has none.
func through(provider string) string { return cmp.Or(provider, "nobody") }
