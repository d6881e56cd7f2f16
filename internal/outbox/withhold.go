package outbox

import (
	"context"
	"math/rand/v2"
	"slices"
	"time"

	"github.com/illumicode/illumicode/internal/core/choose"
	"github.com/illumicode/illumicode/internal/core/verdict"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/retry"
)

// An ending is how a provider's last attempt went.
type ending struct {
	failed retry.Class   // why the letter has to wait; empty if the provider had it, or wants it never
	early  bool          // before the begin was on record
	took   time.Duration // after the begin was on record, if it was
}

// remember keeps how an attempt went.
func (w *way) remember(class retry.Class, began bool, took time.Duration) {
	e := ending{took: took}
	switch class {
	case retry.Transient, retry.Throttled, retry.Misconfigured:
		e.failed, e.early = class, !began
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.last = e
}

// lastEnding returns how the last attempt of this process went.
func (w *way) lastEnding() ending {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.last
}

// withhold does for a letter that goes to nobody what is done for one that leaves: it waits while no provider is free,
// an attempt begins, takes as long as the provider's last one, but two seconds at most, and ends as that did. What
// workers do would else tell who measures the answers of the same machine that the letter does not leave. It takes
// nothing of a provider's caps.
func (w *worker) withhold(ctx context.Context, d Addressed, tried []store.Attempt, l Letter) {
	all, err := w.candidates(ctx, d, tried, l)
	if err != nil {
		w.unclaim(d.Delivery, w.now().Add(w.cfg.Poll), "")
		return
	}
	var c choose.Choice
	for {
		w.survey(all, d, w.now())
		if c = choose.Choose(all, w.cfg.Order, d.Challenge != "", rand.Float64(), w.now()); c.Provider != "" {
			break
		}
		if !w.noWay(ctx, d, c, w.now()) {
			return
		}
	}
	at := slices.IndexFunc(w.ways, func(one *way) bool { return one.Name() == c.Provider })
	last := w.ways[at].lastEnding()
	a := store.Attempt{Delivery: d.ID, Number: d.Attempts + 1, Claim: d.Claim, Worker: w.row.ID, Begun: w.now()}
	begin := &a
	if !last.early {
		if err := w.ledgerOf(d.Delivery).write(ctx, d.Delivery, &a, nil); err != nil {
			w.notBegun(d.Delivery, err)
			return
		}
		begin = nil
	}
	if last.took > time.Millisecond {
		sleep(ctx, min(last.took, maxNap)) // a provider that hung once must not keep all senders
	}
	a.Ended, a.Class, a.Reply = w.now(), store.Withheld, l.Withheld
	end := w.withheld(d.Delivery, a, last.failed, c.Spare(all))
	w.persist(d.Delivery, func(ctx context.Context) error {
		return w.ledgerOf(d.Delivery).write(ctx, d.Delivery, begin, &end)
	})
	w.wakeAt(end.Due)
	if end.State.Final() {
		w.cfg.Observer.Ended(d.Lane, end.State)
	}
}

// withheld returns what becomes of a delivery whose attempt went to nobody; failed is how a provider fails now.
func (w *worker) withheld(d store.Delivery, a store.Attempt, failed retry.Class, spare bool) store.End {
	end := store.End{Attempt: a, Claim: d.Claim, State: store.Cancelled, Spent: d.Spent, Bundle: d.Bundle,
		Challenge: d.Challenge, Generation: d.Generation, HandedOver: true}
	if failed == "" {
		return end
	}
	v := verdict.Judge(w.cfg.Retry, verdict.Delivery{Attempts: d.Spent + 1, First: d.Fixed,
		DeliverBefore: d.DeliverBefore, Elsewhere: spare}, failed, a.Ended, rand.Float64())
	if v.Action == verdict.Again {
		end.State, end.Due, end.Note, end.HandedOver = store.Waiting, v.At, a.Reply, false
	}
	if v.Spent {
		end.Spent++
	}
	return end
}
