package outbox

import (
	"context"
	"time"

	"github.com/illumicode/illumicode/internal/store"
)

// A letter with a fallback is not tried for days: whoever waits for it is written to another way.

// fallBackAt returns when a letter's fallback goes, if no provider has taken the letter by then.
func (w *worker) fallBackAt(d Addressed) time.Time { return d.Free.Add(w.cfg.Fallback) }

// fallsBack reports whether a letter has a fallback that may go: not where an attempt may have handed it over.
func (w *worker) fallsBack(d Addressed, last store.Attempt) bool {
	return d.Fallback != "" && !d.unsure && (last.Number == 0 || !perhapsTaken(last))
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
	if fall := w.fallBackAt(d); w.fallsBack(d, store.Attempt{}) && !at.Before(fall) {
		if now := w.now(); now.Before(fall) {
			at = fall
		} else {
			note := "no provider took it in time: " + why
			w.persist(d.Delivery, func(ctx context.Context) error {
				return w.store.DropTo(ctx, d.Delivery, note, fallbackOf(d.Delivery, now), now)
			})
			w.ended(d.Delivery, store.Failed, note)
			w.Wake()
			return
		}
	}
	w.unclaim(d.Delivery, at, why)
}
