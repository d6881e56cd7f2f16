// Package verdict judges what an attempt to deliver has led to: done, again and when, or never.
// [Judge] is the function to read first. It is pure: the instant and the dice are arguments.
package verdict

import (
	"math"
	"time"

	"github.com/illumicode/illumicode/retry"
)

// Known reports whether c is one of the classes of this version.
func Known(c retry.Class) bool {
	switch c {
	case retry.Accepted, retry.Ambiguous, retry.Transient, retry.Throttled, retry.Misconfigured, retry.RecipientRefused,
		retry.MessageRefused:
		return true
	}
	return false
}

// HandedOver reports whether the letter may have left for its recipient, which is when the life
// of a proof in it begins.
func HandedOver(c retry.Class) bool { return c == retry.Accepted || c == retry.Ambiguous }

func withDefaults(p retry.Policy) retry.Policy {
	if p.Base <= 0 {
		p.Base = 5 * time.Second
	}
	if p.Max <= 0 {
		p.Max = 4 * time.Hour
	}
	return p
}

// Of a letter that is tried by time.
const (
	insist       = 4 * 24 * time.Hour // from its first attempt
	mostAttempts = 45                 // that count
)

// A Delivery is what Judge needs to know of the delivery whose attempt has ended.
type Delivery struct {
	Attempts      int           // attempts so far that count, this one included
	First         time.Time     // when the first of all began; zero means just now
	DeliverBefore time.Time     // zero means no deadline
	After         time.Duration // how long the provider wants to be left alone; 0 if it did not say
	Elsewhere     bool          // another provider can go at once
	Domain        bool          // what throttles is the recipient's domain, and not the provider
}

// A Verdict is what to do now.
type Verdict struct {
	Action Action
	At     time.Time // when to try again, if Action is Again
	Spent  bool      // whether the attempt counts towards Policy.Attempts
}

// An Action is what becomes of a delivery after an attempt.
type Action string

// The actions.
const (
	Done    Action = "done"
	Again   Action = "again"
	GiveUp  Action = "give up"
	TooLate Action = "too late" // the next attempt would come after the deadline
)

// Judge returns what to do after an attempt that ended at now with class c. jitter is a random
// number in [0, 1): of the exponential bound one half is always waited, and of the other what
// jitter says, so that deliveries that failed together do not come back together.
//
// Refusals end the delivery. An ambiguous attempt is repeated: the letter carries the same bytes
// and the same Message-ID, so that the recipient's side can tell a repeat. A misconfigured
// provider or one that throttles spends no attempt: the letter is not to blame, and waits without end. For a
// recipient's domain that throttles it waits no longer than for any other reason. What a provider asks to wait is
// waited, and a share of Base more, so that not all come back at once. Where
// another provider can go at once, only a tenth of Base is waited, and up to as much again: but not after
// an ambiguous attempt, whose repeat belongs to the provider that may have the letter.
func Judge(p retry.Policy, d Delivery, c retry.Class, now time.Time, jitter float64) Verdict {
	p = withDefaults(p)
	switch c {
	case retry.Accepted:
		return Verdict{Action: Done, Spent: true}
	case retry.RecipientRefused, retry.MessageRefused:
		return Verdict{Action: GiveUp, Spent: true}
	}
	spent := c != retry.Misconfigured && c != retry.Throttled
	byTime := p.Attempts <= 0
	if byTime {
		p.Attempts = mostAttempts
	}
	if spent && d.Attempts >= p.Attempts {
		return Verdict{Action: GiveUp, Spent: true}
	}
	at := now.Add(wait(p, d.Attempts, jitter))
	if d.After > 0 {
		at = now.Add(d.After + time.Duration(jitter*float64(p.Base)))
	}
	if d.Elsewhere && c != retry.Ambiguous { // what one provider does not do now, another may
		at = now.Add(p.Base/10 + time.Duration(jitter*float64(p.Base)/10))
	}
	if !d.DeliverBefore.IsZero() && !at.Before(d.DeliverBefore) {
		return Verdict{Action: TooLate, Spent: spent}
	}
	endless := !spent && !(c == retry.Throttled && d.Domain)
	if !endless && byTime && d.DeliverBefore.IsZero() && !d.First.IsZero() && at.After(d.First.Add(insist)) {
		return Verdict{Action: GiveUp, Spent: spent}
	}
	return Verdict{Action: Again, At: at, Spent: spent}
}

// wait returns the pause after attempt n, counted from 1: half of min(Base·2^(n-1), Max), and a share of the other
// half that jitter chooses.
func wait(p retry.Policy, n int, jitter float64) time.Duration {
	bound := math.Min(float64(p.Max), float64(p.Base)*math.Pow(2, float64(max(n, 1)-1)))
	return time.Duration((1 + jitter) / 2 * bound)
}
