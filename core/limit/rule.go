package limit

import (
	"cmp"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
)

// A Key is what a rule counts by.
type Key string

// The keys. A request that does not know its value under a key is not judged by rules with it.
const (
	Address Key = "address" // in its canonical form; a browser that signed in there before counts apart
	Subject Key = "subject" // of the application; where it is not known, or must not show, the address
	Network Key = "network" // one IPv4 address, or an IPv6 /64
	Domain  Key = "domain"  // of a mail address; of a phone number its country code
	Kind    Key = "kind"    // the purpose
	All     Key = "all"     // everything together
)

var keys = []Key{Address, Subject, Network, Domain, Kind, All}

// A Stage is which letters of a challenge a rule is about.
type Stage string

// The stages. The zero Stage is both.
const (
	First Stage = "first"
	Again Stage = "again" // a letter that was asked for once more
)

// A Medium is what carries the letter.
type Medium string

// The media. The zero Medium is both.
const (
	Mail Medium = "mail"
	SMS  Medium = "sms"
)

// A Rule limits how often something may happen. Exactly one of Rate, Quota, Ladder and AtOnce says how
// it counts.
type Rule struct {
	Name string // public: whoever is refused may see it. Lower case, digits and dashes
	By   Key

	// What it is about. The zero values mean everything.
	On     []string // purposes
	Stage  Stage
	Medium Medium
	New    bool // only letters to addresses that nobody need have confirmed

	Rate   Rate
	Quota  Quota
	Ladder Ladder
	AtOnce AtOnce

	Observe bool // it is judged and counted, and refuses nobody
}

// A Rate lets Times happen every Per, evenly, and up to Burst of them at once after a rest.
type Rate struct {
	Times int
	Per   time.Duration
	Burst int
}

// gap is how far apart two events of a steady stream are, in whole microseconds: rounded up, so that
// never more than Times happen.
func (r Rate) gap() time.Duration {
	n := time.Duration(r.Times) * time.Microsecond
	return (r.Per + n - 1) / n * time.Microsecond
}

// burst is how far ahead of a steady stream a full burst is.
func (r Rate) burst() time.Duration { return r.gap() * time.Duration(r.Burst) }

// A Quota lets Times happen in each calendar window.
type Quota struct {
	Times  int
	Window Window
	Zone   *time.Location // whose midnight ends it; nil means UTC
}

// A Window is a stretch of the calendar.
type Window string

// The windows.
const (
	Hour  Window = "hour"
	Day   Window = "day"
	Month Window = "month"
)

// Around returns the window that t is in. Days are as long as the zone's clock makes them.
func (q Quota) Around(t time.Time) (start, end time.Time) {
	zone := q.Zone
	if zone == nil {
		zone = time.UTC
	}
	local := t.In(zone)
	y, m, d := local.Date()
	switch q.Window {
	case Month:
		return time.Date(y, m, 1, 0, 0, 0, 0, zone), time.Date(y, m+1, 1, 0, 0, 0, 0, zone)
	case Day:
		return time.Date(y, m, d, 0, 0, 0, 0, zone), time.Date(y, m, d+1, 0, 0, 0, 0, zone)
	}
	// Hours are counted in absolute time: where clocks go back an hour comes twice.
	start = t.Add(-time.Duration(local.Minute())*time.Minute - time.Duration(local.Second())*time.Second - time.Duration(local.Nanosecond()))
	return start, start.Add(time.Hour)
}

// A Ladder makes the wait after each event longer: Rungs[0] after the first, and so on; the last one
// holds from there on. Every Decay of rest takes one event off the count.
type Ladder struct {
	Rungs []time.Duration
	Decay time.Duration
}

// An AtOnce lets Most things go on at the same time. One whose end nobody reports counts for Hold.
type AtOnce struct {
	Most int
	Hold time.Duration
}

// ErrRule matches every rule that cannot work.
var ErrRule = errors.New("limit: a rule that cannot work")

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

