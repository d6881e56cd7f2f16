package storetest

import (
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/retry"
)

func exclusive(b *bed) {
	for range 200 {
		b.put(nil)
	}
	var mu sync.Mutex
	got := make(map[string]int)
	var all sync.WaitGroup
	for i := range 8 {
		worker := fmt.Sprintf("w%d", i)
		b.worker(worker)
		all.Go(func() {
			for empty := 0; empty < 3; {
				claimed, err := b.st.Claim(b.Context(), worker, store.Reach{Lane: store.Normal, Most: 7}, start)
				if err != nil {
					b.Error(err)
					return
				}
				if len(claimed) == 0 {
					empty++
				}
				mu.Lock()
				for _, d := range claimed {
					got[d.ID]++
				}
				mu.Unlock()
			}
		})
	}
	all.Wait()
	for id, n := range got {
		if n != 1 {
			b.Errorf("%s was claimed %d times", id, n)
		}
	}
	if len(got) != 200 {
		b.Errorf("%d of 200 were claimed", len(got))
	}
}

func claims(b *bed) {
	b.worker("w")
	late := b.put(func(d *store.Delivery) { d.Due = start.Add(time.Hour) })
	newer := b.put(func(d *store.Delivery) { d.Version = store.Knows + 1 })
	first := b.put(func(d *store.Delivery) { d.Due = start.Add(-2 * time.Second) })
	second := b.put(func(d *store.Delivery) { d.Due = start.Add(-time.Second) })
	b.put(func(d *store.Delivery) { d.Lane = store.Bulk })
	mark := store.Mark{Due: start.Add(-2 * time.Second), ID: first}
	got, err := b.st.Claim(b.Context(), "w", store.Reach{Lane: store.Normal, After: mark, Most: 10}, start)
	if err != nil || len(got) != 1 || got[0].ID != second || got[0].State != store.Claimed || got[0].Claim != 1 {
		b.Fatalf("behind the mark: %+v, %v", got, err)
	}
	for _, probe := range []struct {
		after store.Mark
		want  bool
	}{{store.Mark{}, true}, {store.Mark{Due: start, ID: "g"}, false}} {
		if any, err := b.st.AnyDue(b.Context(), store.Normal, probe.after, start); err != nil || any != probe.want {
			b.Errorf("anything due behind %v: %v, %v", probe.after, any, err)
		}
	}
	if got := b.claim("w", 10); len(got) != 1 || got[0].ID != first {
		b.Errorf("from the head: %+v", got)
	}
	if b.get(late).State != store.Waiting || b.get(newer).State != store.Waiting {
		b.Error("what is not due, or of a newer version, was claimed")
	}
	d, err := b.st.ClaimOne(b.Context(), "w", late, start)
	if err != nil || d.ID != late {
		b.Errorf("ClaimOne of what is not due: %+v, %v", d, err)
	}
	b.must(b.st.Unclaim(b.Context(), d, start.Add(time.Minute), "given back"))
	if d := b.get(late); d.State != store.Waiting || !d.Due.Equal(start.Add(time.Hour)) || d.Note != "given back" {
		b.Errorf("given back: %+v", d)
	}
}

func fencing(b *bed) {
	b.worker("slow")
	id := b.put(nil)
	old := b.claim("slow", 1)[0]
	b.must(b.begin(old))
	back, err := b.st.Recover(b.Context(), start.Add(2*time.Minute), nil)
	if err != nil || back.Released != 1 || back.UnderWay != 1 {
		b.Fatalf("Recover = %+v, %v", back, err)
	}
	// The worker has claimed it once more: in one group with the claim that it lost, one may begin.
	again, err := b.st.ClaimOne(b.Context(), "slow", id, start)
	b.must(err)
	var group []store.Beginning
	for _, d := range []store.Delivery{old, again} {
		group = append(group,
			store.Beginning{
				Delivery: d, Attempt: store.Attempt{Delivery: id, Number: again.Attempts + 1, Provider: "harbour",
					Begun: start}})
	}
	if begun, err := b.st.Record(b.Context(), group, nil); err != nil || begun[old.ClaimKey()] ||
		!begun[again.ClaimKey()] {
		b.Errorf("of the lost and the good claim began %v, %v", begun, err)
	}
	b.must(b.st.Unbegin(b.Context(), again, start, start))
	const tries = 2
	late := old
	late.Attempts = tries
	if err := b.begin(late); !errors.Is(err, store.ErrFenced) {
		b.Errorf("begin under a lost claim: %v", err)
	}
	for _, state := range []store.State{store.Sent, store.Failed, store.Waiting} {
		b.end(old, state, retry.Accepted, nil)
		if d := b.get(id); d.State != store.Waiting || d.Attempts != tries || d.Note == "" {
			b.Errorf("an end as %s under a lost claim: %+v", state, d)
		}
	}
}

