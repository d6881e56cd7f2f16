package outbox

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"runtime/debug"
	"time"

	"github.com/illumicode/illumicode/core/retry"
	"github.com/illumicode/illumicode/core/route"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/store"
)

// deliver takes one claimed delivery through one attempt, or ends it without one. A panic of a
// template or a provider costs this delivery, not the worker.
func (w *worker) deliver(ctx context.Context, d store.Delivery) {
	defer func() {
		if p := recover(); p != nil {
			w.logPanic(d, p)
			w.drop(d, store.Failed, "a panic while it was composed; the log has the stack")
		}
	}()
	if !d.DeliverBefore.IsZero() && !w.now().Before(d.DeliverBefore) {
		w.drop(d, store.Expired, "its time to be delivered was over")
		return
	}
	if d.Fixed.IsZero() {
		d.Fixed = w.now()
	}
	letter, err := w.composer.Compose(ctx, d)
	var drop *Drop
	switch {
	case errors.As(err, &drop):
		w.drop(d, drop.State, drop.Note)
		return
	case errors.Is(err, ErrLater):
		w.giveBack(d, w.now().Add(w.cfg.Poll), err.Error())
		return
	case err != nil:
		w.log.Error("a letter cannot be composed", "delivery", d.ID, "letter", d.Letter, "error", err)
		w.drop(d, store.Failed, err.Error())
		return
	}
	d.Signature = letter.Signature
	p, err := w.choose(ctx, d, letter)
	if errors.Is(err, errNoWay) {
		w.drop(d, store.Failed, err.Error())
		return
	}
	if err != nil {
		w.giveBack(d, w.now().Add(w.cfg.Poll), "")
		return
	}
	w.attempt(ctx, d, p, letter)
}

var errNoWay = errors.New("no provider carries this: there is none for SMS, or none for mail, or none that may send from this address")

// choose returns the provider for the next attempt of d, among those that can carry the letter.
func (w *worker) choose(ctx context.Context, d store.Delivery, l Letter) (provider.Provider, error) {
	able := make(map[string]provider.Provider)
	var names []string
	for _, p := range w.providers {
		can := p.Can()
		if l.SMS != "" && can.SMS || l.SMS == "" && can.Mail && can.MaySend(l.Envelope.From) {
			able[p.Name()] = p
			names = append(names, p.Name())
		}
	}
	if len(names) == 0 {
		return nil, errNoWay
	}
	var tried []route.Tried
	if d.Attempts > 0 && len(names) > 1 {
		attempts, err := w.store.Attempts(ctx, d.ID)
		if err != nil {
			return nil, err
		}
		for _, a := range attempts {
			tried = append(tried, route.Tried{Provider: a.Provider, Ambiguous: a.Class == retry.Ambiguous})
		}
	}
	return able[route.Choose(names, tried)], nil
}

// attempt sends the letter and records the result.
func (w *worker) attempt(ctx context.Context, d store.Delivery, p provider.Provider, letter Letter) {
	a := store.Attempt{Delivery: d.ID, Number: d.Attempts + 1, Claim: d.Claim, Worker: w.row.ID, Provider: p.Name(), Begun: w.now()}
	began := false
	var beginErr error
	begin := func(ctx context.Context) error {
		beginErr = w.ledger.write(ctx, func(ctx context.Context, t store.Tx) error { return t.BeginAttempt(ctx, d, a) })
		began = beginErr == nil
		return beginErr
	}
	h := provider.Handover{
		ID: d.ID, Envelope: letter.Envelope, Message: letter.Message, Letter: letter.Contents, SMS: letter.SMS, Begin: begin,
	}
	r, panicked := w.send(ctx, d, p, h)
	switch {
	case errors.Is(beginErr, store.ErrFenced):
		w.log.Warn("the claim was lost before sending", "delivery", d.ID)
		return
	case beginErr != nil && !r.Class.HandedOver(): // the database's fault, not the letter's
		w.log.Error("an attempt cannot be recorded, so nothing is sent", "delivery", d.ID, "error", beginErr)
		w.giveBack(d, w.now().Add(w.cfg.Poll), "")
		return
	}
	a.Ended, a.Class, a.Code, a.Enhanced, a.Reply, a.Remote = w.now(), r.Class, r.Code, r.Enhanced, r.Reply, r.ID
	if !panicked && (!r.Class.Known() || r.Class.HandedOver() && !began) {
		// A provider that breaks its contract: whatever it did, the letter may be out.
		a.Class, a.Reply = retry.Ambiguous, fmt.Sprintf("the provider answered %q, against its contract: %s", r.Class, r.Reply)
	}
	end := w.judge(d, a, r.After)
	if panicked { // it would again; and each time the letter may have left
		end.State, end.Due = store.Failed, time.Time{}
	}
	w.persist(d, func(ctx context.Context) error {
		return w.ledger.write(ctx, func(ctx context.Context, t store.Tx) error {
			if !began {
				if err := t.BeginAttempt(ctx, d, a); err != nil {
					return err
				}
			}
			return t.EndAttempt(ctx, end)
		})
	})
	w.log.Info("attempt", "delivery", d.ID, "letter", d.Letter, "lane", d.Lane, "number", a.Number, "provider", a.Provider,
		"class", a.Class, "code", a.Code, "enhanced", a.Enhanced, "ms", a.Ended.Sub(a.Begun).Milliseconds(), "state", end.State)
}

