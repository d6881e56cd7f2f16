package judge

import (
	"cmp"
	"fmt"
	"math"
	"regexp"
	"slices"
	"time"

	"github.com/illumicode/illumicode/limit"
)

var keys = []limit.Key{limit.Address, limit.Subject, limit.Network, limit.Domain, limit.Kind, limit.All}

// gap is how far apart two events of a steady stream are, in whole microseconds: rounded up, so that
// never more than Times happen.
func gap(r limit.Rate) time.Duration {
	n := time.Duration(r.Times) * time.Microsecond
	return (r.Per + n - 1) / n * time.Microsecond
}

// burst is how far ahead of a steady stream a full burst is.
func burst(r limit.Rate) time.Duration { return gap(r) * time.Duration(r.Burst) }

// Around returns the window that t is in. Days are as long as the zone's clock makes them.
func Around(q limit.Quota, t time.Time) (start, end time.Time) {
	zone := q.Zone
	if zone == nil {
		zone = time.UTC
	}
	local := t.In(zone)
	y, m, d := local.Date()
	switch q.Window {
	case limit.Month:
		return time.Date(y, m, 1, 0, 0, 0, 0, zone), time.Date(y, m+1, 1, 0, 0, 0, 0, zone)
	case limit.Day:
		return time.Date(y, m, d, 0, 0, 0, 0, zone), time.Date(y, m, d+1, 0, 0, 0, 0, zone)
	}
	// Hours are counted in absolute time: where clocks go back an hour comes twice.
	start = t.Add(-time.Duration(local.Minute())*time.Minute - time.Duration(
		local.Second())*time.Second - time.Duration(local.Nanosecond()))
	return start, start.Add(time.Hour)
}

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

// wrongly returns what makes an error about a rule.
func wrongly(r limit.Rule) func(format string, args ...any) error {
	return func(format string, args ...any) error {
		return fmt.Errorf("%w: %q: %s", limit.ErrRule, r.Name, fmt.Sprintf(format, args...))
	}
}

// Check returns what is wrong with a rule.
func Check(r limit.Rule) error {
	return cmp.Or(checkScope(r), checkShare(r), checkPace(r))
}

// checkShare returns what is wrong with what a rule reserves, and with how it counts wrong codes.
func checkShare(r limit.Rule) error {
	wrong, ladder := wrongly(r), len(r.Ladder.Rungs) > 0
	switch {
	case r.Reserved < 0 || r.Reserved >= 1:
		return wrong("it reserves %g of what it lets through; say a share from 0 to below 1", r.Reserved)
	case r.Reserved > 0 && r.By != limit.All && r.By != limit.Kind && r.By != limit.Domain:
		return wrong("it counts by %s and reserves a share; only rules by all, kind and domain are for everybody", r.By)
	case r.Reserved > 0 && (ladder || r.AtOnce != limit.AtOnce{}):
		return wrong("it reserves a share, which only a rate and a quota have")
	case r.Stage == limit.Wrong && r.By != limit.Network:
		return wrong(
			"wrong codes are counted by network, not by %q: by address, whoever typed them would lock its owner out",
			r.By)
	case r.Stage == limit.Wrong && ladder:
		return wrong("wrong codes are counted by a rate or a quota; a ladder would make every one wait")
	}
	return nil
}

// checkScope returns what is wrong with what a rule is about.
func checkScope(r limit.Rule) error {
	wrong := wrongly(r)
	ways := 0
	for _, used := range []bool{r.Rate != limit.Rate{}, r.Quota != limit.Quota{}, len(r.Ladder.Rungs) > 0 ||
		r.Ladder.Decay != 0, r.AtOnce != limit.AtOnce{}} {
		if used {
			ways++
		}
	}
	switch {
	case !nameForm.MatchString(r.Name):
		return wrong("a name has lower-case letters, digits and dashes, 40 at most")
	case !slices.Contains(keys, r.By):
		return wrong("it counts by %q; say address, subject, network, domain, kind or all", r.By)
	case r.Stage != "" && r.Stage != limit.First && r.Stage != limit.Again && r.Stage != limit.Wrong:
		return wrong("its stage is %q; say first, again or wrong, or leave it out for all letters", r.Stage)
	case r.Medium != "" && r.Medium != limit.Mail && r.Medium != limit.SMS:
		return wrong("its medium is %q; say mail or sms, or leave it out for both", r.Medium)
	case ways == 0:
		return wrong("it does not say how often: give it a rate, a quota, a ladder, or how many at once")
	case ways > 1:
		return wrong("it says how often in more than one way; make each a rule of its own")
	}
	return nil
}

