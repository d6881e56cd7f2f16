package storetest

import (
	"errors"
	"fmt"
	"time"

	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/retry"
)

// recalls takes letters back: what is claimed, what comes later, and what an attempt gives back.
func recalls(b *bed) {
	b.worker("w")
	for range 6 {
		b.put(nil)
	}
	other := b.put(func(d *store.Delivery) { d.Letter = "trial" })
	claimed := b.claim("w", 3)
	b.must(b.begin(claimed[0]))
	r := store.Recall{ID: "r1", Choice: store.Filter{Letter: "moved"}, Why: "the wrong pier", Made: start}
	b.must(b.st.Recall(b.Context(), r))
	if err := b.begin(claimed[1]); !errors.Is(err, store.ErrFenced) {
		b.Errorf("a begin after the recall: %v", err)
	}
	if all := b.claim("w", 9); len(all) != 1 || all[0].ID != other {
		b.Errorf("claimed %d, want the other letter alone", len(all))
	}
	for _, want := range []int64{5, 0} {
		if n, err := b.st.HoldRecalled(b.Context(), start, 0); err != nil || n != want {
			b.Errorf("held %d, %v, want %d", n, err, want)
		}
	}
	if d := b.get(claimed[1].ID); d.State != store.Held || d.HeldBy != r.HeldBy() || d.Claim == claimed[1].Claim ||
		d.Version <= store.Version { // or a worker that knows no recalls would take it, once it is released
		b.Errorf("what was claimed is %+v", d)
	}
	b.arrivals(r, "1 may have it, 5 will not")
	b.end(claimed[0], store.Waiting, retry.Transient, func(e *store.End) { e.Due = start })
	later := b.put(nil)
	if all := b.claim("w", 9); len(all) != 0 {
		b.Errorf("claimed %d that were recalled", len(all))
	}
	if n, err := b.st.HoldDue(b.Context(), start, time.Minute); err != nil || n != 2 {
		b.Errorf("held %d, %v, want what was given back and what came later", n, err)
	}
	if n, err := b.st.Release(b.Context(), store.Filter{Letter: "moved"}); err != nil || n != 0 {
		b.Errorf("released %d, %v of what is recalled", n, err)
	}
	if n, err := b.st.ReleaseRecalled(b.Context(), r, store.Filter{ID: later}); err != nil || n != 1 {
		b.Errorf("released %d, %v in part", n, err)
	}
	b.sent(later)
	b.arrivals(r, "1 has it, 6 will not")
	b.must(b.st.EndRecall(b.Context(), r.ID, start))
	r, err := b.st.RecallOf(b.Context(), r.ID)
	b.must(err)
	if all, err := b.st.Recalls(b.Context()); err != nil || len(all) != 0 || r.Ended.IsZero() {
		b.Errorf("%d recalls hold, %v; it ended at %v", len(all), err, r.Ended)
	}
	if n, err := b.st.ReleaseRecalled(b.Context(), r, store.Filter{}); err != nil || n != 6 {
		b.Errorf("released %d, %v", n, err)
	}
	if all := b.claim("w", 9); len(all) != 6 {
		b.Errorf("claimed %d afterwards, want 6", len(all))
	}
}

// sent claims a delivery and records that it was sent.
func (b *bed) sent(id string) {
	b.Helper()
	d, err := b.st.ClaimOne(b.Context(), "w", id, start)
	b.must(err)
	b.must(b.begin(d))
	b.end(d, store.Sent, retry.Accepted, nil)
}

func (b *bed) arrivals(r store.Recall, want string) {
	b.Helper()
	count := make(map[store.Arrival]int)
	b.must(b.st.EachRecalled(b.Context(), r, func(one store.Recalled) error { count[one.Arrival]++; return nil }))
	got := ""
	for _, how := range []store.Arrival{store.Arrived, store.ArrivedPerhaps, store.NotArrived} {
		if n := count[how]; n > 0 {
			got += fmt.Sprintf(", %d %s", n, how)
		}
	}
	if got != ", "+want {
		b.Errorf("it reached %s, want %s", got[2:], want)
	}
}

// A recall chooses by every field, and by all of them together.
func recallChoices(b *bed) {
	match := store.Delivery{Lane: store.Bulk, Letter: "storm", Address: "ole@skerry.example", Key: "k", Subject: "7",
		Created: start.Add(time.Hour)}
	for i, f := range []store.Filter{{Lane: store.Bulk}, {Letter: "storm"}, {Address: "ole@skerry.example"}, {Key: "k"},
		{Subject: "7"}, {CreatedAfter: start.Add(time.Minute)}, {Lane: store.Bulk, Key: "k"}} {
		r := store.Recall{ID: fmt.Sprint("c", i), Choice: f, Made: start}
		b.must(b.st.Recall(b.Context(), r))
		taken := b.put(func(d *store.Delivery) {
			id := d.ID
			*d = match
			d.ID, d.Data, d.Due = id, "{}", start
		})
		left := b.put(func(d *store.Delivery) {
			if f.Lane != "" && f.Key != "" {
				d.Lane = store.Bulk // and not the key
			}
		})
		if n, err := b.st.HoldRecalled(b.Context(), start, 0); err != nil || n != 1 {
			b.Errorf("%+v held %d, %v, want 1", f, n, err)
		}
		if b.get(taken).State != store.Held || b.get(left).State != store.Waiting {
			b.Errorf("%+v: the one is %s, the other %s", f, b.get(taken).State, b.get(left).State)
		}
		b.must(b.st.EndRecall(b.Context(), r.ID, start))
	}
	for _, f := range []store.Filter{{}, {State: store.Held}, {HeldBy: "asked"}, {Provider: "harbour"}} {
		if err := b.st.Recall(b.Context(), store.Recall{ID: "bad", Choice: f, Made: start}); !errors.Is(err,
			store.ErrRecall) {
			b.Errorf("a recall of %+v: %v", f, err)
		}
	}
}
