package outbox

import (
	"context"
	"math/rand/v2"
	"sync"
	"time"

	"github.com/illumicode/illumicode/internal/core/choose"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
	"github.com/illumicode/illumicode/route"
)

// domains are the recipient domains that do not get letters through one provider as fast as they come. The zero domains
// have none. They are safe for concurrent use.
type domains struct {
	mu  sync.Mutex // guards all
	all map[string]*pace
}

// to returns the pace of a domain; nil where nothing slows it down, and for a phone number, whose domain is empty.
func (w *way) to(domain string) *pace {
	w.domains.mu.Lock()
	defer w.domains.mu.Unlock()
	return w.domains.all[domain]
}

// slow returns the pace of a domain, which may be new.
func (w *way) slow(domain string) *pace {
	w.domains.mu.Lock()
	defer w.domains.mu.Unlock()
	p := w.domains.all[domain]
	if p == nil {
		p = &pace{provider: w.Name(), domain: domain, caps: route.Caps{Reserve: w.caps.Reserve}, breaker: w.breaker,
			store: w.store, log: w.log, now: w.now}
		if w.domains.all == nil {
			w.domains.all = make(map[string]*pace)
		}
		w.domains.all[domain] = p
	}
	return p
}

// young is for how long a pace is kept that the database does not have: it may just be being written.
const young = 10 * time.Second

// learnDomains learns what other workers have written of domains, and forgets those that all have forgotten.
func (w *way) learnDomains(paces []store.Pace) {
	known := make(map[string]bool)
	for _, one := range paces {
		if one.Provider == w.Name() {
			known[one.Domain] = true
			w.slow(one.Domain).learn(one.Health)
		}
	}
	w.domains.mu.Lock()
	defer w.domains.mu.Unlock()
	for domain, p := range w.domains.all {
		if !known[domain] && p.writtenBefore(w.now().Add(-young)) {
			delete(w.domains.all, domain)
		}
	}
}

// writtenBefore reports whether this process wrote the pace last before a time.
func (p *pace) writtenBefore(at time.Time) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.told.Before(at)
}

// concernsDomain reports whether an answer concerns the recipient's domain.
func concernsDomain(r provider.Result) bool {
	return r.Concerns == provider.ConcernsDomain && (r.Class == retry.Throttled || r.Class == retry.Misconfigured)
}

// heard remembers what an attempt came to whose letter left at a time: for its domain, and for the provider, to which a
// domain's refusal says only that it works.
func (w *way) heard(ctx context.Context, domain string, r provider.Result, left time.Time) {
	a := choose.Answer{Class: r.Class, Code: r.Code, After: r.After, Left: left}
	switch {
	case domain == "":
	case concernsDomain(r):
		if !w.slow(domain).answered(ctx, a) {
			a = choose.Answer{Class: retry.RecipientRefused, Code: r.Code}
		}
	case r.Class == retry.Accepted:
		if p := w.to(domain); p != nil {
			p.answered(ctx, a)
		}
	}
	w.answered(ctx, a)
}

// reserve takes the moment at which a letter to the domain may leave, which is soon, or says when to ask again. The nil
// pace lets it leave at once: then leaves is zero.
func (p *pace) reserve(ctx context.Context, lane store.Lane) (leaves time.Time, full choose.Full, err error) {
	if p == nil || !choose.Paced(p.caps, p.known()) {
		return time.Time{}, full, nil
	}
	urgent := lane == store.Urgent
	if at := p.slowedUntil(lane); !at.IsZero() {
		return time.Time{}, p.turnAway(urgent, at), nil
	}
	leaves, ok := p.nextSlot(urgent)
	if !ok {
		leaves, ok, err = p.leaseSlots(ctx, urgent)
	}
	if err != nil || ok {
		return leaves, full, err
	}
	return time.Time{}, p.turnAway(urgent, leaves), nil
}

// slowedUntil returns when moments are given out again, as far as this process knows; zero for now.
func (p *pace) slowedUntil(lane store.Lane) time.Time {
	p.mu.Lock()
	defer p.mu.Unlock()
	if at := p.hold.Later(lane == store.Urgent); p.now().Before(at) && choose.Paced(p.caps, p.health) {
		return at
	}
	return time.Time{}
}

// turnAway says when a letter comes back that finds no moment before earliest: one after the other, at the pace of
// now. Those that would wait longer than the horizon come back somewhere before it, as the domain may have recovered.
func (p *pace) turnAway(urgent bool, earliest time.Time) choose.Full {
	p.mu.Lock()
	defer p.mu.Unlock()
	tail := &p.tail[0]
	if urgent {
		tail = &p.tail[1]
	}
	now, gap := p.now(), choose.Gap(p.caps, p.health)
	horizon := min(max(20*gap, 30*time.Second), 5*time.Minute)
	at := tail.Add(gap)
	if at.Before(earliest) {
		at = earliest
	}
	if at.Sub(now) <= horizon {
		*tail = at
	} else {
		at = earliest.Add(time.Duration(rand.Float64() * float64(horizon)))
	}
	return choose.Full{Cap: p.domain + " gets letters " + gap.String() + " apart", At: at}
}
