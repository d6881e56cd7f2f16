package outbox

import (
	"context"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"github.com/illumicode/illumicode/internal/core/choose"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/retry"
)

// maxNap is how long a sender waits for a provider to become free, instead of giving the delivery back.
const maxNap = 2 * time.Second

// busy is why a letter did not get one of a provider's connections.
const busy = "all its connections are busy"

// A chosen is the way of the next attempt.
type chosen struct {
	*way
	why    string    // and why no other; empty where there is one only
	spare  bool      // another could go next, at once
	leaves time.Time // when the recipient's domain may have it; zero for at once
}

// choose returns the way of the next attempt, with one letter taken out of its quotas and, if it has any,
// a slot; and the reasons. Without a way, the delivery has been ended, held, or given back until one is free.
func (w *worker) choose(ctx context.Context, d Addressed, tried []store.Attempt, l Letter) (c chosen, ok bool) {
	all, err := w.candidates(ctx, d, tried, l)
	if err != nil {
		w.unclaim(d.Delivery, w.now().Add(w.cfg.Poll), "")
		return c, false
	}
	for {
		now := w.now()
		w.survey(all, d, now)
		c := choose.Choose(all, w.cfg.Order, d.Challenge != "", rand.Float64(), now)
		if c.Provider == "" {
			if w.noWay(ctx, d, c, now) {
				continue
			}
			return chosen{}, false
		}
		at := slices.IndexFunc(all, func(a choose.Candidate) bool { return a.Name == c.Provider })
		way := w.ways[at]
		// A letter of a quota is taken with a connection in hand: one that waits for a connection would be
		// lost with the worker.
		if choose.Quotas(way.terms.Caps) && !way.connection(ctx, d.Lane) {
			if ctx.Err() != nil {
				w.gaveBack(d.Delivery)
				return chosen{}, false
			}
			all[at].FreeAt, all[at].Cap = w.now().Add(way.breaker.Patience()/2), busy
			continue
		}
		ok, full, err := way.take(ctx, d)
		var leaves time.Time
		if ok && err == nil {
			if ok, leaves, full, err = way.open(ctx, d); !ok || err != nil {
				way.putBack(ctx, d)
			}
		}
		if choose.Quotas(way.terms.Caps) && (!ok || err != nil) {
			way.slots.give(d.Lane)
		}
		switch {
		case err != nil:
			w.log.Error("a provider's caps cannot be asked, so nothing is sent", "provider", c.Provider, "error", err)
			w.unclaim(d.Delivery, w.now().Add(w.cfg.Poll), "")
			return chosen{}, false
		case ok && len(all) == 1:
			return chosen{way: way, leaves: leaves}, true
		case ok:
			return chosen{way, c.String(), c.Spare(all), leaves}, true
		case full.Cap != "":
			all[at].FreeAt, all[at].Cap = full.At, full.Cap
		}
	}
}

// open says whether a letter may leave for the provider and for the recipient's domain, and when for the domain. Where
// a circuit was open, it is the one that is to see.
func (w *way) open(ctx context.Context, d Addressed) (ok bool, leaves time.Time, full choose.Full, err error) {
	p := w.to(d.To.Domain())
	if leaves, full, err = p.reserve(ctx, d.Lane); full.Cap != "" || err != nil {
		return false, leaves, full, err
	}
	if p != nil {
		if ok, err = p.probe(ctx); !ok || err != nil {
			return ok, leaves, full, err
		}
	}
	ok, err = w.probe(ctx)
	return ok, leaves, full, err
}

