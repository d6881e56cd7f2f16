package config

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/choose"
	"github.com/illumicode/illumicode/internal/core/rehearsal"
	"github.com/illumicode/illumicode/retry"
	"github.com/illumicode/illumicode/route"
)

// Rehearsal is a scenario as it is written. What a configuration has too is written as there; with
// Configuration it is taken from one, and the scenario's providers say how those of the same names
// behave.
type Rehearsal struct {
	Name          string    `toml:"name"`
	Configuration string    `toml:"configuration"`
	Start         time.Time `toml:"start"`
	For           Duration  `toml:"for"`
	Sample        Duration  `toml:"sample"`
	Seed          uint64    `toml:"seed"`
	Machine       float64   `toml:"machine"`
	NoLimits      bool      `toml:"no_limits"`

	Outbox   Outbox    `toml:"outbox"`
	Signup   Flow      `toml:"signup"`
	Reverify Flow      `toml:"reverify"`
	SignIn   Flow      `toml:"signin"`
	StepUp   Flow      `toml:"stepup"`
	Limit    []Limit   `toml:"limit"`
	Provider []Behaves `toml:"provider"`
	People   []People  `toml:"people"`
	Notice   []ToMany  `toml:"notice"`
}

// Behaves is a provider and how it behaves.
type Behaves struct {
	Provider
	Carries     []string `toml:"carries"` // challenges, notices; both by default
	Latency     Duration `toml:"latency"`
	LatencyHigh Duration `toml:"latency_high"`
	Fail        float64  `toml:"fail"`
	Refuse      float64  `toml:"refuse"`
	Outage      []Outage `toml:"outage"`
}

// Outage is a provider's bad time.
type Outage struct {
	From    Duration `toml:"from"`
	Until   Duration `toml:"until"`
	How     string   `toml:"how"` // down, hangs, slow or throttles
	Latency Duration `toml:"latency"`
	After   Duration `toml:"after"`
}

// People are those who ask for letters with a proof.
type People struct {
	Name        string   `toml:"name"`
	Purpose     string   `toml:"purpose"`
	From        Duration `toml:"from"`
	Until       Duration `toml:"until"`
	PerMinute   float64  `toml:"per_minute"`
	InLine      int      `toml:"in_line"`
	Attack      bool     `toml:"attack"`
	Known       bool     `toml:"known"`
	Addresses   int      `toml:"addresses"`
	Networks    int      `toml:"networks"`
	Domain      string   `toml:"domain"`
	SMS         bool     `toml:"sms"`
	Takes       Duration `toml:"takes"`
	TakesHigh   Duration `toml:"takes_high"`
	Transit     Duration `toml:"transit"`
	TransitHigh Duration `toml:"transit_high"`
	Press       Duration `toml:"press"`
	Presses     int      `toml:"presses"`
	Patient     Duration `toml:"patient"`
}

// ToMany is a notice to many.
type ToMany struct {
	Name    string   `toml:"name"`
	Lane    string   `toml:"lane"`
	At      Duration `toml:"at"`
	Count   int      `toml:"count"`
	SMS     float64  `toml:"sms"`
	Domain  string   `toml:"domain"`
	Country string   `toml:"country"`
	Within  Duration `toml:"within"`
}

