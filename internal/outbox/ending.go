package outbox

import (
	"context"
	"errors"
	"math/rand/v2"
	"time"

	"github.com/illumicode/illumicode/internal/core/verdict"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/internal/strange"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// uncomposed ends a delivery that cannot be composed, or gives it back if time or another worker may help.
func (w *worker) uncomposed(d Addressed, err error) {
	var drop *Drop
	switch {
	case errors.As(err, &drop):
		w.drop(d, drop.State, drop.Note)
	case errors.Is(err, ErrLater):
		w.unclaim(d.Delivery, w.now().Add(w.cfg.Poll), err.Error())
	case errors.Is(err, ErrElsewhere):
		if last := w.saidElsewhere.Load(); time.Now().UnixNano()-last > int64(time.Minute) &&
			w.saidElsewhere.CompareAndSwap(last, time.Now().UnixNano()) {
			w.log.Warn("left to another worker, and others of this minute like it", "delivery", d.ID, "letter",
				d.Letter,
				"error", err)
		}
		w.unclaim(d.Delivery, w.now().Add(elsewherePause), err.Error())
	case errors.Is(err, ErrUnknown):
		w.log.Warn("left to another worker", "delivery", d.ID, "letter", d.Letter, "error", err)
		w.unclaim(d.Delivery, w.now().Add(unknownPause), err.Error())
	default:
		w.log.Error("a letter cannot be composed", "delivery", d.ID, "letter", d.Letter, "error", err)
		w.drop(d, store.Failed, err.Error())
	}
}

// elsewherePause is how long a delivery is left alone that another worker can send: long enough for it to get there
// first.
const elsewherePause = 2 * time.Second

// unknownPause is how long a delivery that this version does not know is left alone.
const unknownPause = 30 * time.Second

// judge turns an attempt and its result into what becomes of the delivery. One that we kept back ourselves does not
// count.
func (t *try) judge(d Addressed, a store.Attempt, r provider.Result) store.End {
	counts := 1
	if t.keptBack != nil {
		counts = 0
	}
	v := verdict.Judge(t.cfg.Retry, verdict.Delivery{Attempts: d.Spent + counts, First: d.Fixed,
		DeliverBefore: d.DeliverBefore, After: r.After, Elsewhere: t.by.spare,
		Domain: r.Concerns == provider.ConcernsDomain}, a.Class, a.Ended, rand.Float64())
	end := store.End{
		Attempt: a, Claim: d.Claim, Spent: d.Spent, Due: v.At, Note: strange.Line(a.Reply), Bundle: d.Bundle,
		Collapse:  d.Collapse != "",
		Challenge: d.Challenge, Generation: d.Generation, HandedOver: verdict.HandedOver(a.Class),
	}
	if v.Spent {
		end.Spent += counts
	}
	d.unsure = d.unsure || a.Class == retry.Ambiguous
	switch {
	case a.Class == retry.Ambiguous && d.Once:
		end.State, end.Due = store.Unknown, time.Time{}
	case v.Action == verdict.Done:
		end.State, end.Note = store.Sent, ""
	case v.Action == verdict.Again && d.fallsBack() && !t.fallBackAt(d).After(a.Ended):
		end.State, end.Due = store.Failed, time.Time{}
	case v.Action == verdict.Again:
		end.State = store.Waiting
		if at := t.fallBackAt(d); d.fallsBack() && at.Before(end.Due) {
			end.Due = at
		}
	case v.Action == verdict.TooLate:
		end.State, end.Note = store.Expired, "no time for another attempt; the last one: "+end.Note
	default:
		end.State = store.Failed
	}
	if a.Class != retry.RecipientRefused { // that it is refused says that it has not been sent
		end.State, end.Note = d.settled(end.State, end.Note)
	}
	return end
}

// drop ends d without an attempt; if it has failed, its fallback goes.
func (w *worker) drop(d Addressed, state store.State, note string) {
	state, note = d.settled(state, note)
	now := w.now()
	end := store.Ending{State: state, Note: note, At: now, Then: w.sequel(d.Delivery, state, note, now)}
	w.persist(d.Delivery, func(ctx context.Context) error { return w.store.Drop(ctx, d.Delivery, end) })
	if end.Then != (store.Sequel{}) {
		w.Wake()
	}
	w.ended(d.Delivery, state, note)
}

// settled returns how a delivery ends that was to end so: what may have been sent has not failed.
func (d Addressed) settled(state store.State, note string) (store.State, string) {
	if d.unsure && (state == store.Failed || state == store.Expired) {
		return store.Unknown, "an attempt ended without an answer; the last one: " + note
	}
	return state, note
}

// ended tells the observer how a delivery has ended, and the application of one that did not reach anybody, if that is
// on record: the claim may have been lost, or the database be away to the end.
func (w *worker) ended(d store.Delivery, state store.State, note string) {
	w.cfg.Observer.Ended(d.Lane, state)
	if w.cfg.Failed == nil || !state.Again() {
		return
	}
	if row, err := w.store.Delivery(context.WithoutCancel(w.hard), d.ID); err == nil && row.State == state {
		w.cfg.Failed(row, state, note)
	}
}

// days returns how many whole days a time has.
func days(d time.Duration) int { return int(d / (24 * time.Hour)) }

// hold keeps d, unattempted, until what holds it has ended.
func (w *worker) hold(d store.Delivery, by, note string) {
	since := w.now()
	if paused, ok := (*w.paused.Load())[by]; ok {
		since = paused // and not since it was looked at
	}
	w.persist(d, func(ctx context.Context) error { return w.store.Hold(ctx, d, by, note, since) })
}

// unclaim lets d wait again, unattempted.
func (w *worker) unclaim(d store.Delivery, until time.Time, note string) {
	w.persist(d, func(ctx context.Context) error { return w.store.Unclaim(ctx, d, until, note) })
	if note != "" { // without, the worker stops or waits for its poll
		w.wakeAt(until)
	}
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
