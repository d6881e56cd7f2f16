package postgres_test

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/internal/pgtest"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/internal/store/db"
	"github.com/illumicode/illumicode/internal/storetest"
	"github.com/illumicode/illumicode/internal/storetest/grown"
	"github.com/illumicode/illumicode/retry"
	"github.com/illumicode/illumicode/store/postgres"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

func open(tb testing.TB) *store.Store { return openAt(tb, pgtest.Fresh(tb)) }

func openAt(tb testing.TB, conn string) *store.Store {
	tb.Helper()
	st, err := postgres.Open(tb.Context(), conn, postgres.Options{})
	if err != nil {
		tb.Fatal(err)
	}
	tb.Cleanup(func() { st.Close() })
	return store.Of(st)
}

func TestConformance(t *testing.T) { storetest.Run(t, open) }

// The same with connections that keep no prepared statement, as a pooler gives them.
func TestConformanceUnprepared(t *testing.T) {
	open := func(tb testing.TB) *store.Store {
		return openAt(tb, pgtest.Fresh(tb)+" default_query_exec_mode=cache_describe")
	}
	if said := open(t).Warnings(); len(said) != 1 || !strings.Contains(said[0], "postgres_listen") {
		t.Errorf("that nobody listens is said so: %q", said)
	}
	storetest.Run(t, open)
}

// The same on a pool of pgx that the application has, whose transactions scan and name things in their own way.
func TestConformanceOnPool(t *testing.T) {
	storetest.Run(t, func(tb testing.TB) *store.Store {
		pool, err := pgxpool.New(tb.Context(), pgtest.Fresh(tb))
		if err != nil {
			tb.Fatal(err)
		}
		tb.Cleanup(pool.Close)
		st, err := postgres.UsePool(tb.Context(), pool, postgres.Options{})
		if err != nil {
			tb.Fatal(err)
		}
		tb.Cleanup(func() { st.Close() })
		return store.Of(st)
	})
}

// The same in a schema that connections would not look in, on a pool of pgx.
func TestConformanceInSchema(t *testing.T) {
	storetest.Run(t, func(tb testing.TB) *store.Store {
		pool, err := pgxpool.New(tb.Context(), pgtest.Fresh(tb))
		if err != nil {
			tb.Fatal(err)
		}
		tb.Cleanup(pool.Close)
		st, err := postgres.UsePool(tb.Context(), pool, postgres.Options{Schema: `Mara's "place`})
		if err != nil {
			tb.Fatal(err)
		}
		tb.Cleanup(func() {
			var elsewhere int
			err := st.DB().QueryRow(`SELECT COUNT(*) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
				WHERE relname LIKE 'illumicode%' AND nspname <> 'Mara''s "place'`).Scan(&elsewhere)
			if err != nil || elsewhere > 0 {
				tb.Errorf("%d tables and indexes are elsewhere, %v", elsewhere, err)
			}
			st.Close()
		})
		return store.Of(st)
	})
}

// Who is said to be forgotten was looked for where the tables are, and not in the first schema of the path.
func TestErasureFindsTheTables(t *testing.T) {
	conn := pgtest.Fresh(t)
	st, ctx := openAt(t, conn), t.Context()
	if _, err := st.Migrate(ctx, time.Now()); err != nil {
		t.Fatal(err)
	}
	if _, err := st.DB().Exec("CREATE SCHEMA own"); err != nil {
		t.Fatal(err)
	}
	event := store.Event{Source: "/quay", ID: "1", Type: "x", Data: `{"to": "mara@ternisle.example"}`}
	if err := st.Write(ctx, func(tx store.Tx) error { return tx.InsertEvent(ctx, event) }); err != nil {
		t.Fatal(err)
	}
	const mara = "mara@ternisle.example"
	e, err := openAt(t, conn+" search_path=own,public").Erase(ctx, mara, mara, time.Now())
	for done := false; !done && err == nil; {
		done, err = e.Step(ctx)
	}
	if err != nil || e.Changed != 1 || len(e.Remains) != 0 {
		t.Errorf("%d rows were changed, %v remain, %v", e.Changed, e.Remains, err)
	}
	if _, err := openAt(t, pgtest.Fresh(t)).Erase(ctx, mara, mara, time.Now()); err == nil {
		t.Error("somebody was forgotten in a database without tables")
	}
}

