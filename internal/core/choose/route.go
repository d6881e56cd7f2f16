// Package choose chooses the provider for the next attempt of a delivery, and keeps its health in mind.
// [Choose] is the function to read first.
//
// It is pure and can be replayed: what is known comes in, the choice goes out with its reasons, and
// chance is an argument.
package choose

import (
	"cmp"
	"errors"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/illumicode/illumicode/route"
)

// A Candidate is a provider and what is known of it for the delivery at hand. Candidates come in the
// order of the configuration.
type Candidate struct {
	Name   string
	Weight int     // for Weights; 0 or less means 1
	Cost   float64 // for Cost

	Unable  string    // why it can never carry this delivery; empty if it can
	Paused  bool      // an operator has paused it
	FreeAt  time.Time // when one of its caps has room again; zero if they have room
	Cap     string    // which one
	Health  Health
	Breaker Breaker
	Tried   int  // how often the delivery was attempted with it
	Unsure  bool // the latest attempt was with it, and may have been taken
	Carried bool // it has carried an earlier letter of the same challenge
}

// Check returns what is wrong with the terms.
func Check(t route.Terms) error {
	if t.Cost < 0 || t.Weight < 0 {
		return errors.New("its weight or its cost is negative")
	}
	return CheckCaps(t.Caps)
}

// Choosy reports whether a provider is not for every recipient.
func Choosy(t route.Terms) bool { return len(t.Only)+len(t.Never) > 0 }

// Takes reports whether a provider is for recipients of a domain, or of a phone number.
func Takes(t route.Terms, domain string) bool {
	among := func(list []string) bool {
		return slices.ContainsFunc(list, func(one string) bool {
			one = strings.ToLower(one)
			if strings.HasPrefix(one, "+") {
				return strings.HasPrefix(domain, one)
			}
			return domain == one || strings.HasSuffix(domain, "."+one)
		})
	}
	return (len(t.Only) == 0 || among(t.Only)) && !among(t.Never)
}

// A Choice is what Choose has come to.
type Choice struct {
	Provider string    // empty if none can go now
	At       time.Time // then: when one can; zero if only an operator can change that, or nobody
	Paused   string    // then: one that could go, and is paused
	Reasons  []Reason  // one for each candidate
}

// Spare reports whether another candidate than the chosen one could go as well, and was tried no more
// often: what fails with the chosen one need not wait.
func (c Choice) Spare(all []Candidate) bool {
	for i, a := range all {
		if a.Name != c.Provider && c.Reasons[i].Words == notNeeded {
			for _, b := range all {
				if b.Name == c.Provider && a.Tried <= b.Tried {
					return true
				}
			}
		}
	}
	return false
}

// notNeeded is the reason of a candidate that could have gone.
const notNeeded = "not needed"

// A Reason says what became of one candidate.
type Reason struct {
	Provider, Words string
	until           string    // the words between Words and At: " until "
	At              time.Time // when it ends; zero if that is not known
}

// String writes a reason: "harbour: day quota used, free at 11-24 00:00:00". It is worked out only here:
// most reasons are never read.
func (r Reason) String() string {
	if r.At.IsZero() {
		return r.Provider + ": " + r.Words
	}
	return r.Provider + ": " + r.Words + r.until + clock(r.At)
}

// String writes all reasons as an operator reads them: "harbour: …; pier: …; beacon: chosen".
func (c Choice) String() string {
	parts := make([]string, len(c.Reasons))
	for i, r := range c.Reasons {
		parts[i] = r.String()
	}
	return strings.Join(parts, "; ")
}

