package storetest

import (
	"fmt"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/illumicode/illumicode/internal/core/choose"
	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/retry"
	"github.com/illumicode/illumicode/route"
)

// state returns a state that differs with n.
func state(n int64) judge.State {
	return judge.State{At: start.Add(time.Duration(n) * time.Microsecond), N: n}
}

// tallies change each where it is as expected, or missing.
func tallies(b *bed) {
	swap := func(name string, was, next judge.State) store.Swap {
		return store.Swap{Name: name, Was: was, Tally: store.Tally{State: next, Idle: start.Add(time.Minute)}}
	}
	look := func(name string, want judge.State) {
		b.Helper()
		if got, err := b.st.Tallies(b.Context(), []string{name, "missing"}); err != nil || got[name] != want ||
			got["missing"] != (judge.State{}) {
			b.Errorf("%s is %+v, want %+v, %v", name, got[name], want, err)
		}
	}
	for _, tt := range []struct {
		name  string
		swaps []store.Swap
		want  int
	}{
		{"two new ones", []store.Swap{swap("a", judge.State{}, state(1)), swap("b", judge.State{}, state(1))}, 2},
		{"one new, one as expected", []store.Swap{swap("b", state(1), state(2)), swap("c", judge.State{}, state(1))},
			2},
		{"one not as expected", []store.Swap{swap("a", state(1), state(5)), swap("b", state(1), state(5)),
			swap("d", judge.State{}, state(5))}, 2},
		{"thought to be new", []store.Swap{swap("a", judge.State{}, state(5)), swap("b", state(2), state(5))}, 1},
		{"swept meanwhile", []store.Swap{swap("e", state(7), state(8))}, 1},
	} {
		if did, err := b.st.SwapTallies(b.Context(), tt.swaps); err != nil || len(did) != tt.want {
			b.Errorf("%s: changed %v, %v; want %d", tt.name, did, err, tt.want)
		}
	}
	look("a", state(5))
	look("b", state(5))
	look("c", state(1))
	look("d", state(5))
	look("e", state(8))
	b.must(b.st.WriteRelaxed(b.Context(), func(t store.Tx) error {
		held, err := t.LockTallies(b.Context(), []string{"a", "f"})
		if err == nil && (held["a"] != state(5) || held["f"] != judge.State{}) {
			b.Errorf("locked %+v", held)
		}
		b.must(err)
		return t.SetTallies(b.Context(), []store.Tally{{Name: "a", State: state(3), Idle: start.Add(time.Hour)},
			{Name: "f", State: state(4), Idle: start.Add(time.Hour)}})
	}))
	look("f", state(4))
	if n, err := b.st.SweepTallies(b.Context(), start.Add(2*time.Minute)); err != nil || n != 4 {
		b.Errorf("swept %d, %v; want b to e", n, err)
	}
	look("a", state(3))
	look("b", judge.State{})
}

// Of many who count the same keys at once, in both ways, every count is there in the end.
func talliesAtOnce(b *bed) {
	names := []string{"all", "one", "two"}
	var counted atomic.Int64
	var all sync.WaitGroup
	add := func(names []string, n int64) error {
		return b.st.WriteRelaxed(b.Context(), func(t store.Tx) error {
			held, err := t.LockTallies(b.Context(), names)
			if err != nil {
				return err
			}
			var next []store.Tally
			for _, name := range names {
				next = append(next, store.Tally{Name: name, State: state(held[name].N + n)})
			}
			return t.SetTallies(b.Context(), next)
		})
	}
	for i := range 8 {
		all.Go(func() {
			for k := 0; k < 12; {
				if i%2 == 0 {
					held, err := b.st.Tallies(b.Context(), names)
					if err != nil {
						b.Error(err)
						return
					}
					var swaps []store.Swap
					for _, name := range names {
						swaps = append(swaps,
							store.Swap{Name: name, Was: held[name], Tally: store.Tally{State: state(held[name].N + 1)}})
					}
					did, err := b.st.SwapTallies(b.Context(), swaps)
					if err == nil && 0 < len(did) && len(did) < 3 { // another was faster with the rest
						err = add(slices.Sorted(maps.Keys(did)), -1)
					}
					if err != nil {
						b.Errorf("changed %v, %v", did, err)
						return
					}
					if len(did) < 3 {
						continue
					}
				} else if err := add(names, 1); err != nil {
					b.Error(err)
					return
				}
				k++
				counted.Add(1)
			}
		})
	}
	all.Wait()
	held, err := b.st.Tallies(b.Context(), names)
	b.must(err)
	for _, name := range names {
		if n := held[name].N; n != counted.Load() {
			b.Errorf("%s counts %d, want %d", name, n, counted.Load())
		}
	}
}