// Whoever connects through such a pooler without saying so is told what to say.
func TestForgottenStatements(t *testing.T) {
	st, err := postgres.Open(t.Context(), pgtest.Fresh(t), postgres.Options{})
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	st.DB().SetMaxOpenConns(1)
	if err := st.Migrate(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := store.Of(st).Ready(t.Context()); err != nil {
		t.Fatal(err)
	}
	if _, err := st.DB().Exec("DEALLOCATE ALL"); err != nil {
		t.Fatal(err)
	}
	if _, err := store.Of(st).Summary(t.Context(), time.Now()); err == nil ||
		!strings.Contains(err.Error(), "add default_query_exec_mode=cache_describe") {
		t.Errorf("%v", err)
	}
}

// Eight processes migrate one database at once: each step is done once.
func TestMigrateAtOnce(t *testing.T) {
	conn := pgtest.Fresh(t)
	done := make([]int, 8)
	var all sync.WaitGroup
	for i := range done {
		st := openAt(t, conn)
		all.Go(func() {
			steps, err := st.Migrate(t.Context(), time.Now())
			if err != nil {
				t.Error(err)
			}
			done[i] = len(steps)
		})
	}
	all.Wait()
	total := 0
	for _, n := range done {
		total += n
	}
	if total != len(db.Migrations()) {
		t.Errorf("%v steps were done, want %d in all", done, len(db.Migrations()))
	}
}

// What one process announces wakes another.
func TestListen(t *testing.T) {
	conn := pgtest.Fresh(t)
	here, there := openAt(t, conn), openAt(t, conn)
	ctx, stop := context.WithTimeout(t.Context(), 2*time.Minute)
	defer stop()
	woken := make(chan bool, 10)
	go there.Listen(ctx, func() { woken <- true })
	<-woken // it listens
	if err := here.Announce(ctx); err != nil {
		t.Fatal(err)
	}
	select {
	case <-woken:
	case <-ctx.Done():
		t.Fatal("nobody was woken")
	}
}

func TestOpenRefuses(t *testing.T) {
	good := pgtest.Fresh(t)
	for name, tt := range map[string]struct{ conn, want string }{
		"nonsense":  {"host=== x", "cannot be read"},
		"no server": {"host=/nowhere user=illumicode", "cannot be reached"},
		// whoever is between can answer that there is no TLS
		"perhaps protected":        {"host=db.ferry.example user=x", "say sslmode=verify-full"},
		"perhaps protected, asked": {"host=db.ferry.example user=x sslmode=allow", "say sslmode=verify-full"},
		"no database":              {strings.Replace(good, "dbname=trial", "dbname=other", 1), "turned us away"},
	} {
		_, err := postgres.Open(t.Context(), tt.conn, postgres.Options{})
		if err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v, want %q in it", name, err, tt.want)
		}
	}
}

// A queue that was all but empty when its statements were planned, and then fills in a second, is read by its
// indexes all the same: what is claimed and recorded, and not the whole of it each time.
func TestStormAfterIdle(t *testing.T) {
	st, ctx := open(t), t.Context()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	st.DB().SetMaxOpenConns(1) // a plan is a connection's
	_, err := st.Migrate(ctx, time.Now())
	must(err)
	must(st.Ready(ctx)) // in a transaction nothing can be prepared on another connection
	start, made := time.Now(), 0
	put := func(n int) {
		must(st.Write(ctx, func(tx store.Tx) error {
			for range n {
				made++
				d := store.Delivery{ID: fmt.Sprintf("d%06d", made), Letter: "moved", Address: "mara@ternisle.example",
					Lane: store.Normal, Created: start, Due: start}
				if err := tx.InsertDelivery(ctx, d); err != nil {
					return err
				}
			}
			return nil
		}))
	}
	deliver := func(n int) {
		due, err := st.AnyDue(ctx, store.Normal, store.Mark{}, start)
		must(err)
		claimed, err := st.Claim(ctx, "w", store.Reach{Lane: store.Normal, Most: n}, start)
		must(err)
		if !due || len(claimed) != n {
			t.Fatalf("due: %t; claimed %d of %d", due, len(claimed), n)
		}
		var begins []store.Beginning
		var ends []store.End
		for _, d := range claimed {
			a := store.Attempt{Delivery: d.ID, Number: 1, Provider: "harbour", Begun: start}
			begins = append(begins, store.Beginning{Delivery: d, Attempt: a})
			a.Ended, a.Class = start, retry.Accepted
			ends = append(ends, store.End{Claim: d.Claim, State: store.Sent, Spent: 1, Attempt: a})
		}
		_, err = st.Record(ctx, begins, nil)
		must(err)
		_, err = st.Record(ctx, nil, ends)
		must(err)
	}
	count := func(n int) { // n keys that were never counted under
		for range n {
			made++
			tally := store.Tally{Name: fmt.Sprint("k", made), State: judge.State{At: start, N: 1},
				Idle: start.Add(time.Hour)}
			changed, err := st.SwapTallies(ctx, []store.Swap{{Name: tally.Name, Tally: tally}})
			if must(err); len(changed) != 1 {
				t.Fatal("a key was not counted under")
			}
		}
	}
	idle := func() {
		count(12)
		for range 12 { // more often than the server tries plans before it keeps one
			put(8)
			deliver(8)
		}
	}
	read := func() (rows int) {
		_, err := st.DB().Exec("SELECT pg_stat_force_next_flush()")
		must(err)
		must(st.DB().QueryRow(`SELECT SUM(seq_tup_read + COALESCE(idx_tup_fetch, 0)) FROM pg_stat_user_tables
			WHERE relname IN ('illumicode_delivery', 'illumicode_attempt', 'illumicode_tally')`).Scan(&rows))
		return rows
	}
	idle()
	_, err = st.DB().Exec("VACUUM ANALYZE")
	must(err)
	idle()
	put(5000)
	count(1000)
	before := read()
	for range 20 {
		deliver(8)
	}
	if rows := read() - before; rows > 20*8*20 {
		t.Errorf("%d rows were read for %d letters", rows, 20*8)
	}
	before = read()
	count(20)
	if rows := read() - before; rows > 20*20 {
		t.Errorf("%d rows were read to count under 20 keys", rows)
	}
}

// No query that is asked all the time reads a large table from end to end.
func TestPlans(t *testing.T) {
	st := open(t).Patient() // to fill a large table takes long
	if _, err := st.Migrate(t.Context(), time.Now()); err != nil {
		t.Fatal(err)
	}
	if err := grown.Fill(t.Context(), st); err != nil {
		t.Fatal(err)
	}
	storetest.Plans(t, st)
}
