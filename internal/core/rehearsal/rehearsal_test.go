package rehearsal

import (
	"fmt"
	"math"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode/limit"
	"github.com/illumicode/illumicode/route"
)

var start = time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)

// run plays a scenario that has nothing wrong with it.
func run(tb testing.TB, s Scenario) Result {
	tb.Helper()
	if s.Start = start; s.For == 0 {
		s.For = time.Hour
	}
	r, err := Run(s, nil)
	if err != nil {
		tb.Fatal(err)
	}
	return r
}

func quay(c route.Caps) Provider {
	return Provider{Name: "quay", Mail: true, Latency: Spread{Median: 20 * time.Millisecond},
		Terms: route.Terms{Caps: c}}
}

func near(got, want, tolerance float64) bool { return math.Abs(got-want) <= tolerance*want }

// Whatever happens, every letter is accounted for, no quota is exceeded, and the same seed plays the same.
func TestNothingIsLost(t *testing.T) {
	for seed := range uint64(60) {
		dice := rand.New(rand.NewPCG(seed, 1))
		s := Scenario{Name: "random", For: 3 * time.Hour, Seed: seed, Senders: 1 + dice.IntN(40),
			Machine: float64(dice.IntN(3)) * 50,
			Rules: []limit.Rule{
				{Name: "address", By: limit.Address, Rate: limit.Rate{Times: 6, Per: time.Hour, Burst: 3}},
				{Name: "all", By: limit.All, New: true, Quota: limit.Quota{Times: 500, Window: limit.Hour}}}}
		for i := range 1 + dice.IntN(4) {
			p := Provider{Name: fmt.Sprint("p", i), Mail: true, SMS: dice.IntN(3) == 0, Fail: dice.Float64() / 4,
				Refuse: dice.Float64() / 10, Latency: Spread{Median: time.Duration(dice.IntN(500)) * time.Millisecond},
				Terms: route.Terms{
					Caps: route.Caps{PerDay: dice.IntN(2) * dice.IntN(900),
						PerSecond: float64(dice.IntN(2) * dice.IntN(9)), AtOnce: dice.IntN(2) * (1 + dice.IntN(5))}}}
			if how := []How{"", Down, Hangs, Slow, Throttles}[dice.IntN(5)]; how != "" {
				from := time.Duration(dice.IntN(100)) * time.Minute
				p.Outages = []Outage{{From: from, Until: from + time.Duration(1+dice.IntN(60))*time.Minute, How: how,
					Latency: 9 * time.Second}}
			}
			s.Providers = append(s.Providers, p)
		}
		s.People = []People{
			{Name: "ashore", Purpose: "signup", PerMinute: 5, Press: time.Minute, Domain: "ternisle.example"},
			{Name: "at the pier", Purpose: "signin", InLine: 2, Known: true, Addresses: 50,
				Takes: Spread{Median: time.Second}, Transit: Spread{Median: 2 * time.Second}, Press: 20 * time.Second,
				Domain: "ternisle.example"},
			{Name: "stranger", Purpose: "signup", PerMinute: 20, Attack: true, Networks: 3, Addresses: 400,
				Domain: "skerry.example"},
		}
		s.Notices = []Notice{{Name: "storm", Lane: Bulk, At: time.Hour, Count: 700, SMS: 0.1, Country: "+44",
			Within: time.Hour, Domain: "gullquay.example"},
			{Name: "moved", Lane: Normal, Count: 30, Domain: "gullquay.example"}}
		r := run(t, s)
		if again := run(t, s); !reflect.DeepEqual(r, again) {
			t.Errorf("seed %d plays differently the second time", seed)
		}
		left, carried := 0, 0
		for lane, l := range r.Lanes {
			on := l.Enqueued - l.Sent - l.Failed - l.Expired
			if on < 0 {
				t.Errorf("seed %d, lane %d: %+v", seed, lane, l)
			}
			left += on
		}
		for i, p := range r.Providers {
			carried += p.Letters
			if most := s.Providers[i].Terms.Caps.PerDay; most > 0 && p.Letters > most {
				t.Errorf("seed %d: %s carried %d with a quota of %d", seed, p.Name, p.Letters, most)
			}
		}
		sent := r.Lanes[Urgent].Sent + r.Lanes[Normal].Sent + r.Lanes[Bulk].Sent
		if left != r.Left || carried != sent || r.Ended != sent+r.Lanes[0].Failed+r.Lanes[0].Expired+r.Lanes[1].Failed+
			r.Lanes[1].Expired+r.Lanes[2].Failed+r.Lanes[2].Expired {
			t.Errorf("seed %d: %d left of %d, %d carried, %d sent, %d ended", seed, left, r.Left, carried, sent,
				r.Ended)
		}
		// two hours after it began, an hour after its end
		if r.Lanes[Bulk].Enqueued != 700 || r.Lanes[Bulk].Expired+r.Lanes[Bulk].Failed+r.Lanes[Bulk].Sent != 700 {
			t.Errorf("seed %d: of 700 notices %+v", seed, r.Lanes[Bulk])
		}
	}
}

