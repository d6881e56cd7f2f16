package challenge

import (
	"fmt"
	"time"

	"github.com/illumicode/illumicode/core/otp"
)

// A Policy says how the challenges of one purpose live. Zero fields have the defaults of the
// purpose: those of [Signup] and [Reverify], and in brackets those of every other.
type Policy struct {
	Forms    Forms         // what letters carry; empty means both
	CodeLife time.Duration // from the first hand-over of the code; 0 means 10 m
	LinkLife time.Duration // from the first hand-over of any letter; 0 means 24 h (10 m)
	Cap      time.Duration // from the beginning, whatever the queue does; 0 means 72 h (60 m)
	Renew    time.Duration // a resend with less of CodeLife left brings a new code; 0 means 3/10 of it
	Digits   int           // length of the code; 0 means 6
	Tries    int           // wrong codes before the code form closes; 0 means 5

	// Ladder is the wait before the letter may be sent again: the first rung after the first
	// letter, and so on; the last rung holds from there on. Empty means 30 s, 1 m, 5 m, 15 m, 1 h.
	Ladder []time.Duration
}

// WithDefaults returns p with its zero fields filled in for a purpose, or an error that names the
// field whose value cannot work.
func (p Policy) WithDefaults(purpose string) (Policy, error) {
	def := func(d *time.Duration, v time.Duration) {
		if *d == 0 {
			*d = v
		}
	}
	if p.Forms == "" {
		p.Forms = Both
	}
	def(&p.CodeLife, 10*time.Minute)
	if purpose == Signup || purpose == Reverify {
		def(&p.LinkLife, 24*time.Hour)
		def(&p.Cap, 72*time.Hour)
	} else {
		def(&p.LinkLife, 10*time.Minute)
		def(&p.Cap, time.Hour)
	}
	def(&p.Renew, p.CodeLife*3/10)
	if p.Digits == 0 {
		p.Digits = otp.MinDigits
	}
	if p.Tries == 0 {
		p.Tries = 5
	}
	if len(p.Ladder) == 0 {
		p.Ladder = []time.Duration{30 * time.Second, time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour}
	}
	switch {
	case p.Forms != Both && p.Forms != CodeOnly && p.Forms != LinkOnly:
		return p, fmt.Errorf("challenge: Forms is both, code or link, not %q", p.Forms)
	case p.CodeLife < time.Second || p.LinkLife < time.Second || p.Cap < time.Second:
		return p, fmt.Errorf("challenge: CodeLife, LinkLife and Cap are at least a second, not %v, %v and %v", p.CodeLife, p.LinkLife, p.Cap)
	case p.Renew < 0 || p.Renew > p.CodeLife:
		return p, fmt.Errorf("challenge: Renew lies between 0 and CodeLife (%v), not %v", p.CodeLife, p.Renew)
	case p.Digits < otp.MinDigits || p.Digits > otp.MaxDigits:
		return p, fmt.Errorf("challenge: Digits lies between %d and %d, not %d", otp.MinDigits, otp.MaxDigits, p.Digits)
	case p.Tries < 1 || p.Tries > 20:
		return p, fmt.Errorf("challenge: Tries lies between 1 and 20, not %d", p.Tries)
	}
	for i, rung := range p.Ladder {
		if rung < 0 {
			return p, fmt.Errorf("challenge: rung %d of Ladder is negative: %v", i+1, rung)
		}
	}
	return p, nil
}

// Rung returns the wait after the letter has been sent n+1 times.
func (p Policy) Rung(n int) time.Duration { return p.Ladder[min(n, len(p.Ladder)-1)] }
