// Package bounce does what follows from letters that come back, and keeps letters from addresses that are suppressed.
// [Consequences] is the type to read first.
package bounce

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/illumicode/illumicode/internal/core/report"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/message"
)

// Consequences are what follows for the addresses of one service.
type Consequences struct{ p *flow.Parts }

// For returns the consequences for a service.
func For(p *flow.Parts) Consequences { return Consequences{p} }

// What has overtaken its attempt is looked at again after a tenth of its age, and given up in the end.
const (
	feedbackWait  = 24 * time.Hour
	feedbackBatch = 500
)

// Apply does what follows from what came back.
func (c Consequences) Apply(ctx context.Context) (n int, err error) {
	now := c.p.Now()
	due, err := c.p.Store.DueFeedback(ctx, now, feedbackBatch)
	if err != nil || len(due) == 0 {
		return 0, err
	}
	later := make(map[string]time.Time)
	var simple []store.Feedback
	for _, f := range due {
		age := now.Sub(f.Taken)
		f.State = store.FeedbackApplied
		switch {
		case f.Letters > 1:
			f.State, f.Delivery = store.FeedbackAside, ""
			f.Note = fmt.Sprintf("its provider has given the same id to %d letters, so that nobody knows which is "+
				"meant", f.Letters)
			c.p.Log.Warn("a provider gives one id to several letters; what it says of them is set aside", "provider",
				f.Source, "letters", f.Letters)
			simple = append(simple, f)
		case f.Sent.IsZero() && age < feedbackWait:
			later[f.ID] = now.Add(max(time.Second, age/10))
		case f.Sent.IsZero():
			f.State, f.Note = store.FeedbackAside, "nobody knows a letter with this id, or none was sent"
			simple = append(simple, f)
		case f.Kind == report.SoftBounce || f.Kind == report.HardBounce || f.Kind == report.Complaint:
			err = errors.Join(err, c.applyOne(ctx, f))
			n++
		default:
			simple = append(simple, f)
		}
	}
	if len(later) > 0 {
		err = errors.Join(err, c.p.Store.PostponeFeedback(ctx, later))
	}
	if len(simple) > 0 {
		err = errors.Join(err, c.record(ctx, simple...))
	}
	return n + len(simple), err
}

// record says what became of feedbacks, and tells of those that were applied; what another worker has
// recorded it has told.
func (c Consequences) record(ctx context.Context, all ...store.Feedback) error {
	var mine []string
	err := c.p.Store.Write(ctx, func(t store.Tx) (err error) {
		if mine, err = t.SettleFeedback(ctx, all...); err != nil {
			return err
		}
		ids := make([]string, len(all))
		for i, f := range all {
			ids[i] = f.Delivery
		}
		return t.SettleUnknown(ctx, ids...)
	})
	if err != nil {
		return err
	}
	for _, f := range all {
		if f.State == store.FeedbackApplied && slices.Contains(mine, f.ID) {
			c.tell(f)
		}
	}
	return nil
}

// tell tells the log and the observer.
func (c Consequences) tell(f store.Feedback) {
	c.p.Log.Info("feedback", "delivery", f.Delivery, "source", f.Source, "kind", f.Kind, "status", f.Status)
	c.p.CameBack(f.Source, string(f.Kind))
}

// applyOne does what follows from a bounce or a complaint, once.
func (c Consequences) applyOne(ctx context.Context, f store.Feedback) error {
	d, err := c.p.Store.Delivery(ctx, f.Delivery)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	to, parseErr := message.ParseRecipient(d.Address)
	if err != nil || parseErr != nil {
		f.State, f.Note = store.FeedbackAside, "its delivery is not kept any more"
		return c.record(ctx, f)
	}
	f.Mailbox = to.Mailbox()
	did := false
	err = c.p.Store.Write(ctx, func(t store.Tx) error {
		act, err := c.consequence(ctx, t, d, &f)
		if err != nil {
			return err
		}
		if mine, err := t.SettleFeedback(ctx, f); err != nil || len(mine) == 0 { // another worker has done it
			return err
		}
		if err := t.SettleUnknown(ctx, f.Delivery); err != nil {
			return err
		}
		step := store.Step{Challenge: d.Challenge, Mailbox: f.Mailbox, At: c.p.Now(), What: "feedback",
			Outcome: string(f.Kind) + ": " + f.Note}
		if err := t.Record(ctx, step); err != nil {
			return err
		}
		did = true
		return act()
	})
	if err == nil && did {
		c.tell(f)
	}
	return err
}

// lateBounce is how long after its hand-over a letter may come back: servers give up after five days (RFC 5321
// §4.5.4.1), and their report may take a while too. What comes later was not written by one.
const lateBounce = 8 * 24 * time.Hour

// void returns why a bounce says nothing of its address; "" if it does. Reports are not signed: whoever has read a
// letter can write one. proven is when the address was.
func (c Consequences) void(ctx context.Context, t store.Tx, d store.Delivery, f *store.Feedback,
	proven time.Time) (why string, err error) {
	if f.Taken.Sub(f.Sent) > lateBounce {
		return "nothing, as it came more than eight days after this letter was sent", nil
	}
	if proven.After(f.Sent) {
		return "nothing, as the address was proven after this letter was sent", nil
	}
	if d.Challenge == "" {
		return "", nil
	}
	ch, err := t.ChallengeOf(ctx, d.Challenge)
	if errors.Is(err, store.ErrNotFound) {
		return "", nil
	}
	if err == nil && !ch.Proved.IsZero() {
		why = "nothing, as the proof of this letter came back"
	}
	return why, err
}

// consequence decides what follows, and returns it to be done; f.Note says it.
func (c Consequences) consequence(ctx context.Context, t store.Tx, d store.Delivery,
	f *store.Feedback) (act func() error, err error) {
	said := strings.TrimSpace(f.Status + " " + f.Words)
	suppress := func(scope store.Scope, reason string) error {
		return c.p.Suppress(ctx, t, store.Suppression{Mailbox: f.Mailbox, Scope: scope, Reason: reason}, "")
	}
	if f.Kind == report.Complaint {
		f.Note = "its reader has complained: no more notices"
		return func() error { return suppress(store.NoticesOnly, "a complaint, told by "+f.Source) }, nil
	}
	nothing := func() error { return nil }
	proven, err := t.Proven(ctx, f.Mailbox)
	if err != nil {
		return nil, err
	}
	if f.Note, err = c.void(ctx, t, d, f, proven); err != nil || f.Note != "" {
		return nothing, err
	}
	reason := fmt.Sprintf("a letter came back, told by %s: %s", f.Source, said)
	if f.Kind == report.SoftBounce {
		since := c.p.Now().Add(-c.p.Bounces.Within)
		if proven.After(since) {
			since = proven
		}
		others, err := t.SoftBounces(ctx, f.Mailbox, since, f.Delivery)
		if err != nil {
			return nil, err
		}
		if int(others)+1 < c.p.Bounces.Soft {
			f.Note = fmt.Sprintf("nothing yet: letter %d of %d that come back softly", others+1, c.p.Bounces.Soft)
			return nothing, nil
		}
		reason = fmt.Sprintf("%d letters came back, the last told by %s: %s", others+1, f.Source, said)
	}
	f.Note = "the address has bounced"
	return func() error {
		now := c.p.Now()
		if err := t.SetBounced(ctx, f.Mailbox, reason, now.Add(c.p.Grace), now); err != nil {
			return err
		}
		return suppress(store.BouncedOnce, reason)
	}, nil
}