// survey writes into candidates how their providers stand.
func (w *worker) survey(all []choose.Candidate, d Addressed, now time.Time) {
	lane := d.Lane
	for i, one := range w.ways {
		all[i].Health = one.known()
		_, all[i].Paused = (*w.paused.Load())[store.Pause{Kind: "provider", Name: one.Name()}.HeldBy()]
		if at := one.busyUntil(lane); at.After(all[i].FreeAt) {
			all[i].FreeAt, all[i].Cap = at, "all its letters of a second are spoken for"
		}
		if at := one.silentUntil(); at.After(all[i].FreeAt) {
			all[i].FreeAt, all[i].Cap = at, "it does not answer"
		}
		if p := one.to(d.To.Domain()); p != nil {
			if until, why := p.known().Shut(p.breaker, now); until.After(all[i].FreeAt) {
				all[i].FreeAt, all[i].Cap = until, p.domain+": "+why
			}
			if at := p.slowedUntil(lane); at.After(all[i].FreeAt) {
				full := p.turnAway(lane == store.Urgent, at)
				all[i].FreeAt, all[i].Cap = full.At, full.Cap
			}
		}
		if one.slots.none() {
			all[i].FreeAt, all[i].Cap = now.Add(w.cfg.Lease/3), "other workers have all its connections"
		}
	}
}

// noWay does what is left to do where no provider can go, and reports whether to choose again.
func (w *worker) noWay(ctx context.Context, d Addressed, c choose.Choice, now time.Time) (again bool) {
	switch {
	case c.At.IsZero() && c.Paused != "":
		by := store.Pause{Kind: "provider", Name: c.Paused}.HeldBy()
		w.hold(d.Delivery, by, "paused: "+by)
	case c.At.IsZero():
		w.drop(d, store.Failed, "no provider carries this: "+c.String())
	case !d.DeliverBefore.IsZero() && !c.At.Before(d.DeliverBefore):
		w.drop(d, store.Expired, "no provider is free in time: "+c.String())
	case c.At.Sub(now) <= maxNap && !w.slows(d):
		return sleep(ctx, c.At.Sub(now)) || w.gaveBack(d.Delivery)
	default:
		w.giveBack(d, c.At, c.String())
	}
	return false
}

// slows reports whether a provider slows letters to a recipient's domain down: then they wait in the queue, as there
// may be many, and no sender waits with them.
func (w *worker) slows(d Addressed) bool {
	return slices.ContainsFunc(w.ways, func(one *way) bool { return one.to(d.To.Domain()) != nil })
}

// gaveBack gives a delivery back as the worker stops.
func (w *worker) gaveBack(d store.Delivery) bool {
	w.unclaim(d, w.now(), "")
	return false
}

// candidates returns the providers, as they stand for a delivery.
func (w *worker) candidates(ctx context.Context, d Addressed, tried []store.Attempt,
	l Letter) ([]choose.Candidate, error) {
	var carried []string
	if len(w.ways) > 1 && strings.HasPrefix(d.AskedBy, store.SentAgain) {
		var err error
		if carried, err = w.store.CarriedBy(ctx, d.Challenge, d.Address); err != nil {
			return nil, err
		}
	}
	all := make([]choose.Candidate, len(w.ways))
	for i, one := range w.ways {
		name, can := one.Name(), one.Can()
		c := choose.Candidate{Name: name, Weight: one.terms.Weight, Cost: one.terms.Cost, Breaker: one.breaker,
			Carried: slices.Contains(carried, name)}
		switch {
		case l.SMS != "" && !can.SMS:
			c.Unable = "carries no SMS"
		case l.SMS == "" && !can.Mail:
			c.Unable = "carries no mail"
		case l.SMS == "" && !can.MaySend(l.Contents.From):
			c.Unable = "may not send from this address"
		case choose.Choosy(one.terms) && !choose.Takes(one.terms, d.destination()):
			c.Unable = "is not for this recipient's domain"
		}
		for _, a := range tried {
			if a.Provider == name {
				c.Tried++
			}
		}
		c.Unsure = len(tried) > 0 && tried[len(tried)-1].Provider == name &&
			tried[len(tried)-1].Class == retry.Ambiguous
		all[i] = c
	}
	return all, nil
}