// What is known of a provider is one for all; its connections are shared out and never more than it has.
func ways(b *bed) {
	fail := func(h choose.Health) choose.Health {
		return h.After(choose.Answer{Class: retry.Transient}, choose.Breaker{}, start, 0)
	}
	var all sync.WaitGroup
	for range 6 {
		all.Go(func() {
			if _, err := b.st.UpdateHealth(b.Context(), "harbour", start, fail); err != nil {
				b.Error(err)
			}
		})
	}
	all.Wait()
	known, err := b.st.Ways(b.Context())
	if err != nil || len(known) != 1 || known[0].Health.Failures != 6 || known[0].Health.Opened != 1 {
		b.Errorf("known of providers: %+v, %v", known, err)
	}
	if _, err := b.st.Resume(b.Context(), store.Pause{Kind: "provider", Name: "harbour"}); err != nil {
		b.Error(err)
	}
	if known, err = b.st.Ways(b.Context()); err != nil || !known[0].Health.Good() {
		b.Errorf("after it was resumed: %+v, %v", known, err)
	}
	var given atomic.Int64
	for _, worker := range []string{"a", "b", "c", "d"} {
		all.Go(func() {
			n, err := b.st.Share(b.Context(), store.Share{Provider: "harbour", Worker: worker, Whole: 5}, start,
				start.Add(time.Minute))
			if err != nil {
				b.Error(err)
			}
			given.Add(int64(n))
		})
	}
	all.Wait()
	if given.Load() != 5 {
		b.Errorf("%d of 5 connections are given out", given.Load())
	}
	b.must(b.st.ReturnShares(b.Context(), "a"))
	if n, err := b.st.Share(b.Context(), store.Share{Provider: "harbour", Worker: "e", Whole: 5},
		start.Add(2*time.Minute), start.Add(3*time.Minute)); err != nil || n != 5 {
		b.Errorf("after the others' time is over: %d of 5, %v", n, err)
	}
	caps := route.Caps{PerDay: 90, PerMonth: 60}
	quotas, _ := choose.States(caps)
	leased := atomic.Int64{}
	for range 20 {
		all.Go(func() {
			b.must(b.st.UpdateCaps(b.Context(), "harbour", quotas, start, func(held map[string]judge.State) {
				l, _ := choose.TakeLease(caps, held, true, start)
				leased.Add(int64(l.N))
			}))
		})
	}
	all.Wait()
	held, err := b.st.Caps(b.Context(), "harbour", quotas)
	if left := choose.Left(caps, held, start); err != nil || leased.Load() != 20 || left != 40 {
		b.Errorf("%d leased and %d left of 60, %v", leased.Load(), left, err)
	}
}

// What is known of recipient domains is one for all, says when it concerns the provider, and is bounded.
func paces(b *bed) {
	say := func(domain string, class retry.Class, at time.Time) bool {
		b.Helper()
		_, widely, err := b.st.UpdatePace(b.Context(), "harbour", domain, at, func(h choose.Health) choose.Health {
			return h.After(choose.Answer{Class: class}, choose.Breaker{}, at, 0)
		})
		b.must(err)
		return widely
	}
	for i, tt := range []struct {
		domain string
		class  retry.Class
		after  time.Duration
		widely bool
	}{
		{"a.example", retry.Throttled, 0, false}, {"a.example", retry.Throttled, time.Second, false},
		{"b.example", retry.Throttled, 30 * time.Second, false},
		{"c.example", retry.Throttled, 55 * time.Second, true},
		{"d.example", retry.Throttled, 10 * time.Minute, false}, // the others have been silent
		{"e.example", retry.Misconfigured, 10 * time.Minute, false},
		{"e.example", retry.Misconfigured, 15 * time.Minute, false}, // the same one
		{"f.example", retry.Misconfigured, 19 * time.Minute, true},
		{"g.example", retry.Misconfigured, 30 * time.Minute, false},
	} {
		if widely := say(tt.domain, tt.class, start.Add(tt.after)); widely != tt.widely {
			b.Errorf("answer %d, of %s: it concerns the provider: %v, want %v", i+1, tt.domain, widely, tt.widely)
		}
	}
	if _, err := b.st.Resume(b.Context(), store.Pause{Kind: "domain", Name: "e.example"}); err != nil {
		b.Error(err)
	}
	known, err := b.st.Paces(b.Context())
	if err != nil || len(known) != 6 || known[0].Domain != "a.example" || known[0].Health.Gap != 100*time.Millisecond {
		b.Errorf("known of domains: %+v, %v", known, err)
	}
	for range 100 { // it recovers
		say("a.example", retry.Accepted, start.Add(time.Hour))
	}
	for i := range 1010 {
		say(fmt.Sprintf("x%d.example", i), retry.Throttled, start.Add(2*time.Hour+time.Duration(i)*time.Second))
	}
	if known, err = b.st.Paces(b.Context()); err != nil || len(known) != 1000 || known[0].Domain == "a.example" {
		b.Errorf("%d domains are known, of which the first is %s, %v; want the newest thousand", len(known),
			known[0].Domain, err)
	}
	if _, err := b.st.Resume(b.Context(), store.Pause{Kind: "provider", Name: "harbour"}); err != nil {
		b.Error(err)
	}
	if known, err = b.st.Paces(b.Context()); err != nil || len(known) != 0 {
		b.Errorf("after the provider was resumed %d domains are known, %v", len(known), err)
	}
}