// A claim fences in both directions: what was claimed earlier writes nothing, and neither does a number that nobody
// has had yet.
func fences(b *bed) {
	b.worker("w")
	id := b.put(nil)
	lost := b.claim("w", 1)[0]
	b.must(b.st.Unclaim(b.Context(), lost, start, ""))
	held := b.claim("w", 1)[0]
	invented := held
	invented.Claim += 7
	for what, write := range map[string]func(store.Delivery) error{
		"Unclaim": func(d store.Delivery) error { return b.st.Unclaim(b.Context(), d, start, "x") },
		"Hold":    func(d store.Delivery) error { return b.st.Hold(b.Context(), d, store.HeldAsked, "x", start) },
		"Drop": func(d store.Delivery) error {
			return b.st.Drop(b.Context(), d, store.Ending{State: store.Suppressed, At: start})
		},
		"an end": func(d store.Delivery) error {
			b.end(d, store.Failed, retry.MessageRefused, nil)
			return nil
		},
		"a begin": func(d store.Delivery) error {
			if err := b.begin(d); !errors.Is(err, store.ErrFenced) {
				b.Errorf("a begin under claim %d of %d: %v", d.Claim, held.Claim, err)
			}
			return nil
		},
	} {
		for _, d := range []store.Delivery{lost, invented} {
			b.must(write(d))
			if now := b.get(id); now.State != store.Claimed || now.Claim != held.Claim || now.Note != "" {
				b.Fatalf("%s under claim %d of %d: %+v", what, d.Claim, held.Claim, now)
			}
		}
	}
}

// What a worker claimed and does not know of waits again, under another claim; what it knows of,
// and what it claimed just now, stays.
func unheard(b *bed) {
	b.worker("w")
	b.put(nil)
	b.put(nil)
	all := b.claim("w", 2)
	later, known := start.Add(time.Minute), []string{all[0].ID}
	of := store.Unheard{Worker: "w", Known: known, Before: start}
	if n, err := b.st.RecoverUnheard(b.Context(), of, later, nil); err != nil || n.Released != 0 {
		b.Errorf("%+v, %v; a claim of just now is given back", n, err)
	}
	of.Before = later
	n, err := b.st.RecoverUnheard(b.Context(), of, later, nil)
	if known, lost := b.get(all[0].ID), b.get(all[1].ID); err != nil || n.Released != 1 ||
		known.State != store.Claimed ||
		lost.State != store.Waiting || lost.Claim == all[1].Claim {
		b.Errorf("%+v, %v: known %s, unheard %s under claim %d", n, err, known.State, lost.State, lost.Claim)
	}
}

func recovery(b *bed) {
	b.must(b.st.Beat(b.Context(), store.Worker{ID: "dead", Seen: start, Lease: start.Add(time.Second)}))
	b.put(nil)
	unsure := b.put(func(d *store.Delivery) { d.Once = true })
	b.put(nil)
	claimed := b.claim("dead", 3)
	for _, d := range claimed[:2] {
		b.must(b.begin(d))
	}
	if claimed[2].ID == unsure {
		b.must(b.begin(claimed[2]))
	}
	var released, underWay atomic.Int64
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			r, err := b.st.Recover(b.Context(), start.Add(time.Minute), func(d store.Delivery) store.Sequel {
				other := d
				other.ID, other.Address = "in the place of "+d.ID, "jens@ternisle.example"
				return store.Sequel{Fallback: &other,
					Event: &store.Event{Source: "here", ID: "1", Type: "t", Data: "{}"}}
			})
			if err != nil {
				b.Error(err)
			}
			released.Add(r.Released)
			underWay.Add(r.UnderWay)
		})
	}
	all.Wait()
	if released.Load() != 3 || underWay.Load() < 2 {
		b.Errorf("%d released, %d perhaps sent", released.Load(), underWay.Load())
	}
	if d := b.get(unsure); d.State != store.Unknown || d.Attempts != 1 {
		b.Errorf("at most once, after a crash: %+v", d)
	}
	if d := b.get("in the place of " + unsure); d.State != store.Waiting || d.Address != "jens@ternisle.example" {
		b.Errorf("what follows it: %+v", d)
	}
	if n, err := b.st.EventsWaiting(b.Context()); err != nil || n != 1 {
		b.Errorf("%d events tell of it, %v", n, err)
	}
}