// What can be worked out by hand comes out: how long a storm takes through a pace, a machine, a number of
// connections; what is left of a quota for those who have no reserve.
func TestByHand(t *testing.T) {
	storm := func(n int) []Notice {
		return []Notice{{Name: "storm", Lane: Bulk, Count: n, Domain: "gullquay.example"}}
	}
	for _, tt := range []struct {
		name    string
		s       Scenario
		seconds float64
	}{
		{"50 a second, a fifth reserved, a twentieth of distance",
			Scenario{Providers: []Provider{quay(route.Caps{PerSecond: 50})}, Notices: storm(10_000)},
			10_000 * 1.05 / (50 * 0.8)},
		{"without a reserve", Scenario{Providers: []Provider{quay(route.Caps{PerSecond: 50, Reserve: -1})},
			Notices: storm(10_000)}, 10_000 * 1.05 / 50},
		{"a machine of 200 a second", Scenario{Machine: 200, Providers: []Provider{quay(route.Caps{})},
			Notices: storm(10_000)}, 50},
		{"10 connections of 100 ms, two reserved",
			Scenario{Providers: []Provider{
				{Name: "quay", Mail: true,
					Latency: Spread{Median: 100 * time.Millisecond, High: 100 * time.Millisecond},
					Terms:   route.Terms{Caps: route.Caps{AtOnce: 10}}}}, Notices: storm(8_000)}, 100},
		{"48 senders of 100 ms",
			Scenario{Providers: []Provider{
				{Name: "quay", Mail: true,
					Latency: Spread{Median: 100 * time.Millisecond, High: 100 * time.Millisecond}}},
				Notices: storm(4_800)}, 10},
	} {
		if r := run(t, tt.s); r.Lanes[Bulk].Sent != tt.s.Notices[0].Count || !near(r.Last.Seconds(), tt.seconds, 0.03) {
			t.Errorf("%s: %d sent in %v, want %.0f s", tt.name, r.Lanes[Bulk].Sent, r.Last, tt.seconds)
		}
	}
	// Who comes faster than the machine works waits longer and longer: by a sixth of the time that has passed.
	r := run(t, Scenario{For: 3 * time.Minute, Machine: 100, Providers: []Provider{quay(route.Caps{})},
		People: []People{{Name: "rush", Purpose: "signin", Known: true, PerMinute: 7200, Domain: "ternisle.example"}}})
	if last := r.Samples[len(r.Samples)-1].Oldest[Urgent]; !near(last.Seconds(), 180./6, 0.1) {
		t.Errorf("after three minutes the oldest has waited %v, want about 30 s", last)
	}
	quota := run(t, Scenario{Providers: []Provider{quay(route.Caps{PerDay: 1000})}, Notices: storm(5000),
		People: []People{{Name: "few", Purpose: "signin", Known: true, PerMinute: 3, Domain: "ternisle.example"}}})
	if sent := quota.Lanes[Bulk].Sent; sent > 800 || sent < 790 || quota.People[0].GaveUp > 0 ||
		quota.People[0].Got < 100 {
		t.Errorf("%d notices of a quota of 1000, people %+v", sent, quota.People[0])
	}
}

// A letter that is lost with a provider that hangs is followed by one through another, as soon as the
// person presses; and when the provider that fails is known, nobody waits for it.
func TestBadDay(t *testing.T) {
	harbour, pier := quay(route.Caps{}), quay(route.Caps{})
	harbour.Name = "harbour"
	people := People{Name: "ashore", Purpose: "signin", Known: true, PerMinute: 10,
		Transit: Spread{Median: time.Second}, Press: 30 * time.Second, Domain: "ternisle.example"}
	harbour.Outages = []Outage{{From: 10 * time.Minute, Until: 40 * time.Minute, How: Down}}
	r := run(t, Scenario{Providers: []Provider{harbour, pier}, People: []People{people}})
	if p := r.People[0]; p.GaveUp > 0 || p.Wait.Most() > 20*time.Second || r.Providers[1].Letters < 250 ||
		r.Providers[0].Letters < 150 {
		t.Errorf("harbour down: %d gave up, longest %v, carried %+v", p.GaveUp, p.Wait.Most(), r.Providers)
	}
	harbour.Outages[0].How = Hangs
	r = run(t, Scenario{Providers: []Provider{harbour, pier}, People: []People{people}})
	if p := r.People[0]; p.GaveUp > 0 || p.Wait.Most() < 30*time.Second || p.Wait.Most() > 45*time.Second ||
		p.Wait.At(.5) > 5*time.Second {
		t.Errorf("harbour hangs: %d gave up, median %v, longest %v", p.GaveUp, p.Wait.At(.5), p.Wait.Most())
	}
}