// LoadScenario reads the scenario at path.
func LoadScenario(path string) (rehearsal.Scenario, error) {
	var r Rehearsal
	base := &File{path: path}
	none := rehearsal.Scenario{}
	err := decode(path, &r, "demo/storm.toml of the source is one to begin with", "docs/rehearse.md")
	if err != nil {
		return none, err
	}
	f := &File{path: path, Outbox: r.Outbox, Signup: r.Signup, Reverify: r.Reverify, SignIn: r.SignIn, StepUp: r.StepUp,
		Limit: r.Limit}
	if r.Configuration != "" {
		if f, err = Load(base.inFolder(r.Configuration)); err != nil {
			return none, err
		}
	} else {
		for _, p := range r.Provider {
			f.Provider = append(f.Provider, p.Provider)
		}
	}
	s := rehearsal.Scenario{Name: cmp.Or(r.Name, path), Start: r.Start, For: time.Duration(r.For),
		Sample: time.Duration(r.Sample), Seed: r.Seed, Machine: r.Machine,
		Senders: f.Outbox.Senders, Reserved: f.Outbox.Reserved, Attempt: time.Duration(f.Outbox.Attempt),
		Order:   route.Order(f.Outbox.Order),
		Weights: [3]int{f.Outbox.Weights.Urgent, f.Outbox.Weights.Normal, f.Outbox.Weights.Bulk},
		Retry: retry.Policy{Attempts: f.Outbox.Attempts, Base: time.Duration(f.Outbox.Base),
			Max: time.Duration(f.Outbox.Max)},
		Policies: map[string]challenge.Policy{challenge.Signup: f.Signup.policy(),
			challenge.Reverify: f.Reverify.policy(), challenge.SignIn: f.SignIn.policy(),
			challenge.StepUp: f.StepUp.policy()},
	}
	if !r.NoLimits {
		rules, err := f.Limits()
		if err != nil {
			return none, err
		}
		for _, rule := range rules {
			s.Rules = append(s.Rules, rule.Rule)
		}
	}
	if s.Providers, err = r.providers(f); err != nil {
		return none, err
	}
	for _, p := range r.People {
		s.People = append(s.People, p.inside())
	}
	for i, n := range r.Notice {
		lane := slices.Index(rehearsal.LaneNames[:], cmp.Or(n.Lane, "normal"))
		if lane < 0 {
			return none, base.wrong(fmt.Sprintf("notice[%d].lane", i), "is %q; say urgent, normal or bulk", n.Lane)
		}
		s.Notices = append(s.Notices, rehearsal.Notice{Name: n.Name, Lane: lane, At: time.Duration(n.At),
			Count: n.Count, SMS: n.SMS, Domain: n.Domain, Country: n.Country, Within: time.Duration(n.Within)})
	}
	return s, nil
}

func (p People) inside() rehearsal.People {
	return rehearsal.People{Name: p.Name, Purpose: p.Purpose, From: time.Duration(p.From),
		Until: time.Duration(p.Until), PerMinute: p.PerMinute, InLine: p.InLine,
		Attack: p.Attack, Known: p.Known || p.Purpose == challenge.SignIn || p.Purpose == challenge.StepUp,
		Addresses: p.Addresses, Networks: p.Networks, Domain: p.Domain, SMS: p.SMS,
		Takes:   rehearsal.Spread{Median: time.Duration(p.Takes), High: time.Duration(p.TakesHigh)},
		Transit: rehearsal.Spread{Median: time.Duration(p.Transit), High: time.Duration(p.TransitHigh)},
		Press:   time.Duration(p.Press), Presses: p.Presses, Patient: time.Duration(p.Patient)}
}

// providers returns the providers with their terms and tempers.
func (r Rehearsal) providers(f *File) ([]rehearsal.Provider, error) {
	terms, err := f.Terms()
	if err != nil {
		return nil, err
	}
	behaves := make(map[string]Behaves, len(r.Provider))
	for _, b := range r.Provider {
		if !slices.ContainsFunc(f.Provider, func(p Provider) bool { return p.Name == b.Name }) {
			return nil, f.wrong("provider", "has none named %q, of which the scenario says how it behaves", b.Name)
		}
		behaves[b.Name] = b
	}
	var all []rehearsal.Provider
	for _, p := range f.Provider {
		b := behaves[p.Name]
		one := rehearsal.Provider{Name: p.Name, Mail: !p.SMS, SMS: p.SMS, Terms: terms[p.Name], Fail: b.Fail,
			Refuse:  b.Refuse,
			Breaker: choose.Breaker{First: 3 * time.Duration(f.Outbox.Base), Longest: time.Duration(f.Outbox.Max) / 6},
			Latency: rehearsal.Spread{Median: time.Duration(b.Latency), High: time.Duration(b.LatencyHigh)}}
		for _, what := range b.Carries {
			switch what {
			case "challenges":
				one.Challenges = true
			case "notices":
				one.Notices = true
			default:
				return nil, fmt.Errorf("%s: provider %q carries %q; say challenges or notices", f.path, p.Name, what)
			}
		}
		for _, o := range b.Outage {
			one.Outages = append(one.Outages,
				rehearsal.Outage{From: time.Duration(o.From), Until: time.Duration(o.Until), How: rehearsal.How(o.How),
					Latency: time.Duration(o.Latency), After: time.Duration(o.After)})
		}
		all = append(all, one)
	}
	return all, nil
}