// checkPace returns what is wrong with how often a rule lets something happen.
func checkPace(r limit.Rule) error {
	wrong := wrongly(r)
	switch {
	case r.Rate != limit.Rate{}:
		switch {
		case r.Rate.Times < 1 || r.Rate.Per <= 0:
			return wrong("a rate of %d every %v lets nothing through; both must be positive", r.Rate.Times, r.Rate.Per)
		case r.Rate.Burst < 1:
			return wrong("a burst of %d lets nothing through; it is at least 1", r.Rate.Burst)
		case gap(r.Rate) > 366*24*time.Hour/time.Duration(r.Rate.Burst):
			return wrong("a full burst takes longer than a year to come back")
		}
	case r.Quota != limit.Quota{}:
		if r.Quota.Times < 1 {
			return wrong("a quota of %d lets nothing through; it is at least 1", r.Quota.Times)
		}
		if r.Quota.Window != limit.Hour && r.Quota.Window != limit.Day && r.Quota.Window != limit.Month {
			return wrong("a quota is per hour, day or month, not per %q", r.Quota.Window)
		}
	case r.AtOnce != limit.AtOnce{}:
		if r.AtOnce.Most < 1 || r.AtOnce.Hold <= 0 {
			return wrong("%d at once, held for %v; both must be positive", r.AtOnce.Most, r.AtOnce.Hold)
		}
	default:
		if len(r.Ladder.Rungs) == 0 || r.Ladder.Decay <= 0 {
			return wrong("a ladder needs rungs, and a decay that is positive")
		}
		for i, rung := range r.Ladder.Rungs {
			if rung < 0 || i > 0 && rung < r.Ladder.Rungs[i-1] {
				return wrong("rung %d of the ladder is %v; rungs are not negative and do not get shorter", i+1, rung)
			}
		}
	}
	return nil
}

// A Request is one request, as rules look at it. Values are compared and never shown; they may be
// digests. Empty ones are not known.
type Request struct {
	Purpose string
	Stage   limit.Stage // First, Again or Wrong
	Medium  limit.Medium
	New     bool // goes to an address that nobody need have confirmed

	Address, Subject, Network, Domain string
	Browser                           string // of one that has signed in at the address before

	Vouched bool // it presents what strangers do not have
}

// Told is what rules call text messages that tell an owner what must not be told to who asked.
const Told = "told"

// A Bound is a rule and what it counts a request under.
type Bound struct {
	Rule *limit.Rule
	Name string // of the state: the key's value, and the rule's name

	open *limit.Rule // the rule without what it reserves, for a request that is not vouched for; nil for the same
}

// as returns the rule by which the request is judged.
func (b Bound) as() *limit.Rule {
	if b.open != nil {
		return b.open
	}
	return b.Rule
}

// Reserves reports whether the request would be judged by more of the rule if it was vouched for.
func (b Bound) Reserves() bool { return b.open != nil }

// unreserved returns a rule without what it reserves.
func unreserved(r limit.Rule) *limit.Rule {
	kept := func(whole int) int { return max(1, whole-int(math.Ceil(float64(whole)*r.Reserved))) }
	if r.Rate.Times > 0 {
		r.Rate.Burst = kept(r.Rate.Burst)
	} else {
		r.Quota.Times = kept(r.Quota.Times)
	}
	return &r
}

// A Set is rules that are judged together. It does not change and is safe for concurrent use. The zero
// Set refuses nothing.
type Set struct {
	rules []limit.Rule
	open  []*limit.Rule // without what they reserve
}

// NewSet returns a set of rules, or an error that matches limit.ErrRule and names the one that is wrong.
func NewSet(rules ...limit.Rule) (*Set, error) {
	seen := make(map[string]bool)
	for _, r := range rules {
		if err := Check(r); err != nil {
			return nil, err
		}
		if seen[r.Name] {
			return nil, fmt.Errorf("%w: two are named %q; names must differ", limit.ErrRule, r.Name)
		}
		seen[r.Name] = true
	}
	s := &Set{rules: slices.Clone(rules), open: make([]*limit.Rule, len(rules))}
	for i, r := range rules {
		if r.Reserved > 0 {
			s.open[i] = unreserved(r)
		}
	}
	return s, nil
}

// Rules returns the rules in the order in which they were given.
func (s *Set) Rules() []limit.Rule { return slices.Clone(s.rules) }

// Bind returns the rules that a request is judged by, sorted by the names of their states, which is
// the order in which to lock them.
func (s *Set) Bind(a Request) []Bound {
	out := make([]Bound, 0, len(s.rules))
	for i := range s.rules {
		r := &s.rules[i]
		if !applies(r, a) {
			continue
		}
		if value, known := a.under(r.By); known {
			// what one key is counted under stands together in a table
			b := Bound{Rule: r, Name: value + ":" + r.Name}
			if r.Reserved > 0 && !a.Vouched {
				b.open = s.open[i]
			}
			out = append(out, b)
		}
	}
	slices.SortFunc(out, func(a, b Bound) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

func applies(r *limit.Rule, a Request) bool {
	return (len(r.On) == 0 || slices.Contains(r.On, a.Purpose)) &&
		(r.Stage == a.Stage || r.Stage == "" && a.Stage != limit.Wrong) &&
		(r.Medium == "" || r.Medium == a.Medium) && (!r.New || a.New)
}

// under returns a request's value under a key.
func (a Request) under(k limit.Key) (value string, known bool) {
	switch k {
	case limit.All:
		return "", true
	case limit.Kind:
		value = a.Purpose
	case limit.Network:
		value = a.Network
	case limit.Domain:
		value = a.Domain
	case limit.Subject:
		if a.Subject != "" {
			return "s " + a.Subject, true
		}
		value = a.Address
	default:
		value = a.Address
		if a.Browser != "" {
			value += " " + a.Browser
		}
	}
	return value, value != ""
}
