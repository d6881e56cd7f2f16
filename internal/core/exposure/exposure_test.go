package exposure

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/limit"
)

var rules = []limit.Rule{
	{Name: "again", By: limit.Address, Stage: limit.Again,
		Ladder: limit.Ladder{Rungs: []time.Duration{30 * time.Second, 15 * time.Minute}, Decay: time.Hour}},
	{Name: "address-hour", By: limit.Address, Rate: limit.Rate{Times: 12, Per: time.Hour, Burst: 8}},
	{Name: "address-day", By: limit.Address, Quota: limit.Quota{Times: 30, Window: limit.Day}},
	{Name: "signups", By: limit.Network, On: []string{challenge.Signup},
		Quota: limit.Quota{Times: 50, Window: limit.Day}},
	{Name: "others", By: limit.Network, On: []string{challenge.SignIn},
		Rate: limit.Rate{Times: 60, Per: time.Hour, Burst: 10}},
	{Name: "watched", By: limit.Network, Quota: limit.Quota{Times: 1, Window: limit.Day}, Observe: true},
	{Name: "new", By: limit.All, New: true, Rate: limit.Rate{Times: 100, Per: time.Hour, Burst: 40}},
}

func policies(t *testing.T) map[string]challenge.Policy {
	t.Helper()
	all := make(map[string]challenge.Policy)
	for _, purpose := range []string{challenge.Signup, challenge.SignIn} {
		p, err := proof.WithDefaults(challenge.Policy{}, purpose)
		if err != nil {
			t.Fatal(err)
		}
		all[purpose] = p
	}
	return all
}

// greedy asks for every kind of letter as soon as any rule lets it pass, for a day that begins at a
// phase of the calendar, and returns how many letters there were.
func greedy(t *testing.T, phase time.Duration, asks []judge.Request) int64 {
	t.Helper()
	set, err := judge.NewSet(rules...)
	if err != nil {
		t.Fatal(err)
	}
	held := make(map[string]judge.State)
	begin := time.Date(2031, 5, 1, 0, 0, 0, 0, time.UTC).Add(phase)
	next := begin
	n := int64(0)
	for now := begin; now.Before(begin.Add(day)); now = next {
		next = begin.Add(day)
		for _, a := range asks {
			bound := set.Bind(a)
			states, after := make([]judge.State, len(bound)), make([]judge.State, len(bound))
			for i, b := range bound {
				states[i] = held[b.Name]
			}
			d := judge.Judge(bound, states, 1, now, after)
			if d.Allowed {
				n, next = n+1, now // and once more
			} else if d.At.Before(next) {
				next = d.At
			}
			for i, b := range bound {
				held[b.Name] = after[i]
			}
		}
	}
	return n
}

// The arithmetic agrees with strangers who do their worst: none gets more, and the one who begins at
// the worst moment gets all of it.
func TestReportAgreesWithSimulation(t *testing.T) {
	figures := make(map[string]Figure)
	for _, f := range Report(Input{Rules: rules, Policies: policies(t)}) {
		figures[f.About] = f
	}
	kinds := func(a judge.Request) (all []judge.Request) {
		a.Medium = limit.Mail
		for _, a.Purpose = range []string{challenge.Signup, challenge.SignIn} {
			for _, a.Stage = range []limit.Stage{limit.First, limit.Again} {
				a.New = a.Purpose == challenge.Signup
				all = append(all, a)
			}
		}
		return all
	}
	for _, tt := range []struct {
		about string
		asks  []judge.Request
	}{
		{"mail to one address, by any number of strangers, in 24 hours", kinds(judge.Request{Address: "mara"})},
		{"mail to any addresses, by one stranger at one network, in 24 hours",
			kinds(judge.Request{Network: "203.0.113.7"})},
		{"mail to addresses that nobody has confirmed, by a million strangers, in 24 hours",
			kinds(judge.Request{})[:2]},
	} {
		f, known := figures[tt.about]
		if !known {
			t.Fatalf("the report has no line %q", tt.about)
		}
		worst := int64(0)
		for phase := time.Duration(0); phase < day; phase += 3 * time.Hour {
			worst = max(worst, greedy(t, phase, tt.asks))
		}
		if float64(worst) > f.Number || float64(worst) < f.Number-1 { // the very last instant may not be reached
			t.Errorf("%s: the worst stranger got %d, the report says %s (%s)", tt.about, worst, f.Value, f.Because)
		}
	}
}

// The odds agree with guessing at random, and so does how many guesses a day has.
func TestOddsAgreeWithGuessing(t *testing.T) {
	p := policies(t)[challenge.SignIn]
	p.Digits = 2 // so that luck shows
	var line Figure
	for _, f := range Report(Input{Rules: rules, Policies: map[string]challenge.Policy{challenge.SignIn: p}}) {
		if strings.Contains(f.About, "one account") {
			line = f
		}
	}
	tries := Guesses(p, 60)
	if tries < 60 || tries >= 60*int64(p.Tries) {
		t.Fatalf("%d tries in 60 challenges: failures are to leave fewer than %d for each, and never none", tries,
			p.Tries)
	}
	dice := rand.New(rand.NewPCG(1, 2))
	const rounds = 5000
	hits := 0
	for range rounds {
		for range tries {
			current := dice.IntN(100)
			before := (current + 1 + dice.IntN(99)) % 100
			if guess := dice.IntN(100); guess == current || guess == before {
				hits++
				break
			}
		}
	}
	if got := float64(hits) / rounds; math.Abs(got-line.Number) > 0.02 {
		t.Errorf("guessing succeeded in %.3f of all days, the report says %.3f (%s)", got, line.Number, line.Because)
	}
}

// What is missing, or worse than recommended, is said.
func TestWarnings(t *testing.T) {
	p := policies(t)
	for name, one := range p {
		one.CodeLife, one.Tries = time.Hour, 20
		p[name] = one
	}
	text := ""
	for _, f := range Report(Input{Policies: p, SMS: true}) {
		text += f.About + ": " + f.Value + " | " + f.Warning + "\n"
	}
	for _, want := range []string{"give a rule by address", "give a rule by network", "new = true", "an open bill",
		"give the providers of SMS a cost", "at most 100 failed attempts", "10 minutes at most",
		"our own recommendation"} {
		if !strings.Contains(text, want) {
			t.Errorf("no warning says %q in\n%s", want, text)
		}
	}
	for _, f := range Report(
		Input{Rules: []limit.Rule{{Name: "sms", By: limit.All, Quota: limit.Quota{Times: 100, Window: limit.Day}}},
			Policies: policies(t), SMS: true, SMSCost: 0.07}) {
		if strings.HasPrefix(f.About, "money") && f.Value != "14.00" {
			t.Errorf("money: %s (%s), want 14.00: the quotas of two days touch 24 hours", f.Value, f.Because)
		}
	}
}
