// Package rehearsal plays a scenario in virtual time: people who ask for codes, strangers who press the
// button for them, notices to many, providers with caps and bad days. What decides is what decides in
// production: packages limit, challenge, route and retry. [Run] is the function to read first.
//
// It is one process on one machine, a day in seconds, and the same for the same seed. It has no database:
// what that takes is [Scenario.Machine]. Workers that die, and claims that are lost, are not played.
package rehearsal

import (
	"errors"
	"fmt"
	"time"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/choose"
	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/limit"
	"github.com/illumicode/illumicode/retry"
	"github.com/illumicode/illumicode/route"
)

// The lanes, the fastest first.
const (
	Urgent = iota
	Normal
	Bulk
	lanes
)

// LaneNames are what the lanes are called.
var LaneNames = [lanes]string{"urgent", "normal", "bulk"}

// A Scenario is what is played. Start, For and one provider are required.
type Scenario struct {
	Name   string
	Start  time.Time
	For    time.Duration
	Sample time.Duration // how often the figures over time are taken; 0 or less means a 240th of For
	Seed   uint64

	Senders  int           // letters in work at once; 0 or less means 64
	Reserved int           // of these, for the urgent lane alone; 0 means a quarter, less than 0 none
	Machine  float64       // letters a second that the worker and its database get through; 0 or less means any number
	Attempt  time.Duration // the longest attempt; 0 or less means 11 m
	Weights  [lanes]int    // 0 means 16, 4 and 1
	Order    route.Order
	Retry    retry.Policy
	Rules    []limit.Rule

	// Policies are the lives of challenges by purpose; what is missing has the defaults.
	Policies map[string]challenge.Policy

	Providers []Provider
	People    []People
	Notices   []Notice
}

// A Provider is a way out, and its temper.
type Provider struct {
	Name    string
	Mail    bool
	SMS     bool
	Terms   route.Terms
	Breaker choose.Breaker
	Latency Spread // of an answer

	// Which letters it may carry, where those with a proof and notices have senders of their own. Neither
	// means both.
	Challenges, Notices bool

	Fail    float64 // share of attempts that fail for now
	Refuse  float64 // share of recipients that it refuses for good
	Outages []Outage
}

// A Spread is how long something takes: half of the times up to Median, all but one in a hundred up to
// High. It is log-normal. High is at least Median; 0 means twice that.
type Spread struct{ Median, High time.Duration }

// An Outage is a time in which a provider does not do what it should. From and Until count from the
// scenario's start.
type Outage struct {
	From, Until time.Duration
	How         How
	Latency     time.Duration // of Slow and Throttles
	After       time.Duration // how long Throttles asks to be left alone; 0 for no word of it
}

// How is what goes wrong.
type How string

// What can go wrong.
const (
	Down      How = "down"      // no connection
	Hangs     How = "hangs"     // takes the letter and says nothing, until the attempt is given up
	Slow      How = "slow"      // answers late
	Throttles How = "throttles" // says "not so fast"
)

// People are those who ask for a letter with a proof, and wait for it; or, with Attack, strangers who ask
// for letters to others.
type People struct {
	Name        string
	Purpose     string // signup, signin, …
	From, Until time.Duration
	PerMinute   float64 // who come, evenly at random
	InLine      int     // instead: so many at a time, the next one when one has their code
	Attack      bool    // nobody reads the letters, and whoever is refused comes again as often
	Known       bool    // the address is confirmed: rules about new ones do not hold
	Addresses   int     // so many that they come from; 0 means that each has an own one
	Networks    int     // the same for networks; 0 means that each has an own one
	Domain      string  // of their addresses; with SMS the country code, such as +47
	SMS         bool

	Takes   Spread        // what the application does with a request before the letter is enqueued
	Transit Spread        // from the provider's acceptance to the mailbox
	Press   time.Duration // without a letter they press "send again" after this; 0 or less means never
	Presses int           // at most so often; 0 or less means 3
	Patient time.Duration // after this they give up; 0 or less means 10 m
}

// A Notice is a letter to many.
type Notice struct {
	Name    string
	Lane    int
	At      time.Duration
	Count   int
	SMS     float64       // share of text messages
	Domain  string        // of the mail addresses
	Country string        // code of the phone numbers, such as +47; required with SMS
	Within  time.Duration // no longer delivered after this; 0 or less for no end
}

