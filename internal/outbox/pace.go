package outbox

import (
	"context"
	"log/slog"
	"math/rand/v2"
	"sync"
	"time"

	"github.com/illumicode/illumicode/internal/core/choose"
	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/retry"
	"github.com/illumicode/illumicode/route"
)

// A pace is how fast letters leave for a provider, or through it for one recipient domain, and whether at all, as all
// workers know it.
type pace struct {
	provider string
	domain   string     // empty for the provider itself
	caps     route.Caps // of the provider; of a domain, only the urgent lane's share
	breaker  choose.Breaker
	store    *store.Store
	log      *slog.Logger
	now      func() time.Time

	leasing sync.Mutex // held while the database is asked for more, by one at a time

	mu     sync.Mutex // guards what follows
	hold   choose.Stock
	health choose.Health
	good   int          // successes that health does not know yet
	told   time.Time    // when it was last written
	tail   [2]time.Time // of a domain: when the last letter that was turned away comes back; urgent ones apart
}

// name is what the database and logs call the pace.
func (p *pace) name() string {
	if p.domain == "" {
		return p.provider
	}
	return p.provider + " to " + p.domain
}

// moment waits until a letter may leave, if letters to the provider keep a distance.
func (p *pace) moment(ctx context.Context, lane store.Lane) error {
	p.mu.Lock()
	paced := choose.Paced(p.caps, p.health)
	urgent := lane == store.Urgent
	if paced {
		p.hold.Queue(urgent, 1)
		defer func() { p.mu.Lock(); p.hold.Queue(urgent, -1); p.mu.Unlock() }()
	}
	p.mu.Unlock()
	if !paced {
		return nil
	}
	for missed := 0; ; {
		at, ok := p.nextSlot(urgent)
		if !ok {
			var err error
			if at, ok, err = p.leaseSlots(ctx, urgent); err != nil {
				return err
			}
		}
		if !sleep(ctx, at.Sub(p.now())) {
			return ctx.Err()
		}
		// A machine that cannot keep time sends all the same.
		if ok {
			if missed++; p.now().Sub(at) <= choose.Late || missed > 3 {
				return nil
			}
		}
	}
}

// nextSlot takes the next moment of those leased.
func (p *pace) nextSlot(urgent bool) (time.Time, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.hold.Moment(urgent, p.now())
}

// leaseSlots asks for more moments, and takes the first; without any, at is when to ask again.
func (p *pace) leaseSlots(ctx context.Context, urgent bool) (at time.Time, ok bool, err error) {
	p.leasing.Lock()
	defer p.leasing.Unlock()
	if at, ok = p.nextSlot(urgent); ok {
		return at, ok, nil
	}
	var s choose.Slots
	_, states := choose.States(p.caps)
	err = p.store.UpdatePaces(ctx, p.name(), states, p.now(), func(held map[string]judge.State) {
		s, at = choose.TakeSlots(p.caps, held, p.known(), urgent, p.now())
	})
	p.mu.Lock()
	defer p.mu.Unlock()
	at, ok = p.hold.Given(urgent, s, at)
	return at, ok, err
}

// busyUntil returns when a letter would no longer wait long for its moment; zero if it does not now.
func (p *pace) busyUntil(lane store.Lane) time.Time {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.hold.BusyUntil(p.caps, p.health, lane == store.Urgent, p.now())
}

// known returns the health as this process knows it.
func (p *pace) known() choose.Health {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.health
}

func (p *pace) learn(h choose.Health) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.health = h
}

// probe says whether a letter may leave, where it is the one that is to see whether a provider works
// again: for all workers one.
func (p *pace) probe(ctx context.Context) (bool, error) {
	if p.known().Opened == 0 {
		return true, nil
	}
	mine := false
	h, _, err := p.update(ctx, p.now(), func(h choose.Health) choose.Health {
		if _, shut := h.Shut(p.breaker, p.now()); shut != "" {
			return h
		}
		mine = true
		h, _ = h.Probing(p.now())
		return h
	})
	if err == nil {
		p.learn(h)
	}
	return mine, err
}

// update changes the health by what all workers have written of it. widely says that what a domain has come to concerns
// its provider.
func (p *pace) update(ctx context.Context, now time.Time, change func(choose.Health) choose.Health) (h choose.Health,
	widely bool, err error) {
	if p.domain != "" {
		return p.store.UpdatePace(ctx, p.provider, p.domain, now, change)
	}
	h, err = p.store.UpdateHealth(ctx, p.provider, now, change)
	return h, false, err
}

// between is how often successes are written of a provider that recovers.
const between = 200 * time.Millisecond

// answered remembers an answer, for all workers. In good health, success is not news. widely says that a domain's
// answer concerns its provider, as several domains have said so.
func (p *pace) answered(ctx context.Context, a choose.Answer) (widely bool) {
	p.mu.Lock()
	before, now := p.health, p.now()
	good := before.After(a, p.breaker, now, 0).Good() || a.Class == retry.Accepted
	if good {
		if before.Good() {
			p.mu.Unlock()
			return false
		}
		p.good++
		if before.Failures == 0 && now.Sub(p.told) < between {
			p.mu.Unlock()
			return false
		}
	}
	times := max(1, p.good)
	p.good, p.told = 0, now
	if !good { // letters of this process that wait for a connection heed it before the database has it
		p.health = before.After(a, p.breaker, now, 0)
	}
	p.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second) // the result of the attempt is still to be recorded
	defer cancel()
	h, widely, err := p.update(ctx, now, func(h choose.Health) choose.Health {
		if !good {
			times = 1
		}
		for range times {
			h = h.After(a, p.breaker, now, rand.Float64())
		}
		return h
	})
	if err != nil {
		p.log.Error("what a provider answered cannot be told to other workers", "provider", p.name(), "error", err)
		return false
	}
	p.learn(h)
	_, was := before.Shut(p.breaker, now)
	switch until, shut := h.Shut(p.breaker, now); {
	case p.domain != "":
		if was == "" && shut != "" {
			p.log.Info("letters to a domain wait", "provider", p.provider, "domain", p.domain, "why", shut, "until",
				until, "gap", h.Gap)
		}
	case was == "" && shut != "":
		p.log.Warn("a provider is left alone", "provider", p.name(), "why", shut, "until", until)
	case before.Opened > 0 && h.Opened == 0:
		p.log.Info("a provider works again", "provider", p.name())
	}
	return widely
}