// check returns what is wrong with a rule.
func (r Rule) check() error {
	wrong := func(format string, args ...any) error {
		return fmt.Errorf("%w: %q: %s", ErrRule, r.Name, fmt.Sprintf(format, args...))
	}
	ways := 0
	for _, used := range []bool{r.Rate != Rate{}, r.Quota != Quota{}, len(r.Ladder.Rungs) > 0 || r.Ladder.Decay != 0, r.AtOnce != AtOnce{}} {
		if used {
			ways++
		}
	}
	switch {
	case !nameForm.MatchString(r.Name):
		return wrong("a name has lower-case letters, digits and dashes, 40 at most")
	case !slices.Contains(keys, r.By):
		return wrong("it counts by %q; say address, subject, network, domain, kind or all", r.By)
	case r.Stage != "" && r.Stage != First && r.Stage != Again:
		return wrong("its stage is %q; say first or again, or leave it out for both", r.Stage)
	case r.Medium != "" && r.Medium != Mail && r.Medium != SMS:
		return wrong("its medium is %q; say mail or sms, or leave it out for both", r.Medium)
	case ways == 0:
		return wrong("it does not say how often: give it a rate, a quota, a ladder, or how many at once")
	case ways > 1:
		return wrong("it says how often in more than one way; make each a rule of its own")
	}
	switch {
	case r.Rate != Rate{}:
		switch {
		case r.Rate.Times < 1 || r.Rate.Per <= 0:
			return wrong("a rate of %d every %v lets nothing through; both must be positive", r.Rate.Times, r.Rate.Per)
		case r.Rate.Burst < 1:
			return wrong("a burst of %d lets nothing through; it is at least 1", r.Rate.Burst)
		case r.Rate.gap() > 366*24*time.Hour/time.Duration(r.Rate.Burst):
			return wrong("a full burst takes longer than a year to come back")
		}
	case r.Quota != Quota{}:
		if r.Quota.Times < 1 {
			return wrong("a quota of %d lets nothing through; it is at least 1", r.Quota.Times)
		}
		if r.Quota.Window != Hour && r.Quota.Window != Day && r.Quota.Window != Month {
			return wrong("a quota is per hour, day or month, not per %q", r.Quota.Window)
		}
	case r.AtOnce != AtOnce{}:
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

// String says how often, in words that may be shown: "20 a day for one address".
func (r Rule) String() string {
	var how string
	switch {
	case r.Rate != Rate{}:
		how = fmt.Sprintf("%d %s", r.Rate.Times, per(r.Rate.Per))
		if r.Rate.Burst > 1 {
			how += fmt.Sprintf(", %d at once", r.Rate.Burst)
		}
	case r.Quota != Quota{}:
		how = fmt.Sprintf("%d a calendar %s", r.Quota.Times, r.Quota.Window)
		if r.Quota.Zone != nil && r.Quota.Zone != time.UTC {
			how += " in " + r.Quota.Zone.String()
		}
	case r.AtOnce != AtOnce{}:
		how = fmt.Sprintf("%d at the same time", r.AtOnce.Most)
	default:
		var rungs []string
		for _, rung := range r.Ladder.Rungs {
			rungs = append(rungs, plain(rung))
		}
		how = "waits of " + strings.Join(rungs, ", ") + ", one less for each " + plain(r.Ladder.Decay) + " of rest"
	}
	domain := map[Medium]string{"": " for one domain or country code", Mail: " for one domain", SMS: " for one country code"}[r.Medium]
	return how + map[Key]string{Address: " for one address", Subject: " for one subject", Network: " from one network", Domain: domain, Kind: " for one purpose", All: " in all"}[r.By]
}

// About says which letters a rule is about, in words: "first letters of signup by sms".
func (r Rule) About() string {
	words := map[Stage]string{"": "letters", First: "first letters", Again: "letters sent again"}[r.Stage]
	if len(r.On) > 0 {
		words += " of " + strings.Join(r.On, ", ")
	}
	if r.Medium != "" {
		words += " by " + string(r.Medium)
	}
	if r.New {
		words += " to addresses not yet confirmed"
	}
	return words
}

// per writes a stretch of time after a count.
func per(d time.Duration) string {
	switch d {
	case time.Second:
		return "a second"
	case time.Minute:
		return "a minute"
	case time.Hour:
		return "an hour"
	case 24 * time.Hour:
		return "every 24 h"
	}
	return "every " + plain(d)
}

// plain writes a duration without zero parts: 1h and not 1h0m0s.
func plain(d time.Duration) string {
	s := d.String()
	if strings.HasSuffix(s, "m0s") {
		s = s[:len(s)-2]
	}
	if strings.HasSuffix(s, "h0m") {
		s = s[:len(s)-2]
	}
	return s
}

// An Ask is one request, as rules look at it. Values are compared and never shown; they may be
// digests. Empty ones are not known.
type Ask struct {
	Purpose string
	Stage   Stage // First or Again
	Medium  Medium
	New     bool // goes to an address that nobody need have confirmed

	Address, Subject, Network, Domain string
	Browser                           string // of one that has signed in at the address before
}

// A Bound is a rule and what it counts a request under.
type Bound struct {
	Rule *Rule
	Name string // of the state: the key's value, and the rule's name
}

// A Set is rules that are judged together. It does not change and is safe for concurrent use. The zero
// Set refuses nothing.
type Set struct{ rules []Rule }

// NewSet returns a set of rules, or an error that matches [ErrRule] and names the one that is wrong.
func NewSet(rules ...Rule) (*Set, error) {
	seen := make(map[string]bool)
	for _, r := range rules {
		if err := r.check(); err != nil {
			return nil, err
		}
		if seen[r.Name] {
			return nil, fmt.Errorf("%w: two are named %q; names must differ", ErrRule, r.Name)
		}
		seen[r.Name] = true
	}
	return &Set{slices.Clone(rules)}, nil
}

// Rules returns the rules in the order in which they were given.
func (s *Set) Rules() []Rule { return slices.Clone(s.rules) }

// Bind returns the rules that a request is judged by, sorted by the names of their states, which is
// the order in which to lock them.
func (s *Set) Bind(a Ask) []Bound {
	out := make([]Bound, 0, len(s.rules))
	for i := range s.rules {
		r := &s.rules[i]
		if !r.applies(a) {
			continue
		}
		if value, known := a.under(r.By); known {
			out = append(out, Bound{r, value + ":" + r.Name}) // what one key is counted under stands together in a table
		}
	}
	slices.SortFunc(out, func(a, b Bound) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

func (r *Rule) applies(a Ask) bool {
	return (len(r.On) == 0 || slices.Contains(r.On, a.Purpose)) && (r.Stage == "" || r.Stage == a.Stage) &&
		(r.Medium == "" || r.Medium == a.Medium) && (!r.New || a.New)
}

// under returns a request's value under a key.
func (a Ask) under(k Key) (value string, known bool) {
	switch k {
	case All:
		return "", true
	case Kind:
		value = a.Purpose
	case Network:
		value = a.Network
	case Domain:
		value = a.Domain
	case Subject:
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
