package outbox_test

import (
	"testing"
	"testing/synctest"
	"time"

	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// A letter that goes to nobody takes as long as the last one that left; but a provider that hung once does not keep the
// senders with it.
func TestWithheldTakesAsLong(t *testing.T) { synctest.Test(t, testWithheldTakesAsLong) }

func testWithheldTakesAsLong(t *testing.T) {
	st := openStore(t)
	took := time.Duration(0)
	w := &way{name: "harbour", answer: func(provider.Handover) provider.Result {
		time.Sleep(took)
		return provider.Result{Class: retry.Accepted}
	}}
	c := quick
	c.Senders = 1
	for _, tt := range []struct{ took, want time.Duration }{{time.Second, time.Second},
		{20 * time.Second, 2 * time.Second}} {
		took = tt.took
		put(t, st, "mara@ternisle.example", store.Urgent, nil)
		id := put(t, st, "nobody@ternisle.example", store.Bulk, nil)
		run(t, st, c, w)
		d, attempts := get(t, st, id)
		if d.State != store.Cancelled || len(attempts) != 1 || !attempts[0].Withheld() ||
			attempts[0].Class != store.Withheld {
			t.Fatalf("%+v, %+v", d, attempts)
		}
		if got := attempts[0].Ended.Sub(attempts[0].Begun); got < tt.want || got > tt.want+time.Second/2 {
			t.Errorf("after one of %v it takes %v, want %v", tt.took, got, tt.want)
		}
	}
	if w.count() != 2 {
		t.Errorf("%d letters left, want 2", w.count())
	}
}
