package proof

import (
	"fmt"
	"time"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/otp"
)

// WithDefaults returns p with its zero fields filled in for a purpose, or an error that names the
// field whose value cannot work.
func WithDefaults(p challenge.Policy, purpose string) (challenge.Policy, error) {
	def := func(d *time.Duration, v time.Duration) {
		if *d == 0 {
			*d = v
		}
	}
	if p.Forms == "" {
		p.Forms = challenge.Both
	}
	def(&p.CodeLife, 10*time.Minute)
	if purpose == challenge.Signup || purpose == challenge.Reverify {
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
	case p.Forms != challenge.Both && p.Forms != challenge.CodeOnly && p.Forms != challenge.LinkOnly:
		return p, fmt.Errorf("challenge: Forms is both, code or link, not %q", p.Forms)
	case p.CodeLife < time.Second || p.LinkLife < time.Second || p.Cap < time.Second:
		return p, fmt.Errorf("challenge: CodeLife, LinkLife and Cap are at least a second, not %v, %v and %v",
			p.CodeLife, p.LinkLife, p.Cap)
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
func Rung(p challenge.Policy, n int) time.Duration { return p.Ladder[min(n, len(p.Ladder)-1)] }
