package judge

import (
	"errors"
	"fmt"
	"math/big"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode/limit"
)

var t0 = time.Date(2031, 3, 29, 22, 0, 0, 0, time.UTC) // two hours before a night of 23 hours in Oslo

func oslo(t testing.TB) *time.Location {
	t.Helper()
	zone, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	return zone
}

// A model answers the same questions from everything that ever happened, event by event, without any
// state in between. It shares no code with what it checks.
type model struct {
	rule   limit.Rule
	events []time.Time // one for each that passed
}

func (m *model) passes(now time.Time) bool {
	switch r := m.rule; {
	case r.Rate.Times > 0: // a bucket of Burst drops, one drop back every Per/Times
		level, last := new(big.Rat).SetInt64(int64(r.Rate.Burst)), time.Time{}
		fill := func(at time.Time) {
			if !last.IsZero() {
				level.Add(level, big.NewRat(int64(at.Sub(last))*int64(r.Rate.Times), int64(r.Rate.Per)))
				if most := new(big.Rat).SetInt64(int64(r.Rate.Burst)); level.Cmp(most) > 0 {
					level = most
				}
			}
			last = at
		}
		for _, e := range m.events {
			fill(e)
			level.Sub(level, big.NewRat(1, 1))
		}
		fill(now)
		return level.Cmp(big.NewRat(1, 1)) >= 0
	case r.Quota.Times > 0:
		form := map[limit.Window]string{limit.Hour: "2006-01-02 15 -0700", limit.Day: "2006-01-02",
			limit.Month: "2006-01"}[r.Quota.Window]
		n := 0
		for _, e := range m.events {
			if e.In(r.Quota.Zone).Format(form) == now.In(r.Quota.Zone).Format(form) {
				n++
			}
		}
		return n < r.Quota.Times
	case r.AtOnce.Most > 0: // nobody reports an end: a run of holds that overlap ends with its last
		n, until := 0, time.Time{}
		for _, e := range m.events {
			if !e.Before(until) {
				n = 0
			}
			n, until = n+1, e.Add(r.AtOnce.Hold)
		}
		return n < r.AtOnce.Most || !now.Before(until)
	}
	n, free, last := 0, time.Time{}, time.Time{}
	for _, e := range m.events {
		for rest := m.rule.Ladder.Decay; n > 0 && e.Sub(last) >= rest; rest += m.rule.Ladder.Decay {
			n--
		}
		n, last = min(n+1, len(m.rule.Ladder.Rungs)), e
		free = e.Add(m.rule.Ladder.Rungs[n-1])
	}
	return !now.Before(free)
}

// Every rule agrees with the model on each of many random questions, and what it says about when to
// come back is exact: it passes then, and not a microsecond before.
func TestAgainstModel(t *testing.T) {
	zone := oslo(t)
	for _, r := range []limit.Rule{
		{Name: "rate", By: limit.All, Rate: limit.Rate{Times: 12, Per: time.Hour, Burst: 5}},
		{Name: "steady", By: limit.All, Rate: limit.Rate{Times: 1, Per: 30 * time.Second, Burst: 1}},
		{Name: "day", By: limit.All, Quota: limit.Quota{Times: 20, Window: limit.Day, Zone: zone}},
		{Name: "month", By: limit.All, Quota: limit.Quota{Times: 60, Window: limit.Month, Zone: zone}},
		{Name: "hour", By: limit.All, Quota: limit.Quota{Times: 5, Window: limit.Hour, Zone: zone}},
		{Name: "ladder", By: limit.All,
			Ladder: limit.Ladder{Rungs: []time.Duration{0, 30 * time.Second, time.Minute, 15 * time.Minute},
				Decay: 20 * time.Minute}},
		{Name: "together", By: limit.All, AtOnce: limit.AtOnce{Most: 3, Hold: time.Minute}},
	} {
		for seed := range uint64(4) {
			dice := rand.New(rand.NewPCG(seed, 7))
			m, now := model{rule: r}, t0
			var s State
			passed := 0
			for i := range 120 {
				step := []time.Duration{0, time.Microsecond, time.Second, 40 * time.Second, 10 * time.Minute,
					2 * time.Hour}[dice.IntN(6)]
				now = now.Add(time.Duration(dice.Int64N(int64(step)+1)) * 2).Truncate(time.Microsecond)
				st, next := Look(&r, Normalize(&r, s, now), 1, now)
				if want := m.passes(now); st.Allowed != want {
					t.Fatalf("%s, seed %d, question %d at %v: allowed %v, the model says %v", r.Name, seed, i, now,
						st.Allowed, want)
				}
				if st.Allowed != (st.Left > 0) {
					t.Fatalf("%s: allowed %v with %d left", r.Name, st.Allowed, st.Left)
				}
				if st.Allowed {
					s, m.events, passed = next, append(m.events, now), passed+1
					continue
				}
				if !m.passes(st.At) || m.passes(st.At.Add(-time.Microsecond)) {
					t.Fatalf("%s, seed %d: told to come back at %v, which is not the first moment", r.Name, seed, st.At)
				}
			}
			if passed == 0 || passed == 120 {
				t.Errorf("%s, seed %d: %d of 120 passed, which proves little", r.Name, seed, passed)
			}
		}
	}
}

