package outbox_test

import (
	"context"
	"errors"
	"fmt"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/illumicode/illumicode/internal/outbox"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// A letter leaves only while it is this worker's: not when another has claimed it meanwhile, not when the lease could
// not be renewed, and not once Run has returned.
func TestFinal(t *testing.T) {
	for name, lose := range map[string]func(t *testing.T, st *store.Store, stop func()){
		"another claim": func(t *testing.T, st *store.Store, _ func()) {
			const claim = "UPDATE illumicode_delivery SET claim = claim + 1"
			if _, err := st.DB().ExecContext(t.Context(), claim); err != nil {
				t.Fatal(err)
			}
		},
		"no renewal": func(t *testing.T, st *store.Store, _ func()) {
			end, err := st.AwaitWriter(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(end)
		},
		"Run has returned": func(_ *testing.T, _ *store.Store, stop func()) { stop() },
		"none":             func(*testing.T, *store.Store, func()) {},
	} {
		t.Run(name, func(t *testing.T) {
			st := openStore(t)
			put(t, st, "mara@ternisle.example", store.Normal, nil)
			begun, lost, said := make(chan bool), make(chan bool), make(chan error, 1)
			w := &way{name: "harbour", answer: func(h provider.Handover) provider.Result {
				begun <- true
				<-lost
				err := h.Final(context.Background())
				said <- err
				if err != nil {
					return provider.NotSent(err)
				}
				return provider.Result{Class: retry.Accepted}
			}}
			c := quick
			c.Lease, c.Grace = 600*time.Millisecond, 10*time.Millisecond
			ctx, stop := context.WithCancel(t.Context())
			ended := make(chan error, 1)
			go func() { ended <- outbox.New(st, plain{}, []provider.Provider{w}, time.Now, quiet(c)).Run(ctx) }()
			<-begun
			lose(t, st, func() { stop(); <-ended })
			time.Sleep(c.Lease) // the begin is older than a third of the lease
			close(lost)
			err := <-said
			if (err != nil) != (name != "none") || (name == "another claim") != errors.Is(err, store.ErrFenced) {
				t.Errorf("the letter may leave: %v", err)
			}
			stop()
		})
	}
}

// A letter that must not leave, as the lease has run out, says nothing of its provider: a database that is away would
// shut it otherwise.
func TestLeaseBlamesNobody(t *testing.T) { synctest.Test(t, testLeaseBlamesNobody) }

func testLeaseBlamesNobody(t *testing.T) {
	st := openStore(t)
	for i := range 20 {
		put(t, st, fmt.Sprintf("p%d@ternisle.example", i), store.Normal, nil)
	}
	var kept atomic.Int64
	w := &way{name: "harbour", answer: func(h provider.Handover) provider.Result {
		time.Sleep(2 * time.Second)
		if err := h.Final(context.Background()); err != nil {
			kept.Add(1)
			return provider.NotSent(err)
		}
		return provider.Result{Class: retry.Accepted, Code: 250}
	}}
	c := quick
	c.Lease = time.Second
	stop := start(t, st, c, w)
	time.Sleep(100 * time.Millisecond)
	if _, err := st.DB().ExecContext(t.Context(), "ALTER TABLE illumicode_worker RENAME TO gone"); err != nil {
		t.Fatal(err)
	}
	time.Sleep(5 * time.Second)
	if _, err := st.DB().ExecContext(t.Context(), "ALTER TABLE gone RENAME TO illumicode_worker"); err != nil {
		t.Fatal(err)
	}
	time.Sleep(time.Second)
	stop()
	ways, err := st.Ways(t.Context())
	if err != nil || len(ways) != 0 || kept.Load() < 20 {
		t.Errorf("%d letters were kept back, and known of the provider is %+v, %v", kept.Load(), ways, err)
	}
}
