package verdict

import (
	"testing"
	"time"

	"github.com/illumicode/illumicode/retry"
)

var t0 = time.Date(2031, 1, 2, 3, 4, 5, 0, time.UTC)

func TestJudge(t *testing.T) {
	p := retry.Policy{Attempts: 3, Base: 10 * time.Second, Max: time.Minute}
	soon := t0.Add(5 * time.Second)
	for _, tt := range []struct {
		name   string
		d      Delivery
		c      retry.Class
		jitter float64
		want   Verdict
	}{
		{"accepted", Delivery{Attempts: 1}, retry.Accepted, 0, Verdict{Done, time.Time{}, true}},
		{"accepted by the last attempt", Delivery{Attempts: 3}, retry.Accepted, 0, Verdict{Done, time.Time{}, true}},
		{"another provider can go", Delivery{Attempts: 2, Elsewhere: true}, retry.Transient, 0.5,
			Verdict{Again, t0.Add(1500 * time.Millisecond), true}},
		{"another than the one that throttles", Delivery{Attempts: 1, After: time.Hour, Elsewhere: true},
			retry.Throttled, 0, Verdict{Again, t0.Add(time.Second), false}},
		{"ambiguous does not go elsewhere", Delivery{Attempts: 1, Elsewhere: true}, retry.Ambiguous, 0.5,
			Verdict{Again, t0.Add(7500 * time.Millisecond), true}},
		{"never this address", Delivery{Attempts: 1}, retry.RecipientRefused, 0, Verdict{GiveUp, time.Time{}, true}},
		{"never this letter", Delivery{Attempts: 1}, retry.MessageRefused, 0, Verdict{GiveUp, time.Time{}, true}},
		{"first, least wait", Delivery{Attempts: 1}, retry.Transient, 0, Verdict{Again, t0.Add(5 * time.Second), true}},
		{"first, half", Delivery{Attempts: 1}, retry.Transient, 0.5,
			Verdict{Again, t0.Add(7500 * time.Millisecond), true}},
		{"second doubles", Delivery{Attempts: 2}, retry.Ambiguous, 0.5, Verdict{Again, t0.Add(15 * time.Second), true}},
		{"last", Delivery{Attempts: 3}, retry.Transient, 0.5, Verdict{GiveUp, time.Time{}, true}},
		{"our own fault never gives up", Delivery{Attempts: 99}, retry.Misconfigured, 0.5,
			Verdict{Again, t0.Add(45 * time.Second), false}},
		{"throttled, with a time", Delivery{Attempts: 99, After: time.Hour}, retry.Throttled, 0.5,
			Verdict{Again, t0.Add(time.Hour + 5*time.Second), false}},
		{"throttled past the deadline", Delivery{Attempts: 1, After: time.Hour, DeliverBefore: soon}, retry.Throttled,
			0, Verdict{TooLate, time.Time{}, false}},
		{"after the deadline", Delivery{Attempts: 1, DeliverBefore: soon}, retry.Transient, 0.9,
			Verdict{TooLate, time.Time{}, true}},
		{"before the deadline", Delivery{Attempts: 1, DeliverBefore: t0.Add(time.Minute)}, retry.Transient, 0.1,
			Verdict{Again, t0.Add(5500 * time.Millisecond), true}},
		{"at the deadline", Delivery{Attempts: 1, DeliverBefore: t0.Add(5 * time.Second)}, retry.Transient, 0,
			Verdict{TooLate, time.Time{}, true}},
	} {
		if got := Judge(p, tt.d, tt.c, t0, tt.jitter); got != tt.want {
			t.Errorf("%s: %+v, want %+v", tt.name, got, tt.want)
		}
	}
}

// With the defaults, the waits never shrink with n for one jitter, and never pass the cap.
func TestWaitGrows(t *testing.T) {
	p := withDefaults(retry.Policy{})
	last := time.Duration(0)
	for n := range 2000 { // far past where the power overflows an integer
		w := wait(p, n, 0.99)
		if w < last || w > p.Max+p.Base {
			t.Fatalf("wait after attempt %d = %v, after %v", n, w, last)
		}
		last = w
	}
}

// A letter without a deadline is tried for four days, ever more rarely, and no more than 45 times; not so where a
// policy counts, or where a provider is to blame.
func TestDays(t *testing.T) {
	for _, jitter := range []float64{0, 0.5, 0.999} {
		now, n := t0, 1
		for ; ; n++ {
			v := Judge(retry.Policy{}, Delivery{Attempts: n, First: t0}, retry.Transient, now, jitter)
			if v.Action == GiveUp {
				break
			}
			if pause := v.At.Sub(now); pause > 4*time.Hour || pause <= 0 {
				t.Fatalf("attempt %d: a pause of %v", n, pause)
			}
			now = v.At
		}
		if took := now.Sub(t0); n > 45 || n < 30 || took > 4*24*time.Hour || n < 45 && took < 3*24*time.Hour {
			t.Errorf("with jitter %v it gives up after %d attempts and %v", jitter, n, took)
		}
	}
	late := t0.Add(5 * 24 * time.Hour)
	dated := func(n int) Delivery {
		return Delivery{Attempts: n, First: t0, DeliverBefore: late.Add(24 * time.Hour)}
	}
	for name, tt := range map[string]struct {
		p    retry.Policy
		d    Delivery
		c    retry.Class
		want Action
	}{
		"it counts": {retry.Policy{Attempts: 99}, Delivery{Attempts: 50, First: t0}, retry.Transient,
			Again},
		"the provider throttles": {retry.Policy{}, Delivery{Attempts: 50, First: t0}, retry.Throttled, Again},
		"its domain throttles": {retry.Policy{}, Delivery{Attempts: 1, First: t0, Domain: true}, retry.Throttled,
			GiveUp},
		"a deadline of its own":   {retry.Policy{}, dated(9), retry.Transient, Again},
		"the 45th with its own":   {retry.Policy{}, dated(45), retry.Transient, GiveUp},
		"after five days, though": {retry.Policy{}, Delivery{Attempts: 9, First: t0}, retry.Transient, GiveUp},
	} {
		if v := Judge(tt.p, tt.d, tt.c, late, 0.5); v.Action != tt.want {
			t.Errorf("%s: %s", name, v.Action)
		}
	}
}
