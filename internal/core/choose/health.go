package choose

import (
	"math"
	"time"

	"github.com/illumicode/illumicode/retry"
)

// A Health is what is remembered of a provider's answers, or of those to letters for one recipient domain, by all
// workers together. The zero Health is good.
type Health struct {
	Failures int           `json:"failures,omitempty"` // in a row, that say something of the provider
	Class    retry.Class   `json:"class,omitempty"`    // of the latest of them
	Until    time.Time     `json:"until,omitzero"`     // the circuit is open: nothing is sent
	Opened   int           `json:"opened,omitempty"`   // how often in a row: each time it stays open longer
	Probe    time.Time     `json:"probe,omitzero"`     // a letter was let through to see, at this time
	Gap      time.Duration `json:"gap,omitempty"`      // between letters, since it said "slow down"; 0 for none
	Slowed   time.Time     `json:"slowed,omitzero"`    // when the gap last grew
}

// How health turns.
const (
	openAfter  = 5                     // failures in a row
	firstGap   = 50 * time.Millisecond // after the first "slow down"; doubling
	longestGap = time.Minute
	gone       = 5 * time.Millisecond // a gap shorter than this is none
)

// A Breaker says how long circuits stay open. The zero Breaker is all defaults.
type Breaker struct {
	// the first time, doubling; 0 or less means 15 s. Four times that where our side is set up wrongly
	First   time.Duration
	Longest time.Duration // 0 or less means 10 m
}

func (b Breaker) withDefaults() Breaker {
	if b.First <= 0 {
		b.First = 15 * time.Second
	}
	if b.Longest <= 0 {
		b.Longest = 10 * time.Minute
	}
	return b
}

// probe is how long a probe may take; then the next letter may see.
func (b Breaker) probe() time.Duration { return 4 * b.withDefaults().First }

// An Answer is what a provider answered to one attempt, as far as its health is concerned.
type Answer struct {
	Class retry.Class
	Code  int           // 0: no reply at all
	After time.Duration // how long it asks to be left alone
	Left  time.Time     // when the letter left; zero means after all that is known
}

// tells reports whether an answer is a failure of the provider, and not of one letter or recipient: a
// 450 for one mailbox says nothing of the next.
func (a Answer) tells() bool {
	switch a.Class {
	case retry.Misconfigured, retry.Ambiguous:
		return true
	case retry.Transient:
		return a.Code == 0 || a.Code == 421 || a.Code >= 500
	}
	return false
}

// After returns the health after an answer at now. jitter in [0, 1) spreads the ends of circuits.
//
// Failures in a row open the circuit, for longer each time; one probe then decides. A provider that is
// set up wrongly, or says for how long it fails, is shut at once. One that throttles is left alone for as
// long as it asks, and then gets its letters further apart; every success brings them a twentieth closer
// again. Of letters that left before the gap grew, the same "slow down" is one. Answers to letters that were on their
// way when the circuit opened do not open it anew.
func (h Health) After(a Answer, b Breaker, now time.Time, jitter float64) Health {
	b = b.withDefaults()
	switch {
	case a.Class == retry.Throttled:
		h.Probe = time.Time{}
		h.Class = a.Class
		if a.Left.IsZero() || a.Left.After(h.Slowed) {
			h.Gap, h.Slowed = min(max(firstGap, 2*h.Gap), longestGap), now
		}
		rest := max(a.After, h.Gap)
		if until := now.Add(rest); until.After(h.Until) {
			h.Until = until
		}
	case a.tells():
		h.Failures++
		h.Class = a.Class
		wrong := a.Class == retry.Misconfigured
		if now.Before(h.Until) || !wrong && a.After == 0 && h.Probe.IsZero() && h.Failures < openAfter {
			return h
		}
		base := b.First
		if wrong {
			base *= 4
		}
		rest := time.Duration(math.Min(float64(base)*math.Exp2(float64(min(h.Opened, 20))), float64(b.Longest)))
		rest = max(rest, a.After)
		h.Until = now.Add(rest + time.Duration(jitter*float64(rest)/10))
		h.Opened++
		h.Probe = time.Time{}
	default: // it works
		h = Health{Gap: h.Gap - h.Gap/20, Slowed: h.Slowed}
		if h.Gap < gone {
			h = Health{}
		}
	}
	return h
}

// What several recipient domains say within so short a time concerns the provider.
const (
	slowDomains     = 3
	SlowWithin      = time.Minute
	accusingDomains = 2
	AccusedWithin   = 10 * time.Minute
)

// Accused reports whether our account has been refused between before and h, both of one domain.
func (h Health) Accused(before Health) bool {
	return h.Class == retry.Misconfigured && h.Failures > before.Failures
}

// Widely reports whether what a domain's health has just come to concerns the provider: of its domains, so many have
// asked for fewer letters within [SlowWithin], and so many have refused our account within [AccusedWithin].
func (h Health) Widely(slowed, accusing int) bool {
	switch h.Class {
	case retry.Throttled:
		return slowed >= slowDomains
	case retry.Misconfigured:
		return accusing >= accusingDomains
	}
	return false
}

// Good reports whether there is nothing to remember.
func (h Health) Good() bool { return h == Health{} }

// Shut returns until when nothing is to be sent, and why; no words if something is. After a circuit was
// open one letter at a time is let through, which [Health.Probing] notes.
func (h Health) Shut(b Breaker, now time.Time) (until time.Time, why string) {
	switch {
	case now.Before(h.Until) && h.Class == retry.Throttled && h.Opened == 0:
		return h.Until, "it asked to be left alone"
	case now.Before(h.Until):
		return h.Until, "circuit open (" + string(h.Class) + ")"
	case h.Opened > 0 && now.Before(h.Probe.Add(b.probe())):
		soon := now.Add(min(b.withDefaults().First, time.Second)) // its answer may come any moment
		if end := h.Probe.Add(b.probe()); end.Before(soon) {
			soon = end
		}
		return soon, "one letter tries whether it works again, others wait"
	}
	return time.Time{}, ""
}

// Probing returns the health with a probe on its way, and whether the next letter is one: then it must
// be noted, for all workers, before it is sent.
func (h Health) Probing(now time.Time) (Health, bool) {
	if h.Opened == 0 {
		return h, false
	}
	h.Probe = now
	return h, true
}