// withDefaults returns s with its zero fields filled in, or what is wrong with it.
func (s Scenario) withDefaults() (Scenario, error) {
	if s.Start.IsZero() || s.For <= 0 {
		return s, errors.New("start and for are required: when it begins, and how long it goes on")
	}
	if len(s.Providers) > maxWays {
		return s, fmt.Errorf("it has %d providers, more than %d", len(s.Providers), maxWays)
	}
	if len(s.Providers) == 0 {
		return s, errors.New("it has no provider; without a way out no letter arrives")
	}
	s = s.sized()
	names := make(map[string]bool)
	s.Providers = append([]Provider(nil), s.Providers...)
	for i := range s.Providers {
		p := &s.Providers[i]
		if !p.Challenges && !p.Notices {
			p.Challenges, p.Notices = true, true
		}
		if p.Name == "" || names[p.Name] {
			return s, fmt.Errorf("provider %q: names are required, and must differ", p.Name)
		}
		names[p.Name] = true
		if err := p.check(s.For); err != nil {
			return s, fmt.Errorf("provider %q: %w", p.Name, err)
		}
	}
	policies := make(map[string]challenge.Policy)
	s.People = append([]People(nil), s.People...)
	for i := range s.People {
		p := &s.People[i]
		var err error
		if err = p.check(s.For); err == nil {
			policies[p.Purpose], err = proof.WithDefaults(s.Policies[p.Purpose], p.Purpose)
		}
		if err != nil {
			return s, fmt.Errorf("people %q: %w", p.Name, err)
		}
	}
	s.Policies = policies
	return s, s.checkNotices()
}

// sized returns s with what the machine lacks.
func (s Scenario) sized() Scenario {
	if s.Sample <= 0 {
		s.Sample = s.For / 240
	}
	if s.Senders <= 0 {
		s.Senders = 64
	}
	if s.Reserved == 0 {
		s.Reserved = s.Senders / 4
	}
	s.Reserved = min(max(s.Reserved, 0), s.Senders-1)
	if s.Attempt <= 0 {
		s.Attempt = 11 * time.Minute
	}
	for lane, weight := range [lanes]int{16, 4, 1} {
		if s.Weights[lane] <= 0 {
			s.Weights[lane] = weight
		}
	}
	return s
}

func (s Scenario) checkNotices() error {
	for _, n := range s.Notices {
		switch {
		case n.Count <= 0 || n.At < 0 || n.At > s.For:
			return fmt.Errorf("notice %q: count must be positive, and at within the scenario", n.Name)
		case n.Lane < 0 || n.Lane >= lanes:
			return fmt.Errorf("notice %q: its lane is urgent, normal or bulk", n.Name)
		case n.SMS > 0 && n.Country == "":
			return fmt.Errorf("notice %q: texts need a country, such as +47", n.Name)
		case n.SMS < 0 || n.SMS > 1:
			return fmt.Errorf("notice %q: sms is a share between 0 and 1", n.Name)
		}
	}
	return nil
}

func (p *Provider) check(whole time.Duration) error {
	if err := choose.Check(p.Terms); err != nil {
		return err
	}
	switch {
	case !p.Mail && !p.SMS:
		return errors.New("it carries neither mail nor SMS")
	case p.Latency.Median < 0 || p.Latency.High != 0 && p.Latency.High < p.Latency.Median:
		return errors.New("its latency is negative, or its high one lower than its median")
	case p.Fail < 0 || p.Refuse < 0 || p.Fail+p.Refuse > 1:
		return errors.New("fail and refuse are shares that do not exceed 1 together")
	}
	for _, o := range p.Outages {
		switch {
		case o.From < 0 || o.Until <= o.From:
			return fmt.Errorf("an outage from %v until %v: it must end after it begins", o.From, o.Until)
		case o.From >= whole:
			return fmt.Errorf("an outage from %v on comes after the scenario's end", o.From)
		case o.How != Down && o.How != Hangs && o.How != Slow && o.How != Throttles:
			return fmt.Errorf("an outage in which it is %q; say down, hangs, slow or throttles", o.How)
		}
	}
	return nil
}

// check fills in defaults, or says what is wrong.
func (p *People) check(whole time.Duration) error {
	if p.Until <= 0 {
		p.Until = whole
	}
	if p.Presses <= 0 {
		p.Presses = 3
	}
	if p.Patient <= 0 {
		p.Patient = 10 * time.Minute
	}
	switch {
	case p.Purpose == "":
		return errors.New("purpose is required: signup, signin, reverify, stepup or one of your own")
	case (p.PerMinute > 0) == (p.InLine > 0):
		return errors.New("say either how many come per_minute, or how many stand in_line")
	case p.From < 0 || p.From >= p.Until:
		return fmt.Errorf("from %v until %v: it must end after it begins", p.From, p.Until)
	case p.Attack && p.InLine > 0:
		return errors.New("strangers wait for no letter: say how many come per_minute")
	}
	return nil
}