// A request spends from all rules or from none, and is told the moment at which all let it pass.
func TestJudgeAllOrNothing(t *testing.T) {
	set, err := NewSet(
		limit.Rule{Name: "pace", By: limit.Address, Rate: limit.Rate{Times: 6, Per: time.Hour, Burst: 2}},
		limit.Rule{Name: "day", By: limit.All, Quota: limit.Quota{Times: 3, Window: limit.Day}},
		limit.Rule{Name: "watched", By: limit.Network, Quota: limit.Quota{Times: 1, Window: limit.Day}, Observe: true},
		limit.Rule{Name: "elsewhere", On: []string{"signin"}, By: limit.All,
			Quota: limit.Quota{Times: 1, Window: limit.Day}},
		limit.Rule{Name: "unknown", By: limit.Domain, Quota: limit.Quota{Times: 1, Window: limit.Day}},
	)
	if err != nil {
		t.Fatal(err)
	}
	held := make(map[string]State)
	ask := func(address string, n int, now time.Time) Decision {
		bound := set.Bind(Request{Purpose: "signup", Stage: limit.First, Medium: limit.Mail, Address: address,
			Network: "203.0.113.7"})
		states, next := make([]State, len(bound)), make([]State, len(bound))
		for i, b := range bound {
			states[i] = held[b.Name]
		}
		d := Judge(bound, states, n, now, next)
		for i, b := range bound {
			if b.Rule.Name == "elsewhere" {
				t.Fatal("a rule for sign-ins judges a signup")
			}
			held[b.Name] = next[i]
		}
		return d
	}
	if d := ask("a", 1, t0); !d.Allowed || d.Left != 1 || d.Tight.Name != "pace" || d.Noted != nil {
		t.Fatalf("first: %+v", d)
	}
	if d := ask("a", 1, t0); !d.Allowed || d.Noted == nil || d.Noted.Name != "watched" {
		t.Fatalf("second: %+v; want it allowed, and noted by the rule that observes", d)
	}
	before := fmt.Sprint(held)
	if d := ask("a", 1, t0); d.Allowed || d.Refuser.Name != "pace" || !d.At.Equal(t0.Add(10*time.Minute)) {
		t.Fatalf("third: %+v; want a refusal by pace for 10 minutes", d)
	}
	if after := fmt.Sprint(held); after != before {
		t.Errorf("a refusal spent something:\n%s\n%s", before, after)
	}
	if d := ask("b", 2, t0); d.Allowed || d.Refuser.Name != "day" || !d.At.Equal(t0.Add(2*time.Hour)) {
		t.Fatalf("two where one is left of the day: %+v; want midnight", d)
	}
	if d := ask("b", 3, t0); d.Allowed || !d.At.IsZero() || d.Refuser.Name != "pace" {
		t.Fatalf("more than a burst: %+v; want never", d)
	}
	if d := ask("b", 1, t0); !d.Allowed {
		t.Fatalf("one for another address: %+v", d)
	}
}

// A rule that observes notes what it would have refused, refuses nothing, and spends nothing on it.
func TestObservedSpendsNothing(t *testing.T) {
	watch := limit.Rule{Name: "watch", Quota: limit.Quota{Times: 2, Window: limit.Day, Zone: oslo(t)}, Observe: true}
	bound, states, next := []Bound{{Rule: &watch}}, []State{{}}, []State{{}}
	for i := range 5 {
		d := Judge(bound, states, 1, t0, next)
		if !d.Allowed || (d.Noted != nil) != (i >= 2) {
			t.Errorf("request %d: %+v", i+1, d)
		}
		if i >= 2 && next[0] != states[0] {
			t.Errorf("request %d is spent from: %+v, then %+v", i+1, states[0], next[0])
		}
		states[0] = next[0]
	}
}

