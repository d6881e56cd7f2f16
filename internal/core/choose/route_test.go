package choose

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode/retry"
	"github.com/illumicode/illumicode/route"
)

var now = time.Date(2031, 5, 1, 14, 0, 0, 0, time.UTC)

func three(change func(h, p, b *Candidate)) []Candidate {
	h, p, b := Candidate{Name: "harbour", Cost: 3}, Candidate{Name: "pier", Cost: 1}, Candidate{Name: "beacon", Cost: 2}
	if change != nil {
		change(&h, &p, &b)
	}
	return []Candidate{h, p, b}
}

func TestChoose(t *testing.T) {
	noon := now.Add(time.Hour)
	for _, tt := range []struct {
		name      string
		by        route.Order
		elsewhere bool
		change    func(h, p, b *Candidate)
		want      string
		at        time.Time
		says      string
	}{
		{"first", route.Listed, false, nil, "harbour", time.Time{}, "harbour: chosen; pier: not needed"},
		{"cheapest", route.Cost, false, nil, "pier", time.Time{}, ""},
		{"another after a failure", route.Listed, false, func(h, _, _ *Candidate) { h.Tried = 1 }, "pier", time.Time{},
			"pier: chosen, as another was tried before"},
		{"round again", route.Listed, false, func(h, p, b *Candidate) { h.Tried, p.Tried, b.Tried = 1, 1, 1 },
			"harbour", time.Time{}, ""},
		{"a resend prefers one not used yet", route.Listed, false, func(h, _, _ *Candidate) { h.Carried = true },
			"pier", time.Time{}, "as another carried"},
		{"tried less comes first", route.Listed, false, func(h, p, b *Candidate) {
			h.Carried, p.Tried, b.Tried = true,
				1, 1
		}, "harbour", time.Time{}, ""},
		{"cannot carry it", route.Listed, false, func(h, _, _ *Candidate) { h.Unable = "carries no SMS" }, "pier",
			time.Time{}, "harbour: carries no SMS"},
		{"quota, circuit, chosen", route.Listed, false, func(h, p, _ *Candidate) {
			h.FreeAt, h.Cap = noon, "day quota used"
			p.Health = Health{Until: now.Add(3 * time.Minute), Opened: 1, Class: retry.Transient}
		}, "beacon", time.Time{},
			"harbour: day quota used, free at 05-01 15:00:00; pier: circuit open (transient) until 05-01 14:03:00; " +
				"beacon: chosen"},
		{"none now", route.Listed, false, func(h, p, b *Candidate) {
			h.FreeAt, h.Cap = noon, "day quota used"
			p.Health, b.Paused = Health{Until: now.Add(3 * time.Minute), Opened: 1}, true
		}, "", now.Add(3 * time.Minute), "beacon: paused"},
		{"none ever", route.Listed, false, func(h, p, b *Candidate) { h.Unable, p.Unable, b.Unable = "x", "x", "x" },
			"", time.Time{}, ""},
		{"ambiguous stays", route.Listed, true, func(_, p, _ *Candidate) { p.Unsure, p.Tried = true, 1 }, "pier",
			time.Time{}, "alone can tell a repeat"},
		{"ambiguous waits", route.Listed, false, func(_, p, _ *Candidate) {
			p.Unsure, p.Health = true,
				Health{Until: noon, Opened: 1}
		}, "", noon, "harbour: passed over, as pier may have the letter"},
		{"a proof need not wait", route.Listed, true, func(_, p, _ *Candidate) {
			p.Unsure, p.Tried, p.Health = true,
				1, Health{Until: noon, Opened: 1}
		}, "harbour", time.Time{}, ""},
		{"ambiguous with one that is gone", route.Listed, false, func(_, p, _ *Candidate) {
			p.Unsure, p.Unable = true, "may not send from here"
		}, "harbour", time.Time{}, ""},
	} {
		c := Choose(three(tt.change), tt.by, tt.elsewhere, 0.5, now)
		if c.Provider != tt.want || !c.At.Equal(tt.at) || !strings.Contains(c.String(), tt.says) {
			t.Errorf("%s: %q at %v: %s; want %q at %v: %s", tt.name, c.Provider, c.At, c, tt.want, tt.at, tt.says)
		}
	}
	if c := Choose(three(func(h, p, b *Candidate) { h.Paused, p.Unable, b.Unable = true, "x", "x" }), route.Listed,
		false, 0, now); c.Paused != "harbour" {
		t.Errorf("only a paused one is left: %+v", c)
	}
}

func TestWeights(t *testing.T) {
	dice := rand.New(rand.NewPCG(1, 2))
	got := make(map[string]int)
	for range 10000 {
		got[Choose(three(func(h, p, b *Candidate) { h.Weight, p.Weight = 7, 2 }), route.Weights, false, dice.Float64(),
			now).Provider]++
	}
	for name, want := range map[string]float64{"harbour": 0.7, "pier": 0.2, "beacon": 0.1} {
		if share := float64(got[name]) / 10000; math.Abs(share-want) > 0.02 {
			t.Errorf("%s carries %.3f, want %.1f", name, share, want)
		}
	}
}

