package limit

import (
	"errors"
	"fmt"
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

// A Stage is which letters of a challenge a rule is about, or its wrong codes.
type Stage string

// The stages. The zero Stage is First and Again.
const (
	First Stage = "first"
	Again Stage = "again" // a letter that was asked for once more
	Wrong Stage = "wrong" // a wrong code, of a browser that is not known
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

	// Reserved is the share of a rule for everybody (All, Kind, Domain) that strangers leave to requests which present
	// something: a known browser, a session, or what the application vouches for. So nobody closes the door for these.
	Reserved float64

	Observe bool // it is judged and counted, and refuses nobody
}

// A Rate lets Times happen every Per, evenly, and up to Burst of them at once after a rest.
type Rate struct {
	Times int
	Per   time.Duration
	Burst int
}

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
	domain := map[Medium]string{"": " for one domain or country code", Mail: " for one domain",
		SMS: " for one country code"}[r.Medium]
	reserved := ""
	if r.Reserved > 0 {
		reserved = fmt.Sprintf(", %g %% of it reserved", 100*r.Reserved)
	}
	return how + map[Key]string{Address: " for one address", Subject: " for one subject", Network: " from one network",
		Domain: domain, Kind: " for one purpose", All: " in all"}[r.By] + reserved
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
