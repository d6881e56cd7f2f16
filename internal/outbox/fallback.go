package outbox

import (
	"time"

	"github.com/illumicode/illumicode/internal/store"
)

// A letter with a fallback is not tried for days: whoever waits for it is written to another way.

// fallBackAt returns when a letter's fallback goes, if no provider has taken the letter by then.
func (w *worker) fallBackAt(d Addressed) time.Time { return d.Free.Add(w.cfg.Fallback) }

// fallsBack reports whether a letter has a fallback that may go: not where an attempt may have handed it over, unless
// that was asked for.
func (d Addressed) fallsBack() bool { return d.Fallback != "" && (!d.unsure || d.Anyway) }

// sequel returns what the end of a delivery at now leads to: its fallback, and what tells of it.
func (o *Outbox) sequel(d store.Delivery, state store.State, note string, now time.Time) (then store.Sequel) {
	if d.Fallback != "" && (state == store.Failed || state == store.Unknown && d.Anyway) {
		next := fallbackOf(d, now)
		then.Fallback = &next
	}
	if o.cfg.FailureEvent != nil && state.Again() {
		then.Event = o.cfg.FailureEvent(d, state, note, now)
	}
	return then
}

// fallbackOf returns the delivery that goes in the place of one that has failed at now.
func fallbackOf(d store.Delivery, now time.Time) store.Delivery {
	next := d
	next.ID, next.Address, next.Fallback = newID(), d.Fallback, ""
	next.Created, next.Due, next.Free = now, now, time.Time{}
	next.AskedBy = "the failure of " + d.ID + " to " + d.Address
	return next
}

// giveBack gives a delivery back until a provider is free, or ends it where its fallback goes before that.
func (w *worker) giveBack(d Addressed, at time.Time, why string) {
	if fall := w.fallBackAt(d); d.fallsBack() && !at.Before(fall) {
		if !w.now().Before(fall) {
			w.drop(d, store.Failed, "no provider took it in time: "+why)
			return
		}
		at = fall
	}
	w.unclaim(d.Delivery, at, why)
}