// A circuit opens after failures that say something of the provider, stays open longer each time, lets
// one probe through, and closes with a success.
func TestCircuit(t *testing.T) {
	var h Health
	at := now
	lost := Answer{Class: retry.Transient}
	for range 48 { // all that were on their way when it fell over
		h = h.After(lost, Breaker{}, at.Add(-time.Minute), 0)
	}
	if until, _ := h.Shut(Breaker{}, at.Add(-time.Minute)); h.Opened != 1 || until.Sub(at) != -45*time.Second {
		t.Errorf("48 failures at once: open until %v, opened %d times", until, h.Opened)
	}
	h = Health{}
	for range 4 {
		h = h.After(lost, Breaker{}, at, 0)
	}
	for _, harmless := range []Answer{{Class: retry.Transient, Code: 450}, {Class: retry.RecipientRefused, Code: 550},
		{Class: retry.MessageRefused, Code: 554}} {
		if broken := h.After(harmless, Breaker{}, at, 0); !broken.Good() {
			t.Errorf("%+v speaks against the provider: %+v", harmless, broken)
		}
	}
	if _, why := h.Shut(Breaker{}, at); why != "" {
		t.Errorf("shut after four failures: %s", why)
	}
	for i, want := range []time.Duration{15 * time.Second, 30 * time.Second, time.Minute, 2 * time.Minute,
		4 * time.Minute, 8 * time.Minute, 10 * time.Minute, 10 * time.Minute} {
		h = h.After(lost, Breaker{}, at, 0)
		until, _ := h.Shut(Breaker{}, at)
		if got := until.Sub(at); got != want {
			t.Fatalf("opening %d lasts %v, want %v", i+1, got, want)
		}
		at = until
		if _, why := h.Shut(Breaker{}, at); why != "" {
			t.Fatalf("no probe after opening %d: %s", i+1, why)
		}
		var probe bool
		if h, probe = h.Probing(at); !probe {
			t.Fatal("the first letter after a circuit was open is no probe")
		}
		if _, why := h.Shut(Breaker{}, at.Add(time.Second)); why == "" {
			t.Fatal("two letters at once probe a provider")
		}
	}
	if _, why := h.Shut(Breaker{}, at.Add(2*time.Minute)); why != "" {
		t.Errorf("a probe whose worker died shuts it for ever: %s", why)
	}
	if h = h.After(Answer{Class: retry.Accepted}, Breaker{}, at, 0); !h.Good() {
		t.Errorf("after a success: %+v", h)
	}
	if until, why := h.After(Answer{Class: retry.Misconfigured, Code: 535}, Breaker{}, at, 0).Shut(Breaker{},
		at); why == "" || until.Sub(at) != time.Minute {
		t.Errorf("a wrong password: open until %v, %q", until, why)
	}
}

// "Slow down" is heeded for as long as it says, and what follows is slower, until successes have made
// up for it.
func TestThrottle(t *testing.T) {
	h := Health{}.After(Answer{Class: retry.Throttled, Code: 429, After: 7 * time.Second}, Breaker{}, now, 0)
	if until, _ := h.Shut(Breaker{}, now); until.Sub(now) != 7*time.Second {
		t.Errorf("left alone until %v", until)
	}
	if _, why := h.Shut(Breaker{}, now.Add(7*time.Second)); why != "" || h.Gap != 50*time.Millisecond {
		t.Errorf("after that: %q, a gap of %v", why, h.Gap)
	}
	for range 20 {
		h = h.After(Answer{Class: retry.Throttled, Code: 452}, Breaker{}, now, 0)
	}
	if h.Gap != time.Minute {
		t.Errorf("the gap grows to %v", h.Gap)
	}
	n := 0
	for ; h.Gap > 0; n++ {
		before := h.Gap
		h = h.After(Answer{Class: retry.Accepted}, Breaker{}, now, 0)
		if h.Gap < before*9/10 && h.Gap > 0 {
			t.Fatalf("the gap falls from %v to %v by one success", before, h.Gap)
		}
	}
	if n < 100 || n > 300 {
		t.Errorf("%d successes until it is forgotten", n)
	}
}

// A provider that fails and says for how long is left alone for as long, at once.
func TestFailsForAWhile(t *testing.T) {
	h := Health{}.After(Answer{Class: retry.Transient, Code: 503, After: 10 * time.Minute}, Breaker{}, now, 0)
	if until, why := h.Shut(Breaker{}, now); until.Sub(now) != 10*time.Minute || why == "" {
		t.Errorf("left alone until %v, %q", until, why)
	}
	if h = h.After(Answer{Class: retry.Accepted}, Breaker{}, now, 0); !h.Good() {
		t.Errorf("after a success: %+v", h)
	}
}

func BenchmarkChoose(b *testing.B) {
	var all []Candidate
	for i := range 10 {
		all = append(all, Candidate{Name: string(rune('a' + i)), Weight: i, Carried: i == 0})
	}
	for b.Loop() {
		if Choose(all, route.Weights, false, 0.5, now).Provider == "" {
			b.Fatal("none")
		}
	}
}
