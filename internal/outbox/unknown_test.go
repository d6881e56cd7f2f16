package outbox_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// What may have been sent has not failed: where an attempt got no answer, and no later one blames the recipient, the
// end is unknown, and nobody is written to in the letter's place.
func TestUnknown(t *testing.T) {
	for _, tt := range []struct {
		classes []retry.Class
		want    store.State
	}{
		{[]retry.Class{retry.Transient, retry.Transient, retry.Ambiguous}, store.Unknown},
		{[]retry.Class{retry.Ambiguous, retry.Transient, retry.Transient}, store.Unknown},
		{[]retry.Class{retry.Ambiguous, retry.MessageRefused}, store.Unknown},
		{[]retry.Class{retry.Ambiguous, retry.RecipientRefused}, store.Failed},
		{[]retry.Class{retry.Transient, retry.Transient, retry.Transient}, store.Failed},
		{[]retry.Class{retry.Ambiguous, retry.Accepted}, store.Sent},
	} {
		t.Run(fmt.Sprint(tt.classes), func(t *testing.T) {
			st := openStore(t)
			n := 0
			w := &way{name: "harbour", answer: func(provider.Handover) provider.Result {
				n++
				return provider.Result{Class: tt.classes[min(n, len(tt.classes))-1]}
			}}
			id := put(t, st, "mara@ternisle.example", store.Normal,
				func(d *store.Delivery) { d.Fallback = "jens@ternisle.example" })
			run(t, st, quick, w)
			d, _ := get(t, st, id)
			if d.State != tt.want {
				t.Errorf("after %v it is %s (%s)", tt.classes, d.State, d.Note)
			}
			sum, err := st.Summary(t.Context(), time.Now())
			if err != nil {
				t.Fatal(err)
			}
			all := 0
			for _, count := range sum.Count {
				all += count
			}
			if (all == 2) != (tt.want == store.Failed) {
				t.Errorf("there are %d deliveries: a fallback is for what has failed", all)
			}
		})
	}
}
