package outbox_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/illumicode/illumicode/internal/outbox"
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

// Nor has it failed where the end comes without an attempt, such as with the deadline.
func TestUnknownAtTheDeadline(t *testing.T) {
	st := openStore(t)
	w := &way{name: "harbour", answer: func(provider.Handover) provider.Result {
		return provider.Result{Class: retry.Ambiguous}
	}}
	id := put(t, st, "mara@ternisle.example", store.Normal, nil)
	c := quick
	c.Retry.Attempts, c.Retry.Base = 9, time.Hour
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	o := outbox.New(st, plain{}, []provider.Provider{w}, time.Now, quiet(c))
	go func() { ended <- o.Run(ctx) }()
	defer func() { stop(); <-ended }()
	until := func(good func(store.Delivery) bool) {
		t.Helper()
		for end := time.Now().Add(20 * time.Second); ; time.Sleep(5 * time.Millisecond) {
			d, _ := get(t, st, id)
			if good(d) {
				return
			}
			if time.Now().After(end) {
				t.Fatalf("it is %s (%s)", d.State, d.Note)
			}
		}
	}
	until(func(d store.Delivery) bool { return d.Attempts == 1 && d.State == store.Waiting })
	const over = "UPDATE illumicode_delivery SET due = 1, deliver_before = 2"
	if _, err := st.DB().ExecContext(t.Context(), over); err != nil {
		t.Fatal(err)
	}
	until(func(d store.Delivery) bool { return d.State == store.Unknown })
}

// A worker that cannot renew its lease lets nothing leave, and says so.
func TestStuckWithoutLease(t *testing.T) { synctest.Test(t, testStuckWithoutLease) }

func testStuckWithoutLease(t *testing.T) {
	st := openStore(t)
	o := outbox.New(st, plain{}, []provider.Provider{&way{name: "harbour"}}, time.Now, quiet(quick))
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- o.Run(ctx) }()
	time.Sleep(time.Second)
	if said := o.Stuck(); said != "" {
		t.Errorf("at first: %s", said)
	}
	if _, err := st.DB().ExecContext(ctx, "ALTER TABLE illumicode_worker RENAME TO gone"); err != nil {
		t.Fatal(err)
	}
	time.Sleep(time.Minute)
	if said := o.Stuck(); !strings.Contains(said, "renewed its lease") {
		t.Errorf("without the table of workers: %q", said)
	}
	stop()
	<-ended
}
