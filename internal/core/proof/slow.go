package proof

import (
	"math"
	"time"

	"github.com/illumicode/illumicode/challenge"
)

// A Record is what is remembered of wrong codes at an address, or from a network. It fades: every
// hour counts half of what it did an hour before.
type Record struct {
	Failures float64 // as they counted at At
	At       time.Time
}

// fade is how long it takes until a failure counts half.
const fade = time.Hour

// Count returns what the failures count at now. A record from the future, after a clock has jumped,
// counts as one of now.
func (r Record) Count(now time.Time) float64 {
	age := max(0, now.Sub(r.At))
	return r.Failures * math.Exp2(-float64(age)/float64(fade))
}

// Failed returns the record after one more failure at now.
func (r Record) Failed(now time.Time) Record { return Record{Failures: r.Count(now) + 1, At: now} }

// The steps by which failures make guessing slower. Nothing here ever locks: whoever holds the
// address gets a try, at the latest half a minute after the one before.
const (
	freeFailures = 5                // so many cost nothing: people mistype
	maxPause     = 30 * time.Second // between two tries of one challenge
	fewerAfter   = 10.0             // failures after which a challenge of an unknown browser has three tries
	fewestAfter  = 30.0             // and after which it has one
)

// Pause returns how long a challenge waits between two of its tries, when failures count so much:
// nothing at first, then a second, doubling up to half a minute. It runs from the challenge's own
// last try, so that a stranger's tries never make the owner's first one wait.
func Pause(failures float64) time.Duration {
	over := failures - freeFailures
	if over < 0 {
		return 0
	}
	return min(time.Duration(math.Exp2(min(over, 10)))*time.Second, maxPause)
}

// TriesAfter returns how many tries a new challenge of an unknown browser has under p, when failures at
// its address count so much. It is never none.
func TriesAfter(p challenge.Policy, failures float64) int {
	switch {
	case failures >= fewestAfter:
		return 1
	case failures >= fewerAfter:
		return min(p.Tries, 3)
	}
	return p.Tries
}

// MaxOpen is how many challenges of sign-in may be open for an address, for all unknown browsers
// together, and for each known one.
const MaxOpen = 3

// place returns until when a challenge of sign-in takes one of these places: for one and a half lives
// of its code, from when its letter was last asked for. Nothing else counts, such as that it was
// accepted or when its letter left: whoever sees a place become free must not learn that somebody has
// an account.
func (c Challenge) place() time.Time {
	end := c.Sent.Add(c.CodeLife * 3 / 2)
	if end.After(c.Ends) {
		return c.Ends
	}
	return end
}

// Room decides whether one more challenge may begin beside others for the same address, all of
// unknown browsers or all of one known browser, whatever has become of them. If not, at is when there
// is room.
func Room(others []Challenge, now time.Time) (ok bool, at time.Time) {
	taken := 0
	for _, c := range others {
		end := c.place()
		if !now.Before(end) {
			continue
		}
		taken++
		if at.IsZero() || end.Before(at) {
			at = end
		}
	}
	if taken < MaxOpen {
		return true, time.Time{}
	}
	return false, at
}

// Odds returns the chance that somebody who uses up all tries of one challenge guesses its code:
// every try is compared with two codes at most, the current one and the one before.
func Odds(p challenge.Policy) float64 {
	return 1 - math.Pow(1-2/math.Pow10(p.Digits), float64(p.Tries))
}