// Choose returns the provider for the next attempt at now. dice is a random number in [0, 1).
//
// A delivery whose latest attempt may have been taken goes to the same provider, which alone can
// recognise the repeat, and waits for it; only with elsewhere, as for a letter whose proof stays the
// same, it may go to another while that one cannot go.
func Choose(all []Candidate, by route.Order, elsewhere bool, dice float64, now time.Time) Choice {
	c := Choice{Reasons: make([]Reason, 0, len(all))}
	var few [16]int // on the stack, where there are no more providers than that
	ready := few[:0]
	bound := -1 // the one that must take the repeat
	for i := range all {
		a := &all[i]
		r := a.ready(now)
		at := r.At
		if r.Words == "" {
			ready = append(ready, i)
		}
		if a.Unsure && a.Unable == "" {
			bound = i
		}
		if a.Paused && a.Unable == "" && c.Paused == "" {
			c.Paused = a.Name
		}
		if !at.IsZero() && (c.At.IsZero() || at.Before(c.At)) {
			c.At = at
		}
		c.Reasons = append(c.Reasons, r)
	}
	if bound >= 0 {
		switch can := slices.Contains(ready, bound); {
		case can:
			return c.took(all, bound, "chosen, as it may have the letter and alone can tell a repeat")
		case !elsewhere:
			c.At = all[bound].ready(now).At
			if !all[bound].Paused {
				c.Paused = ""
			}
			for _, i := range ready {
				c.Reasons[i] = Reason{Provider: all[i].Name, Words: "passed over, as " + all[bound].Name +
					" may have the letter"}
			}
			return c
		}
	}
	if len(ready) == 0 {
		return c
	}
	best, why := pick(all, ready, by, dice)
	return c.took(all, best, why)
}

// took completes a choice.
func (c Choice) took(all []Candidate, best int, why string) Choice {
	c.Provider, c.At, c.Paused = all[best].Name, time.Time{}, ""
	for i := range c.Reasons {
		switch {
		case i == best:
			c.Reasons[i] = Reason{Provider: all[i].Name, Words: why}
		case c.Reasons[i].Words == "":
			c.Reasons[i].Words = notNeeded
		}
	}
	return c
}

// pick returns the best of those that are ready, of which there is one at least, and why.
func pick(all []Candidate, ready []int, by route.Order, dice float64) (best int, why string) {
	why = "chosen"
	if rest := least(all, ready, func(c *Candidate) int { return c.Tried }); len(rest) < len(ready) {
		ready, why = rest, "chosen, as another was tried before"
	}
	if rest := least(all, ready, carriedBefore); len(rest) < len(ready) {
		ready, why = rest, "chosen, as another carried the letter before"
	}
	switch by {
	case route.Cost:
		cheapest := slices.MinFunc(ready, func(a, b int) int { return cmp.Compare(all[a].Cost, all[b].Cost) })
		return cheapest, why
	case route.Weights:
		total := 0
		for _, i := range ready {
			total += max(all[i].Weight, 1)
		}
		at := int(dice * float64(total))
		for _, i := range ready {
			if at -= max(all[i].Weight, 1); at < 0 {
				return i, why
			}
		}
	}
	return ready[0], why
}

func carriedBefore(c *Candidate) int {
	if c.Carried {
		return 1
	}
	return 0
}

// least returns those of ready whose score is the lowest, in the place of ready.
func least(all []Candidate, ready []int, score func(*Candidate) int) []int {
	low := math.MaxInt
	for _, i := range ready {
		low = min(low, score(&all[i]))
	}
	return slices.DeleteFunc(ready, func(i int) bool { return score(&all[i]) > low })
}

// ready returns why a candidate cannot go at now, and when it can; no words if it can.
func (c *Candidate) ready(now time.Time) Reason {
	r := Reason{Provider: c.Name}
	switch {
	case c.Unable != "":
		r.Words = c.Unable
		return r
	case c.Paused:
		r.Words = "paused"
		return r
	}
	if until, why := c.Health.Shut(c.Breaker, now); why != "" {
		r.At, r.Words, r.until = until, why, " until "
	}
	if c.FreeAt.After(now) && c.FreeAt.After(r.At) {
		r.At, r.Words, r.until = c.FreeAt, c.Cap, ", free at "
	}
	return r
}

// clock writes an instant with the day, as reasons are read much later.
func clock(t time.Time) string { return t.UTC().Format("01-02 15:04:05") }
