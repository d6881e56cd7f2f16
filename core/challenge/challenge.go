package challenge

import "time"

// Signup is the purpose of the challenge that confirms the address of a new account.
const Signup = "signup"

// A State is what is recorded of a challenge. That it has expired is not recorded: time tells.
type State string

// The states. A challenge leaves Open once and never returns.
const (
	Open     State = "open"
	Accepted State = "accepted" // the proof was used, together with the application's own writes
)

// A Challenge is one request to prove control of an address: the row, as the decisions need it.
// It is a value; methods return what to write and change nothing.
type Challenge struct {
	ID      string
	Purpose string
	Subject string // the application's identifier of the account
	Address string // exactly as it was given
	State   State
	Decoy   bool // made for an answer that must not tell; its letters are dropped

	Created  time.Time
	Ends     time.Time // the hard cap
	CodeLife time.Duration
	LinkLife time.Duration
	Digits   int

	Tries        int // spent so far
	TriesAllowed int

	Generation    int       // of the code, from 1
	CodeFrom      time.Time // first hand-over of the current generation; zero before it
	PreviousUntil time.Time // until when the generation before is still good; zero if there is none
	LinkFrom      time.Time // first hand-over of any letter; zero before it

	Resends     int
	ResendAfter time.Time
}

// Begin returns the lives and counters of a challenge that begins at now under p, which has its
// defaults. The caller fills in who and what for.
func Begin(p Policy, now time.Time) Challenge {
	return Challenge{
		State: Open, Created: now, Ends: now.Add(p.Cap),
		CodeLife: p.CodeLife, LinkLife: p.LinkLife, Digits: p.Digits, TriesAllowed: p.Tries,
		Generation: 1, ResendAfter: now.Add(p.rung(0)),
	}
}

// A Form is one of the two forms of the proof.
type Form string

// The forms.
const (
	Code Form = "code"
	Link Form = "link"
)

// An Outcome is the answer to whether a challenge can still be proven.
type Outcome string

// The outcomes.
const (
	Good        Outcome = "good"
	AlreadyDone Outcome = "already accepted"
	Expired     Outcome = "expired"
)

// Judge says whether the proof in form f may still be accepted at now. The instant of expiry is
// already too late.
func (c Challenge) Judge(f Form, now time.Time) Outcome {
	switch {
	case c.State == Accepted:
		return AlreadyDone
	case f == Link && !now.Before(c.LinkEnds()):
		return Expired
	case f == Code && len(c.Generations(now)) == 0:
		return Expired
	}
	return Good
}

// LinkEnds returns when the link stops working: LinkLife after the first hand-over, at the cap
// at the latest. Before any hand-over it is the cap: a proof that is quicker than the record of
// its own letter counts.
func (c Challenge) LinkEnds() time.Time { return c.end(c.LinkFrom, c.LinkLife) }

// CodeEnds is LinkEnds for the current generation of the code.
func (c Challenge) CodeEnds() time.Time { return c.end(c.CodeFrom, c.CodeLife) }

func (c Challenge) end(from time.Time, life time.Duration) time.Time {
	if from.IsZero() || from.Add(life).After(c.Ends) {
		return c.Ends
	}
	return from.Add(life)
}

// Generations returns the generations whose code is good at now, the newest first.
func (c Challenge) Generations(now time.Time) []int {
	var g []int
	if now.Before(c.CodeEnds()) {
		g = append(g, c.Generation)
	}
	if now.Before(c.PreviousUntil) && now.Before(c.Ends) {
		g = append(g, c.Generation-1)
	}
	return g
}

// A Resend is the decision on sending the letter again.
type Resend struct {
	Allowed bool
	At      time.Time // when it will be allowed, if it is not
	Next    Challenge // the row after it, if it is
}

// Resend decides whether the letter may be sent again at now under p, which has its defaults.
//
// The letter carries the same code again while that has a useful life left (Policy.Renew);
// otherwise the next generation begins, and the one before stays good to its own end, so that
// whichever letter the person opens works.
func (c Challenge) Resend(p Policy, now time.Time) Resend {
	if now.Before(c.ResendAfter) {
		return Resend{At: c.ResendAfter}
	}
	next := c
	if !c.CodeFrom.IsZero() && c.CodeEnds().Sub(now) < p.Renew {
		next.Generation++
		next.PreviousUntil = c.CodeEnds()
		next.CodeFrom = time.Time{}
	}
	next.Resends++
	next.ResendAfter = now.Add(p.rung(next.Resends))
	return Resend{Allowed: true, Next: next}
}

// HandedOver returns the row after a letter with this generation of the code went to a provider
// at now. Only the first hand-over of each starts a life.
func (c Challenge) HandedOver(generation int, now time.Time) Challenge {
	if c.LinkFrom.IsZero() {
		c.LinkFrom = now
	}
	if c.CodeFrom.IsZero() && generation == c.Generation {
		c.CodeFrom = now
	}
	return c
}