// A clock that jumps a day forward and back locks nothing for longer than a burst, a rung, a window.
func TestClockJumps(t *testing.T) {
	for _, tt := range []struct {
		r    limit.Rule
		most time.Duration
	}{
		{limit.Rule{Name: "rate", Rate: limit.Rate{Times: 6, Per: time.Hour, Burst: 2}}, 10 * time.Minute},
		// what is left of the day at t0
		{limit.Rule{Name: "day", Quota: limit.Quota{Times: 2, Window: limit.Day}}, 2 * time.Hour},
		{limit.Rule{Name: "ladder", Ladder: limit.Ladder{Rungs: []time.Duration{time.Minute, 5 * time.Minute},
			Decay: time.Hour}}, 5 * time.Minute},
		{limit.Rule{Name: "together", AtOnce: limit.AtOnce{Most: 2, Hold: time.Minute}}, time.Minute},
	} {
		bound, s, next := []Bound{{Rule: &tt.r}}, []State{{}}, []State{{}}
		at := func(now time.Time) Decision {
			d := Judge(bound, s, 1, now, next)
			copy(s, next)
			return d
		}
		for range 5 { // everything is spent tomorrow
			at(t0.Add(24 * time.Hour))
		}
		at(t0) // back again: what a refusal writes must not move on with every question
		if d := at(t0.Add(tt.most)); !d.Allowed {
			t.Errorf("%s: locked past %v: until %v", tt.r.Name, tt.most, d.At)
		}
	}
}

// What is given back can be spent again, and an idle state is worth a fresh one.
func TestReturnAndIdle(t *testing.T) {
	for _, r := range []limit.Rule{
		{Name: "rate", Rate: limit.Rate{Times: 6, Per: time.Hour, Burst: 1}},
		{Name: "day", Quota: limit.Quota{Times: 1, Window: limit.Day}},
		{Name: "ladder", Ladder: limit.Ladder{Rungs: []time.Duration{time.Minute, 5 * time.Minute}, Decay: time.Hour}},
		{Name: "together", AtOnce: limit.AtOnce{Most: 1, Hold: time.Minute}},
	} {
		_, spent := Look(&r, State{}, 1, t0)
		if st, _ := Look(&r, spent, 1, t0); st.Allowed {
			t.Errorf("%s: two passed", r.Name)
		}
		if st, _ := Look(&r, Return(&r, spent, 1, t0), 1, t0); !st.Allowed {
			t.Errorf("%s: what was given back does not pass: %+v", r.Name, st)
		}
		later := Idle(&r, spent)
		fresh, afterFresh := Look(&r, State{}, 1, later)
		idle, afterIdle := Look(&r, spent, 1, later)
		if fresh != idle || afterFresh != afterIdle {
			t.Errorf("%s: idle at %v, but a fresh state says %+v %+v, and this one %+v %+v", r.Name, later, fresh,
				afterFresh, idle, afterIdle)
		}
	}
}

