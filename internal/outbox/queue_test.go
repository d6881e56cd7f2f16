package outbox

import (
	"fmt"
	"testing"
	"time"

	"github.com/illumicode/illumicode/internal/store"
)

// Lanes that all have something are served by their weights, in turns; a reserved sender takes
// urgent ones only.
func TestLanesByWeight(t *testing.T) {
	q := newQueue(1000, map[store.Lane]int{store.Urgent: 4, store.Normal: 2, store.Bulk: 1})
	for _, lane := range store.Lanes {
		var all []Addressed
		for i := range 700 {
			all = append(all, Addressed{Delivery: store.Delivery{ID: fmt.Sprint(i), Lane: lane}})
		}
		q.put(lane, all)
	}
	got := make(map[store.Lane]int)
	longest, run := 0, 0
	var last store.Lane
	for range 700 {
		d, _ := q.take(false)
		got[d.Lane]++
		if run++; d.Lane != last {
			last, run = d.Lane, 1
		}
		longest = max(longest, run)
	}
	if got[store.Urgent] != 400 || got[store.Normal] != 200 || got[store.Bulk] != 100 || longest > 3 {
		t.Errorf("%v in turns of up to %d, want 4:2:1, mixed", got, longest)
	}
	for range 300 {
		if d, _ := q.take(true); d.Lane != store.Urgent {
			t.Fatalf("a reserved sender got %s", d.Lane)
		}
	}
	taken := make(chan store.Lane)
	go func() { d, _ := q.take(true); taken <- d.Lane }()
	select {
	case lane := <-taken:
		t.Fatalf("with no urgent left, a reserved sender got %s", lane)
	case <-time.After(20 * time.Millisecond):
	}
	q.put(store.Urgent, []Addressed{{Delivery: store.Delivery{Lane: store.Urgent}}})
	if lane := <-taken; lane != store.Urgent {
		t.Errorf("got %s", lane)
	}
}

// The mark trails behind what was claimed, and goes back when something older turns up.
func TestTrail(t *testing.T) {
	now := time.Unix(1924000000, 0)
	claimed := func(tr *trail, id string) {
		tr.claimed([]store.Delivery{{ID: id, Due: time.Unix(1924000000, 0)}}, now)
	}
	tr := &trail{}
	if m := tr.mark(now); m != (store.Mark{}) {
		t.Fatalf("the first look is at %v, want the whole lane", m)
	}
	claimed(tr, "5")
	if m := tr.mark(now); m != (store.Mark{}) {
		t.Errorf("at once the mark is %v; it should trail", m)
	}
	now = now.Add(trailing)
	claimed(tr, "9")
	if m := tr.mark(now); m.ID != "5" {
		t.Errorf("half a second later the mark is %v, want 5", m)
	}
	now = now.Add(fullEvery)
	if m := tr.mark(now); m != (store.Mark{}) {
		t.Errorf("now and then the whole lane is looked at, not %v", m)
	}
	claimed(tr, "3") // one whose transaction had committed late
	now = now.Add(trailing)
	if m := tr.mark(now); m.ID != "3" {
		t.Errorf("the mark is %v, want it to have gone back to 3", m)
	}
}