// Strangers get as many letters out as the rules say, and hold nobody up.
func TestStrangers(t *testing.T) {
	rules := []limit.Rule{{Name: "network", By: limit.Network, Rate: limit.Rate{Times: 120, Per: time.Hour, Burst: 60}},
		{Name: "new", By: limit.All, New: true, Rate: limit.Rate{Times: 2000, Per: time.Hour, Burst: 1000}}}
	r := run(t, Scenario{For: 2 * time.Hour, Rules: rules, Providers: []Provider{quay(route.Caps{})}, People: []People{
		{Name: "owners", Purpose: "signin", Known: true, PerMinute: 5, Domain: "ternisle.example"},
		{Name: "one machine", Purpose: "signup", Attack: true, PerMinute: 100, Networks: 1, Domain: "skerry.example"},
		{Name: "a thousand", Purpose: "signup", Attack: true, From: time.Hour, PerMinute: 1000,
			Domain: "skerry.example"},
	}})
	owners, one, many := r.People[0], r.People[1], r.People[2]
	if owners.Refused > 0 || owners.GaveUp > 0 || owners.Wait.Most() > time.Second {
		t.Errorf("owners: %+v", owners)
	}
	// shared, later, with the others
	if bound := 60 + 240.; float64(one.Letters) > bound || float64(one.Letters) < bound-100 {
		t.Errorf("one machine got %d letters out, the rule allows %.0f", one.Letters, bound)
	}
	if bound := 1000 + 2*2000; one.Letters+many.Letters > bound || many.Letters < 2500 {
		t.Errorf("all of them got %d and %d letters out, the rule allows %d", one.Letters, many.Letters, bound)
	}
	if got := r.Refusals["network"] + r.Refusals["new"]; got != one.Refused+many.Refused {
		t.Errorf("%d refusals by rules, %d by people", got, one.Refused+many.Refused)
	}
}

func TestScenarioRefuses(t *testing.T) {
	good := func() Scenario {
		return Scenario{Start: start, For: time.Hour, Providers: []Provider{quay(route.Caps{})},
			People: []People{{Name: "p", Purpose: "signin", PerMinute: 1}}, Notices: []Notice{{Name: "n", Count: 1}}}
	}
	for says, spoil := range map[string]func(*Scenario){
		"start and for":       func(s *Scenario) { s.For = 0 },
		"no provider":         func(s *Scenario) { s.Providers = nil },
		"must differ":         func(s *Scenario) { s.Providers = append(s.Providers, s.Providers[0]) },
		"neither mail":        func(s *Scenario) { s.Providers[0].Mail = false },
		"do not exceed 1":     func(s *Scenario) { s.Providers[0].Fail = 1.5 },
		"end after it begins": func(s *Scenario) { s.Providers[0].Outages = []Outage{{From: 5, Until: 5, How: Down}} },
		"say down, hangs":     func(s *Scenario) { s.Providers[0].Outages = []Outage{{Until: 5, How: "asleep"}} },
		"by month":            func(s *Scenario) { s.Providers[0].Terms.Caps = route.Caps{PerDay: 9, PerMonth: 3} },
		"either how many":     func(s *Scenario) { s.People[0].InLine = 2 },
		"purpose is required": func(s *Scenario) { s.People[0].Purpose = "" },
		"strangers wait":      func(s *Scenario) { s.People[0] = People{Purpose: "signup", Attack: true, InLine: 1} },
		"within the scenario": func(s *Scenario) { s.Notices[0].At = 2 * time.Hour },
		"a share between":     func(s *Scenario) { s.Notices[0].SMS, s.Notices[0].Country = 2, "+44" },
		"need a country":      func(s *Scenario) { s.Notices[0].SMS = 0.5 },
		"two are named": func(s *Scenario) {
			s.Rules = []limit.Rule{{Name: "a", By: limit.All, Quota: limit.Quota{Times: 1, Window: limit.Day}},
				{Name: "a", By: limit.All, Quota: limit.Quota{Times: 1, Window: limit.Day}}}
		},
	} {
		s := good()
		spoil(&s)
		if _, err := Run(s, nil); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%v, want an error that says %q", err, says)
		}
	}
	if _, err := Run(good(), nil); err != nil {
		t.Error(err)
	}
}

func TestTimes(t *testing.T) {
	var all Times
	for i := range 1000 {
		all.Add(time.Duration(i+1) * time.Millisecond)
	}
	for share, want := range map[float64]time.Duration{0.5: 500 * time.Millisecond, 0.99: 990 * time.Millisecond,
		1: time.Second, 0.001: time.Millisecond} {
		if got := all.At(share); !near(got.Seconds(), want.Seconds(), 0.011) {
			t.Errorf("At(%v) = %v, want %v", share, got, want)
		}
	}
	if all.N() != 1000 || all.Most() != time.Second || new(Times).At(.5) != 0 {
		t.Errorf("%d, %v", all.N(), all.Most())
	}
}