func TestBadRules(t *testing.T) {
	day := limit.Quota{Times: 1, Window: limit.Day}
	for _, tt := range []struct {
		rule limit.Rule
		want string
	}{
		{limit.Rule{Name: "rate", By: limit.All, Rate: limit.Rate{Times: 0, Per: time.Hour, Burst: 1}}, "a rate of 0"},
		{limit.Rule{Name: "rate", By: limit.All, Rate: limit.Rate{Times: 1, Per: time.Hour}}, "a burst of 0"},
		{limit.Rule{Name: "day", By: limit.All, Quota: limit.Quota{Window: limit.Day}}, "a quota of 0"},
		{limit.Rule{Name: "day", By: limit.All, Quota: limit.Quota{Times: 1, Window: "week"}}, `not per "week"`},
		{limit.Rule{Name: "day", By: "person", Quota: day}, `counts by "person"`},
		{limit.Rule{Name: "Day", By: limit.All, Quota: day}, "a name has"},
		{limit.Rule{Name: "none", By: limit.All}, "does not say how often"},
		{limit.Rule{Name: "both", By: limit.All, Quota: day, AtOnce: limit.AtOnce{Most: 1, Hold: time.Second}},
			"more than one way"},
		{limit.Rule{Name: "ladder", By: limit.All, Ladder: limit.Ladder{Rungs: []time.Duration{time.Hour, time.Minute},
			Decay: 1}}, "rung 2"},
		{limit.Rule{Name: "ladder", By: limit.All, Ladder: limit.Ladder{Rungs: []time.Duration{time.Hour}}}, "a decay"},
		{limit.Rule{Name: "stage", By: limit.All, Stage: "third", Quota: day}, `stage is "third"`},
		{limit.Rule{Name: "far", By: limit.All, Rate: limit.Rate{Times: 1, Per: 9e17, Burst: 2}}, "longer than a year"},
	} {
		if _, err := NewSet(tt.rule); !errors.Is(err, limit.ErrRule) || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%+v: %v, want %q", tt.rule, err, tt.want)
		}
	}
	if _, err := NewSet(limit.Rule{Name: "a", By: limit.All, Quota: day},
		limit.Rule{Name: "a", By: limit.Network, Quota: day}); !errors.Is(err, limit.ErrRule) {
		t.Errorf("two rules of one name: %v", err)
	}
	for _, s := range []string{"", "0 per hour", "-1 per hour", "5 an hour", "5 per fortnight", "5 per -1m",
		"x per hour"} {
		if _, err := ParseRate(s); !errors.Is(err, limit.ErrRule) {
			t.Errorf("ParseRate(%q): %v", s, err)
		}
	}
	if _, err := ParseQuota("5 per week"); !errors.Is(err, limit.ErrRule) {
		t.Errorf("a quota per week: %v", err)
	}
}

func TestWords(t *testing.T) {
	rate, err := ParseRate("12 per hour")
	if err != nil {
		t.Fatal(err)
	}
	rate.Burst = 6
	for _, tt := range []struct {
		r    limit.Rule
		want string
	}{
		{limit.Rule{By: limit.Address, Rate: rate}, "12 an hour, 6 at once for one address; letters"},
		{limit.Rule{By: limit.Domain, Quota: limit.Quota{Times: 100, Window: limit.Day, Zone: oslo(t)},
			Medium: limit.SMS, On: []string{"signin"}},
			"100 a calendar day in Europe/Oslo for one country code; letters of signin by sms"},
		{limit.Rule{By: limit.All, Ladder: limit.Ladder{Rungs: []time.Duration{30 * time.Second, time.Hour},
			Decay: 90 * time.Minute}, Stage: limit.Again},
			"waits of 30s, 1h, one less for each 1h30m of rest in all; letters sent again"},
	} {
		if got := tt.r.String() + "; " + About(tt.r); got != tt.want {
			t.Errorf("%s, want %s", got, tt.want)
		}
	}
}

// fiveRules are those that a request is judged by in the benchmark.
func fiveRules(tb testing.TB) ([]Bound, []State) {
	tb.Helper()
	set, err := NewSet(
		limit.Rule{Name: "pace", By: limit.Address, Rate: limit.Rate{Times: 1e6, Per: time.Second, Burst: 1e6}},
		limit.Rule{Name: "day", By: limit.Address, Quota: limit.Quota{Times: 1 << 40, Window: limit.Day}},
		limit.Rule{Name: "ladder", By: limit.Address,
			Ladder: limit.Ladder{Rungs: []time.Duration{0}, Decay: time.Hour}},
		limit.Rule{Name: "network", By: limit.Network, Rate: limit.Rate{Times: 1e6, Per: time.Second, Burst: 1e6}},
		limit.Rule{Name: "all", By: limit.All, AtOnce: limit.AtOnce{Most: 1 << 40, Hold: time.Second}},
	)
	if err != nil {
		tb.Fatal(err)
	}
	bound := set.Bind(Request{Address: "a", Network: "n"})
	return bound, make([]State, len(bound))
}

func TestJudgeAllocatesNothing(t *testing.T) {
	bound, states := fiveRules(t)
	now := t0
	if n := testing.AllocsPerRun(100, func() {
		now = now.Add(time.Millisecond)
		if !Judge(bound, states, 1, now, states).Allowed {
			t.Fatal("refused")
		}
	}); n != 0 {
		t.Errorf("%v allocations", n)
	}
}

func BenchmarkJudge(b *testing.B) {
	bound, states := fiveRules(b)
	now := t0
	b.ReportAllocs()
	for b.Loop() {
		now = now.Add(time.Millisecond)
		if !Judge(bound, states, 1, now, states).Allowed {
			b.Fatal("refused")
		}
	}
}
