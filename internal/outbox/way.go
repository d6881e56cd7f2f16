package outbox

import (
	"context"
	"log/slog"
	"math/rand/v2"
	"sync"
	"time"

	"github.com/illumicode/illumicode/internal/core/choose"
	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/internal/dial"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
	"github.com/illumicode/illumicode/route"
)

// A way is a provider as this process uses it: its terms, what was leased from its caps, and its health
// as all workers know it.
type way struct {
	provider.Provider
	terms   route.Terms
	breaker choose.Breaker
	store   *store.Store
	log     *slog.Logger
	now     func() time.Time
	slots   *slots // nil for no bound

	leasing sync.Mutex // held while the caps are asked for more, by one at a time

	mu     sync.Mutex // guards what follows
	hold   choose.Stock
	health choose.Health
	good   int       // successes that health does not know yet
	last   ending    // of its last attempt
	told   time.Time // when it was last written
}

// waysOf returns the ways of providers, in their order.
func waysOf(st *store.Store, providers []provider.Provider, now func() time.Time, c Config) []*way {
	all := make([]*way, len(providers))
	for i, p := range providers {
		w := &way{Provider: p, terms: c.Terms[p.Name()],
			breaker: choose.Breaker{First: 3 * c.Retry.Base, Longest: c.Retry.Max / 6}, store: st, log: c.Log, now: now}
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

// moment waits until a letter may leave, if letters to the provider keep a distance.
func (w *way) moment(ctx context.Context, lane store.Lane) error {
	w.mu.Lock()
	paced := choose.Paced(w.terms.Caps, w.health)
	urgent := lane == store.Urgent
	if paced {
		w.hold.Queue(urgent, 1)
		defer func() { w.mu.Lock(); w.hold.Queue(urgent, -1); w.mu.Unlock() }()
	}
	w.mu.Unlock()
	if !paced {
		return nil
	}
	for missed := 0; ; {
		at, ok := w.nextSlot(urgent)
		if !ok {
			var err error
			if at, ok, err = w.leaseSlots(ctx, urgent); err != nil {
				return err
			}
		}
		if !sleep(ctx, at.Sub(w.now())) {
			return ctx.Err()
		}
		// A machine that cannot keep time sends all the same.
		if ok {
			if missed++; w.now().Sub(at) <= choose.Late || missed > 3 {
				return nil
			}
		}
	}
}

// nextSlot takes the next moment of those leased.
func (w *way) nextSlot(urgent bool) (time.Time, bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.hold.Moment(urgent, w.now())
}

// leaseSlots asks for more moments, and takes the first; without any, at is when to ask again.
func (w *way) leaseSlots(ctx context.Context, urgent bool) (at time.Time, ok bool, err error) {
	w.leasing.Lock()
	defer w.leasing.Unlock()
	if at, ok = w.nextSlot(urgent); ok {
		return at, ok, nil
	}
	var s choose.Slots
	_, states := choose.States(w.terms.Caps)
	err = w.store.UpdatePaces(ctx, w.Name(), states, w.now(), func(held map[string]judge.State) {
		s, at = choose.TakeSlots(w.terms.Caps, held, w.known(), urgent, w.now())
	})
	w.mu.Lock()
	defer w.mu.Unlock()
	at, ok = w.hold.Given(urgent, s, at)
	return at, ok, err
}

// busyUntil returns when a letter would no longer wait long for its moment; zero if it does not now.
func (w *way) busyUntil(lane store.Lane) time.Time {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.hold.BusyUntil(w.terms.Caps, w.health, lane == store.Urgent, w.now())
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

// known returns the health as this process knows it.
func (w *way) known() choose.Health {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.health
}

func (w *way) learn(h choose.Health) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.health = h
}

// probe says whether a letter may leave, where it is the one that is to see whether a provider works
// again: for all workers one.
func (w *way) probe(ctx context.Context) (bool, error) {
	if w.known().Opened == 0 {
		return true, nil
	}
	mine := false
	h, err := w.store.UpdateHealth(ctx, w.Name(), w.now(), func(h choose.Health) choose.Health {
		if _, shut := h.Shut(w.breaker, w.now()); shut != "" {
			return h
		}
		mine = true
		h, _ = h.Probing(w.now())
		return h
	})
	if err == nil {
		w.learn(h)
	}
	return mine, err
}

// between is how often successes are written of a provider that recovers.
const between = 200 * time.Millisecond

// answered remembers an answer, for all workers. Of a provider in good health, success is not news.
func (w *way) answered(ctx context.Context, a choose.Answer) {
	w.mu.Lock()
	before, now := w.health, w.now()
	good := before.After(a, w.breaker, now, 0).Good() || a.Class == retry.Accepted
	if good {
		if before.Good() {
			w.mu.Unlock()
			return
		}
		w.good++
		if before.Failures == 0 && now.Sub(w.told) < between {
			w.mu.Unlock()
			return
		}
	}
	times := max(1, w.good)
	w.good, w.told = 0, now
	w.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second) // the result of the attempt is still to be recorded
	defer cancel()
	h, err := w.store.UpdateHealth(ctx, w.Name(), now, func(h choose.Health) choose.Health {
		if !good {
			times = 1
		}
		for range times {
			h = h.After(a, w.breaker, now, rand.Float64())
		}
		return h
	})
	if err != nil {
		w.log.Error("what a provider answered cannot be told to other workers", "provider", w.Name(), "error", err)
		return
	}
	w.learn(h)
	_, was := before.Shut(w.breaker, now)
	switch until, shut := h.Shut(w.breaker, now); {
	case was == "" && shut != "":
		w.log.Warn("a provider is left alone", "provider", w.Name(), "why", shut, "until", until)
	case before.Opened > 0 && h.Opened == 0:
		w.log.Info("a provider works again", "provider", w.Name())
	}
}

// readHealth learns what other workers have written of the providers.
func (o *Outbox) readHealth(ctx context.Context) error {
	all, err := o.store.Ways(ctx)
	for _, known := range all {
		for _, w := range o.ways {
			if w.Name() == known.Name {
				w.learn(known.Health)
			}
		}
	}
	return err
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
