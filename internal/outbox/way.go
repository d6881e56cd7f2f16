package outbox

import (
	"context"
	"time"

	"github.com/illumicode/illumicode/internal/core/choose"
	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/internal/dial"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/route"
)

// A way is a provider as this process uses it: its terms, what was leased from its caps, and its pace and health
// as all workers know them.
type way struct {
	provider.Provider
	*pace
	terms route.Terms
	slots *slots // nil for no bound

	domains domains // paces of recipient domains that do not get letters as fast as they come
	last    ending  // of its last attempt; guarded by mu
}

// waysOf returns the ways of providers, in their order.
func waysOf(st *store.Store, providers []provider.Provider, now func() time.Time, c Config) []*way {
	all := make([]*way, len(providers))
	for i, p := range providers {
		w := &way{Provider: p, terms: c.Terms[p.Name()]}
		w.pace = &pace{provider: p.Name(), caps: w.terms.Caps, store: st, log: c.Log, now: now,
			breaker: choose.Breaker{First: 3 * c.Retry.Base, Longest: c.Retry.Max / 6}}
		kept := func(whole int) int { return choose.Kept(w.terms.Caps, whole) }
		most, shared := p.Can().Most, w.terms.Caps.AtOnce
		switch {
		case shared > 0:
			w.slots = newSlots(0, kept) // until this process has its share
		case most > 0:
			w.slots = newSlots(most, kept)
		}
		all[i] = w
	}
	return all
}

// take takes one letter out of the provider's quotas, and a text out of what its country has for the day, or says when
// there is room. An error is the database's.
func (w *way) take(ctx context.Context, d Addressed) (ok bool, full choose.Full, err error) {
	ok, full, err = w.takeQuota(ctx, d.Lane)
	if !ok || err != nil || !w.byCountry(d) {
		return ok, full, err
	}
	err = w.updateCountry(ctx, d, func(held map[string]judge.State, code string) {
		ok, full = choose.TakeCountry(w.terms.Caps, held, code, w.now())
	})
	if !ok || err != nil {
		w.putBackQuota(d.Lane)
	}
	return ok && err == nil, full, err
}

func (w *way) takeQuota(ctx context.Context, lane store.Lane) (ok bool, full choose.Full, err error) {
	if !choose.Quotas(w.terms.Caps) {
		return true, full, nil
	}
	urgent := lane == store.Urgent
	if ok, full = w.fromLease(urgent); ok || full.Cap != "" {
		return ok, full, nil
	}
	w.leasing.Lock()
	defer w.leasing.Unlock()
	if ok, full = w.fromLease(urgent); ok || full.Cap != "" { // another sender has asked
		return ok, full, nil
	}
	var lease choose.Lease
	states, _ := choose.States(w.terms.Caps)
	err = w.store.UpdateCaps(ctx, w.Name(), states, w.now(), func(held map[string]judge.State) {
		lease, full = choose.TakeLease(w.terms.Caps, held, urgent, w.now())
	})
	if err != nil {
		return false, full, err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.hold.Leased(urgent, lease, full), full, nil
}

// fromLease takes a letter of what was leased, or says what was last refused.
func (w *way) fromLease(urgent bool) (bool, choose.Full) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.hold.Take(urgent, w.now())
}

// putBack returns a letter that was taken and whose attempt has not begun. What was begun may have cost money.
func (w *way) putBack(ctx context.Context, d Addressed) {
	w.putBackQuota(d.Lane)
	if !w.byCountry(d) {
		return
	}
	err := w.updateCountry(context.WithoutCancel(ctx), d, func(held map[string]judge.State, code string) {
		choose.ReturnCountry(w.terms.Caps, held, code, w.now())
	})
	if err != nil {
		w.log.Warn("a text that was not sent could not be given back to its country's cap; it stays unused until the "+
			"day ends", "provider", w.Name(), "delivery", d.ID, "error", err)
	}
}

func (w *way) putBackQuota(lane store.Lane) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.hold.PutBack(lane == store.Urgent, w.now())
}

// byCountry reports whether a delivery counts under the cap of a country.
func (w *way) byCountry(d Addressed) bool { return w.terms.Caps.PerCountry > 0 && d.To.IsPhone() }

func (w *way) updateCountry(ctx context.Context, d Addressed,
	change func(held map[string]judge.State, code string)) error {
	code := dial.Code(d.To.String())
	return w.store.UpdateCaps(ctx, w.Name(), []string{choose.Country(code)}, w.now(),
		func(held map[string]judge.State) { change(held, code) })
}

// returnLeases gives back what was leased and not used.
func (w *way) returnLeases(ctx context.Context) {
	w.mu.Lock()
	n := w.hold.Unused(w.now())
	w.mu.Unlock()
	if n == 0 {
		return
	}
	states, _ := choose.States(w.terms.Caps)
	if err := w.store.UpdateCaps(ctx, w.Name(), states, w.now(), func(held map[string]judge.State) {
		choose.Return(w.terms.Caps, held, n, w.now())
	}); err != nil {
		w.log.Warn("what was leased from a provider's quota could not be given back; it stays unused until the "+
			"window ends", "provider", w.Name(), "letters", n, "error", err)
	}
}

// silentUntil returns when to look again at a provider that does not answer; zero if it does.
func (w *way) silentUntil() time.Time {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.hold.Silent(w.breaker, w.now())
}

// onWay notes that a letter is with the provider; the function it returns, that its attempt has ended.
func (w *way) onWay() (ended func()) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.hold.Sent(w.now())
	return func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		w.hold.Heard(w.now())
	}
}

// connection waits for one of the provider's connections, as long as that makes sense.
func (w *way) connection(ctx context.Context, lane store.Lane) bool {
	if ok, _ := w.slots.take(lane); ok {
		return true
	}
	ctx, cancel := context.WithTimeout(ctx, w.breaker.Patience())
	defer cancel()
	return w.slots.wait(ctx, lane)
}

// readHealth learns what other workers have written of the providers.
func (o *Outbox) readHealth(ctx context.Context) error {
	all, err := o.store.Ways(ctx)
	if err != nil {
		return err
	}
	paces, err := o.store.Paces(ctx)
	if err != nil {
		return err
	}
	for _, w := range o.ways {
		for _, known := range all {
			if w.Name() == known.Name {
				w.learn(known.Health)
			}
		}
		w.learnDomains(paces)
	}
	return nil
}

// shareOut takes this process's part of what providers carry at once.
func (o *Outbox) shareOut(ctx context.Context) error {
	for _, w := range o.ways {
		most := w.terms.Caps.AtOnce
		if most == 0 {
			continue
		}
		now := o.now()
		n, err := o.store.Share(ctx,
			store.Share{Provider: w.Name(), Worker: o.id, Whole: most, InUse: w.slots.inUse()}, now,
			now.Add(o.cfg.Lease))
		if err != nil {
			return err
		}
		if own := w.Can().Most; own > 0 {
			n = min(n, own)
		}
		w.slots.resize(n)
	}
	return nil
}

// handBack gives back what this process has of the providers' caps, when its last worker has ended.
func (o *Outbox) handBack(ctx context.Context) {
	shared := false
	for _, w := range o.ways {
		w.returnLeases(ctx)
		if w.terms.Caps.AtOnce > 0 {
			w.slots.resize(0)
			shared = true
		}
	}
	if shared {
		if err := o.store.ReturnShares(ctx, o.id); err != nil {
			o.log.Warn("the shares of providers' connections could not be given back; they run out with the lease",
				"error", err)
		}
	}
}