// send calls the provider. A panic in it is an end like any other, of which nobody knows whether
// the letter has left.
func (w *worker) send(ctx context.Context, d store.Delivery, p provider.Provider, h provider.Handover) (r provider.Result, panicked bool) {
	ctx, cancel := context.WithTimeout(ctx, w.cfg.Attempt)
	defer cancel()
	defer func() {
		if p := recover(); p != nil {
			w.logPanic(d, p)
			r, panicked = provider.Result{Class: retry.Ambiguous, Reply: "a panic in the provider; the log has the stack"}, true
		}
	}()
	return p.Send(ctx, h), false
}

// logPanic logs the stack and the kind of a panic, whose value may hold what no log may.
func (w *worker) logPanic(d store.Delivery, p any) {
	w.log.Error("panic in a delivery", "delivery", d.ID, "letter", d.Letter, "panic", fmt.Sprintf("%T", p), "stack", string(debug.Stack()))
}

// judge turns an attempt's result into what becomes of the delivery.
func (w *worker) judge(d store.Delivery, a store.Attempt, after time.Duration) store.End {
	v := retry.Judge(w.cfg.Retry, retry.Delivery{Attempts: d.Spent + 1, DeliverBefore: d.DeliverBefore, After: after}, a.Class, a.Ended, rand.Float64())
	end := store.End{
		Attempt: a, Claim: d.Claim, Spent: v.Spent, Due: v.At, Note: a.Reply,
		Bundle: d.Bundle, Challenge: d.Challenge, Generation: d.Generation, HandedOver: a.Class.HandedOver(),
	}
	switch v.Action {
	case retry.Done:
		end.State, end.Note = store.Sent, ""
	case retry.Again:
		end.State = store.Waiting
	case retry.TooLate:
		end.State, end.Note = store.Expired, "no time for another attempt; the last one: "+a.Reply
	default:
		end.State = store.Failed
	}
	return end
}

// drop ends d without an attempt.
func (w *worker) drop(d store.Delivery, state store.State, note string) {
	w.persist(d, func(ctx context.Context) error { return w.store.Drop(ctx, d, state, note, w.now()) })
}

// giveBack lets d wait again, unattempted.
func (w *worker) giveBack(d store.Delivery, until time.Time, note string) {
	w.persist(d, func(ctx context.Context) error { return w.store.Unclaim(ctx, d, until, note) })
}

// persist repeats a write until the database takes it: the process holds a result that exists
// nowhere else. At the very end it gives up, and the lease's end does the rest.
func (w *worker) persist(d store.Delivery, write func(context.Context) error) {
	ctx := context.WithoutCancel(w.hard) // a result is worth writing even as the worker stops
	for pause := time.Duration(0); ; {
		limited, cancel := context.WithTimeout(ctx, 15*time.Second)
		err := write(limited)
		cancel()
		if err == nil || errors.Is(err, store.ErrFenced) {
			return
		}
		w.log.Error("a result cannot be written yet", "delivery", d.ID, "error", err)
		pause = nextPause(pause)
		if !sleep(w.hard, pause) {
			return
		}
	}
}
