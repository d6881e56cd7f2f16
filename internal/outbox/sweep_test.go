package outbox_test

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode/internal/outbox"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// aged copies the row of one that was sent n times, as if that had been long ago.
func aged(t *testing.T, st *store.Store, id string, n int, when time.Time) {
	t.Helper()
	var columns string
	if err := st.DB().QueryRow(`SELECT group_concat(name) FROM pragma_table_info('illumicode_ended')
		WHERE name NOT IN ('id', 'ended')`).Scan(&columns); err != nil {
		t.Fatal(err)
	}
	ms := when.UnixMilli()
	prefix := fmt.Sprintf("%012x", ms)
	if _, err := st.DB().Exec(fmt.Sprintf(`INSERT INTO illumicode_ended (id, ended, %[1]s)
		WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i < %[2]d)
		SELECT '%[3]s-%[4]s-' || printf('7%%03x-8000-%%012x', i %% 4096, i), %[5]d, %[1]s
		FROM n, illumicode_ended WHERE id = ?`, columns, n, prefix[:8], prefix[8:], ms), id); err != nil {
		t.Fatal(err)
	}
}

func oldRows(st *store.Store, before time.Time) (n int) {
	if err := st.DB().QueryRow(`SELECT COUNT(*) FROM illumicode_ended WHERE ended < ?`, before.UnixMilli()).Scan(
		&n); err != nil {
		panic(err)
	}
	return n
}

// What is older than it need be goes beside the deliveries: the first letter does not wait until it is gone.
func TestSweepBesideDeliveries(t *testing.T) {
	st := openStore(t)
	begun := time.Now()
	first := put(t, st, "first@ternisle.example", store.Normal, nil)
	run(t, st, quick, &way{name: "harbour"})
	const old = 20_000
	aged(t, st, first, old, begun.Add(-60*24*time.Hour))
	put(t, st, "mara@ternisle.example", store.Normal, nil)
	there := make(chan int, 1)
	w := &way{name: "harbour", answer: func(provider.Handover) provider.Result {
		there <- oldRows(st, begun)
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
	for ctx.Err() == nil && oldRows(st, begun) > 0 {
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
	first := put(t, st, "first@ternisle.example", store.Normal, nil)
	run(t, st, quick, &way{name: "harbour"})
	aged(t, st, first, 3, begun.Add(-900*24*time.Hour))
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
	if behind, err := o.Behind(t.Context()); oldRows(st, begun) != 3 || behind != 0 || err != nil {
		t.Errorf("%d rows are left, %v behind, %v", oldRows(st, begun), behind, err)
	}
}
