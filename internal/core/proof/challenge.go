package proof

import (
	"time"

	"github.com/illumicode/illumicode/challenge"
)

// A State is what is recorded of a challenge. That it has expired is not recorded: time tells.
type State string

// The states. A challenge leaves Open once and never returns.
const (
	Open     State = "open"
	Accepted State = "accepted" // the proof was used, together with the application's own writes
	Ended    State = "ended"    // it was called off; Challenge.Why says by what
)

// Why a challenge was called off.
const (
	Superseded = "superseded" // its browser began another one
	Occupied   = "occupied"   // an account has its address
	NotMe      = "not me"     // its reader says that somebody else began it
	Corrected  = "corrected"  // its address was mistyped, and another one took its place
	Undone     = "undone"     // a change of its subject's address was taken back
	Moved      = "moved"      // its subject has another address now
	Lapsed     = "lapsed"     // nobody proved it in time
	Closed     = "closed"     // the account of its subject was closed
	ByOperator = "operator"   // somebody at a keyboard ended it
)

// A Challenge is one request to prove control of an address: the row, as the decisions need it.
// It is a value; methods return what to write and change nothing.
type Challenge struct {
	ID      string
	Purpose string
	Subject string // the application's identifier of the account
	Address string // exactly as it was given; of a sign-in, as it was confirmed
	Typed   string // as whoever began has typed it, where that may be something else; empty else
	State   State
	Why     string // it has ended
	Decoy   bool   // made for an answer that must not tell; its letters are dropped
	Forms   challenge.Forms
	Action  string // digest of what the proof is good for, and nothing else; empty for no action in particular

	Created  time.Time
	Ends     time.Time // the hard cap
	CodeLife time.Duration
	LinkLife time.Duration
	Digits   int

	Tries        int // spent so far
	TriesAllowed int
	Tried        time.Time // the last one; zero before it

	Generation    int       // of the code, from 1
	CodeFrom      time.Time // first hand-over of the current generation; zero before it
	PreviousUntil time.Time // until when the generation before is still good; zero if there is none
	LinkFrom      time.Time // first hand-over of any letter; zero before it

	Resends     int
	ResendAfter time.Time
	Sent        time.Time // when its letter was last asked for: at the beginning, and by every resend
}

// Begin returns the lives and counters of a challenge that begins at now under p, which has its
// defaults. The caller fills in who and what for.
func Begin(p challenge.Policy, now time.Time) Challenge {
	return Challenge{
		State: Open, Created: now, Ends: now.Add(p.Cap),
		CodeLife: p.CodeLife, LinkLife: p.LinkLife, Digits: p.Digits, TriesAllowed: p.Tries, Forms: p.Forms,
		Generation: 1, ResendAfter: now.Add(Rung(p, 0)), Sent: now,
	}
}

// An Outcome is the answer to whether a challenge can still be proven.
type Outcome string

// The outcomes.
const (
	Good        Outcome = "good"
	AlreadyDone Outcome = "already accepted"
	CalledOff   Outcome = "called off"
	Expired     Outcome = "expired"
	NotOffered  Outcome = "not offered" // this challenge has no proof of that form
)

// Judge says whether the proof in form f may still be accepted at now. The instant of expiry is
// already too late.
func (c Challenge) Judge(f challenge.Form, now time.Time) Outcome {
	switch {
	case c.State == Accepted:
		return AlreadyDone
	case c.State == Ended && c.Why != Lapsed:
		return CalledOff
	case c.State == Ended:
		return Expired
	case !c.Forms.Has(f):
		return NotOffered
	case f == challenge.Link && !now.Before(c.LinkEnds()):
		return Expired
	case f == challenge.Code && len(c.Generations(now)) == 0:
		return Expired
	}
	return Good
}

// Asked says whether an answer in form f may still be looked at, at now: until the hard cap, whatever a provider did
// meanwhile. How long a code or a link lives is told to nobody but who has it.
func (c Challenge) Asked(f challenge.Form, now time.Time) Outcome {
	switch o := c.Judge(f, now); {
	case o == Expired && c.State == Open && now.Before(c.Ends):
		return Good
	default:
		return o
	}
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
// whichever letter the person opens works. A link whose life is over gets another one. The hard cap
// holds for all of it: after it, as after the end, nothing is sent, and At is zero.
func (c Challenge) Resend(p challenge.Policy, now time.Time) Resend {
	if c.State != Open || !now.Before(c.Ends) {
		return Resend{}
	}
	if now.Before(c.ResendAfter) {
		return Resend{At: c.ResendAfter}
	}
	next := c
	if !c.CodeFrom.IsZero() && c.CodeEnds().Sub(now) < p.Renew {
		next.Generation++
		next.PreviousUntil = c.CodeEnds()
		next.CodeFrom = time.Time{}
	}
	if c.Forms.Has(challenge.Link) && !now.Before(c.LinkEnds()) {
		next.LinkFrom = time.Time{} // its life begins again with the letter
	}
	next.Resends++
	next.ResendAfter = now.Add(Rung(p, next.Resends))
	next.Sent = now
	return Resend{Allowed: true, Next: next}
}

// Verdict is the outcome of the form that a challenge offers, the link's where it offers both.
func (c Challenge) Verdict(now time.Time) Outcome {
	if o := c.Judge(challenge.Link, now); o != NotOffered {
		return o
	}
	return c.Judge(challenge.Code, now)
}

// Burnt reports whether no try for a code is left, of a challenge that has one.
func (c Challenge) Burnt() bool { return c.Forms.Has(challenge.Code) && c.Tries >= c.TriesAllowed }

// Alive reports whether a form of the proof may still be accepted at now.
func (c Challenge) Alive(now time.Time) bool {
	return c.Judge(challenge.Link, now) == Good || c.Judge(challenge.Code, now) == Good
}

// grain is what the beginning of a life is rounded up to, counted from the moment in which the letter
// was asked for. How long a provider takes must not show in when a code expires: a decoy, which none
// takes, would be told by it.
const grain = 30 * time.Second

// HandedOver returns the row after a letter with this generation of the code went to a provider
// at now, or would have gone, if it is a decoy's. Only the first hand-over of each starts a life.
func (c Challenge) HandedOver(generation int, now time.Time) Challenge {
	if since := now.Sub(c.Sent); since > 0 && !c.Sent.IsZero() {
		now = c.Sent.Add((since + grain - 1) / grain * grain)
	}
	if c.LinkFrom.IsZero() {
		c.LinkFrom = now
	}
	if c.CodeFrom.IsZero() && generation == c.Generation {
		c.CodeFrom = now
	}
	return c
}
