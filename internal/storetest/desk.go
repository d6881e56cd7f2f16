package storetest

import (
	"errors"
	"fmt"
	"time"

	"github.com/illumicode/illumicode/internal/store"
)

func holds(b *bed) {
	b.worker("w")
	asked := b.put(func(d *store.Delivery) { d.HeldBy = store.HeldAsked })
	paused := b.put(nil)
	pause := store.Pause{Kind: "letter", Name: "moved", Since: start, Note: "wrong pier"}
	b.must(b.st.Pause(b.Context(), pause))
	b.must(b.st.Pause(b.Context(), pause))
	b.must(b.st.Hold(b.Context(), b.claim("w", 5)[0], pause.HeldBy(), "paused", start))
	if got, err := b.st.Pauses(b.Context()); err != nil || len(got) != 1 || got[0] != pause {
		b.Errorf("pauses %+v, %v", got, err)
	}
	if n, err := b.st.ReleaseStray(b.Context()); err != nil || n != 0 {
		b.Errorf("%d released while the pause lasts, %v", n, err)
	}
	if n, err := b.st.Resume(b.Context(), pause); err != nil || n != 1 || b.get(paused).State != store.Waiting ||
		b.get(asked).State != store.Held {
		b.Errorf("resumed %d, %v", n, err)
	}
	if _, err := b.st.Resume(b.Context(), pause); !errors.Is(err, store.ErrNotFound) {
		b.Errorf("resumed twice: %v", err)
	}
	// A worker that had not seen the end.
	b.must(b.st.Hold(b.Context(), b.claim("w", 5)[0], pause.HeldBy(), "paused", start))
	if n, err := b.st.ReleaseStray(b.Context()); err != nil || n != 1 {
		b.Errorf("%d strays, %v", n, err)
	}
	if n, err := b.st.Release(b.Context(), store.Filter{ID: asked}); err != nil || n != 1 ||
		b.get(asked).State != store.Waiting {
		b.Errorf("released %d, %v", n, err)
	}
}

// A wrong list is cancelled by its letter while it is being expanded: nothing of it comes later.
func wrongList(b *bed) {
	f := store.Fanout{ID: newID(), Draft: store.Delivery{Letter: "moved", Data: "{}", Lane: store.Bulk, Due: start,
		Created: start}}
	b.write(func(t store.Tx) error {
		if err := t.InsertFanout(b.Context(), f, ""); err != nil {
			return err
		}
		for piece := range 3 {
			if err := t.InsertPeople(b.Context(), store.Piece{List: f.ID, Number: piece,
				People: []store.Person{{Address: "m@ternisle.example"}}}); err != nil {
				return err
			}
		}
		return nil
	})
	if _, _, err := b.st.Expand(b.Context(), newID, nil); err != nil {
		b.Fatal(err)
	}
	if n, err := b.st.Cancel(b.Context(), store.Filter{Letter: "moved", Address: "other@ternisle.example"}, "",
		start); err != nil || n != 0 {
		b.Errorf("by another address %d, %v", n, err)
	}
	if n, err := b.st.Cancel(b.Context(), store.Filter{Letter: "moved"}, "wrong", start); err != nil || n != 2 {
		b.Errorf("cancelled %d, %v; want a delivery and the rest of its list", n, err)
	}
	if left, err := b.st.Left(b.Context(), start.Add(24*time.Hour)); err != nil || left {
		b.Errorf("something is left: %v", err)
	}
}

func bulk(b *bed) {
	b.worker("w")
	var third string
	for i := range 1203 { // more than two steps
		id := b.put(func(d *store.Delivery) {
			d.Key = fmt.Sprint("k", i%2)
			d.Due = start.Add(time.Duration(i) * time.Second)
		})
		if i == 2 {
			third = id
		}
	}
	claimed := b.claim("w", 1)
	b.must(b.begin(claimed[0]))
	idle, err := b.st.ClaimOne(b.Context(), "w", third, start)
	b.must(err)
	n, err := b.st.Cancel(b.Context(), store.Filter{Key: "k0"}, "storm", start)
	if err != nil || n != 601 {
		b.Errorf("cancelled %d, %v; want 601, as one has begun", n, err)
	}
	if err := b.begin(idle); !errors.Is(err, store.ErrFenced) {
		b.Errorf("the begin of one that was claimed and cancelled: %v", err)
	}
	count, err := b.st.Matching(b.Context(), store.Filter{})
	if err != nil || count[store.Cancelled] != 601 || count[store.Waiting] != 601 || count[store.Claimed] != 1 {
		b.Errorf("%v, %v", count, err)
	}
	if n, err := b.st.Hurry(b.Context(), store.Filter{Key: "k1"}, start); err != nil || n != 601 {
		b.Errorf("hurried %d, %v", n, err)
	}
	seen, before := 0, ""
	b.must(b.st.Each(b.Context(), store.Filter{Letter: "moved"}, func(d store.Delivery) error {
		if before != "" && d.ID >= before {
			return fmt.Errorf("%s after %s", d.ID, before)
		}
		seen, before = seen+1, d.ID
		return nil
	}))
	if seen != 1203 {
		b.Errorf("%d of 1203 exported", seen)
	}
	if all, err := b.st.List(b.Context(), store.Filter{Provider: "foghorn"}, "", 10); err != nil || len(all) != 0 {
		b.Errorf("%d through a provider that had none, %v", len(all), err)
	}
	if all, err := b.st.List(b.Context(), store.Filter{Provider: "harbour", CreatedAfter: start,
		CreatedBefore: start.Add(time.Second), State: store.Claimed, Lane: store.Normal, Address: claimed[0].Address},
		"", 10); err != nil || len(all) != 1 {
		b.Errorf("%d through the provider that has it, %v", len(all), err)
	}
	if found, err := b.st.DeliveriesByTail(b.Context(), claimed[0].ID[24:]); err != nil || len(found) != 1 {
		b.Errorf("%d by the tail, %v", len(found), err)
	}
}
