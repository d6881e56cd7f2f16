package choose

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/route"
)

// Workers lease, send, lose leases with their lives, and give rests back, over some days around a change
// of the clocks: no day and no month of the provider's calendar ever sees more than its cap, nor more of
// other lanes than leaves the urgent one its share; and what is lost is bounded and comes back.
func TestLeases(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	caps := route.Caps{PerDay: 2000, PerMonth: 5000, Zone: zone}
	if err := CheckCaps(caps); err != nil {
		t.Fatal(err)
	}
	dice := rand.New(rand.NewPCG(3, 4))
	held := make(map[string]judge.State)
	type worker struct {
		lease  Lease
		urgent bool
	}
	workers := make([]worker, 6)
	sent := make(map[string][2]int) // by day and by month: of other lanes, of the urgent one
	lost := make(map[string]int)
	at := time.Date(2031, 3, 29, 12, 0, 0, 0, zone) // the night after, clocks go forward
	for end := at.AddDate(0, 0, 5); at.Before(end); at = at.Add(time.Duration(dice.IntN(20000)) * time.Millisecond) {
		i := dice.IntN(len(workers))
		w := &workers[i]
		switch dice.IntN(400) {
		case 0: // killed
			lost[at.Format(time.DateOnly)] += w.lease.N
			*w = worker{}
		case 1: // ends in order
			if at.Before(w.lease.Ends) {
				Return(caps, held, w.lease.N, at)
			}
			*w = worker{}
		}
		if w.lease.N == 0 || !at.Before(w.lease.Ends) {
			w.urgent = i == 0
			w.lease, _ = TakeLease(caps, held, w.urgent, at)
		}
		if w.lease.N == 0 {
			continue
		}
		w.lease.N--
		for _, window := range []string{at.Format(time.DateOnly), at.Format("2006-01")} {
			n := sent[window]
			n[map[bool]int{false: 0, true: 1}[w.urgent]]++
			sent[window] = n
		}
	}
	full := 0
	for window, n := range sent {
		whole := caps.PerDay
		if len(window) == 7 {
			whole = caps.PerMonth
		}
		if n[0]+n[1] > whole || n[0] > whole-Kept(caps, whole) {
			t.Errorf("%s: %d and %d urgent of %d", window, n[0], n[1], whole)
		}
		if len(window) == 10 && n[0]+n[1]+lost[window] >= whole-10 {
			full++
		}
		if lost[window] > whole/20 {
			t.Errorf("%s: %d letters were lost with their workers", window, lost[window])
		}
	}
	if full < 3 {
		t.Errorf("%d days were full, which proves little: %v", full, sent)
	}
}

// However workers ask, letters keep their distance: no second has more than the cap, and urgent ones wait
// for a moment only, whatever the others want.
func TestSlots(t *testing.T) {
	caps := route.Caps{PerSecond: 20}
	dice := rand.New(rand.NewPCG(5, 6))
	held := make(map[string]judge.State)
	var all []time.Time
	at, common := now, 0
	for at.Sub(now) < 2*time.Minute {
		at = at.Add(time.Duration(dice.IntN(4000)) * time.Microsecond)
		urgent := dice.IntN(200) == 0
		s, again := TakeSlots(caps, held, Health{}, urgent, at)
		if s.N == 0 && !again.After(at) {
			t.Fatalf("no moment at %v, and told to come back at %v", at, again)
		}
		if urgent && (s.N == 0 || s.From.Sub(at) > ahead+100*time.Millisecond) {
			t.Fatalf("an urgent letter waits until %v", s.From.Sub(at))
		}
		for i := range s.N {
			all = append(all, s.From.Add(time.Duration(i)*s.Gap))
			if !urgent {
				common++
			}
		}
	}
	slices.SortFunc(all, time.Time.Compare)
	for i, j := 0, 0; j < len(all); j++ {
		for all[j].Sub(all[i]) >= time.Second {
			i++
		}
		if n := j - i + 1; float64(n) > caps.PerSecond {
			t.Fatalf("%d letters within a second, the cap is %g", n, caps.PerSecond)
		}
	}
	if share := float64(common) / 120 / caps.PerSecond; share < 0.65 || share > 0.8 {
		t.Errorf("other lanes use %.2f of the cap, want two thirds to four fifths, as urgent ones get in between",
			share)
	}
}

func TestBadCaps(t *testing.T) {
	for _, c := range []route.Caps{{PerDay: -1}, {PerSecond: 1e6}, {PerSecond: 1e-9}, {PerDay: 500, PerMonth: 300},
		{PerDay: 1, Reserve: 1}} {
		if CheckCaps(c) == nil {
			t.Errorf("%+v is taken", c)
		}
	}
	// A quota that is changed while in use counts what was sent already.
	held := make(map[string]judge.State)
	TakeLease(route.Caps{PerDay: 100}, held, true, now)
	if n := Left(route.Caps{PerDay: 3}, held, now); n != 2 {
		t.Errorf("after one letter, a cap of 3 has %d left", n)
	}
	if _, full := TakeLease((route.Caps{PerDay: 1}), held, true, now); full.Cap != "day quota used" ||
		!full.At.After(now) {
		t.Errorf("a cap lowered to what was sent: %+v", full)
	}
}
