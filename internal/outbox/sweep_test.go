package outbox_test

import (
	"bytes"
	"context"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode/internal/oldrows"
	"github.com/illumicode/illumicode/internal/outbox"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// aged adds n letters that ended at a moment, to a store without any.
func aged(t *testing.T, st *store.Store, n int, at time.Time) {
	t.Helper()
	put(t, st, "first@ternisle.example", store.Normal, nil)
	run(t, st, quick, &way{name: "harbour"})
	if err := oldrows.Add(t.Context(), st.DB(), st.Dialect(), n, at); err != nil {
		t.Fatal(err)
	}
}

func left(t *testing.T, st *store.Store, at time.Time) int {
	n, err := oldrows.Left(context.WithoutCancel(t.Context()), st.DB(), at)
	if err != nil {
		t.Error(err)
	}
	return n
}

// Old rows are removed beside the deliveries. The first letter does not wait until they are gone.
func TestSweepBesideDeliveries(t *testing.T) {
	st := openStore(t)
	const old = 20_000
	ended60 := time.Now().Add(-60 * 24 * time.Hour)
	aged(t, st, old, ended60)
	put(t, st, "mara@ternisle.example", store.Normal, nil)
	there := make(chan int, 1)
	w := &way{name: "harbour", answer: func(provider.Handover) provider.Result {
		there <- left(t, st, ended60)
		return provider.Result{Class: retry.Accepted}
	}}
	var said bytes.Buffer
	c := quick
	c.Log = slog.New(slog.NewTextHandler(&said, nil))
	o := outbox.New(st, plain{}, []provider.Provider{w}, time.Now, c)
	if behind, err := o.Behind(t.Context()); err != nil || behind.Round(24*time.Hour) != 30*24*time.Hour {
		t.Errorf("behind by %v, %v, want 30 days", behind, err)
	}
	ctx, stop := context.WithTimeout(t.Context(), time.Minute)
	defer stop()
	ended := make(chan error, 1)
	go func() { ended <- o.Run(ctx) }()
	if n := <-there; n < old/2 {
		t.Errorf("%d old rows were left when the letter left, want nearly %d", n, old)
	}
	for ctx.Err() == nil && left(t, st, ended60) > 0 {
		time.Sleep(10 * time.Millisecond)
	}
	if behind, err := o.Behind(t.Context()); err != nil || behind != 0 {
		t.Errorf("behind by %v, %v at the end", behind, err)
	}
	stop()
	<-ended
	if strings.Count(said.String(), "level=WARN") != 1 || !strings.Contains(said.String(), "is behind") {
		t.Errorf("%s", said.String())
	}
}

// Of what is kept for ever only keys and counts go.
func TestKeptForEver(t *testing.T) {
	st := openStore(t)
	begun := time.Now()
	longAgo := begun.Add(-900 * 24 * time.Hour)
	aged(t, st, 3, longAgo)
	if err := st.Write(t.Context(), func(tx store.Tx) error {
		_, _, err := tx.Once(t.Context(), store.Once{Name: "old", Made: begun.Add(-30 * 24 * time.Hour)})
		return err
	}); err != nil {
		t.Fatal(err)
	}
	c := quick
	c.Keep = -1
	ctx, stop := context.WithTimeout(t.Context(), time.Minute)
	defer stop()
	o := outbox.New(st, plain{}, []provider.Provider{&way{name: "harbour"}}, time.Now, quiet(c))
	go o.Run(ctx)
	for keys := 1; keys > 0 && ctx.Err() == nil; time.Sleep(10 * time.Millisecond) {
		if err := st.DB().QueryRow(`SELECT COUNT(*) FROM illumicode_once`).Scan(&keys); err != nil {
			t.Fatal(err)
		}
	}
	if behind, err := o.Behind(t.Context()); left(t, st, longAgo) != 3 || behind != 0 || err != nil {
		t.Errorf("%d rows are left, %v behind, %v", left(t, st, longAgo), behind, err)
	}
}
