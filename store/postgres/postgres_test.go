package postgres_test

import (
	"context"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/illumicode/illumicode/internal/pgtest"
	"github.com/illumicode/illumicode/store"
	"github.com/illumicode/illumicode/store/postgres"
	"github.com/illumicode/illumicode/store/storetest"
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
	return st
}

func TestConformance(t *testing.T) { storetest.Run(t, open) }

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
	if total != len(store.Migrations()) {
		t.Errorf("%v steps were done, want %d in all", done, len(store.Migrations()))
	}
}

// What one process announces wakes another.
func TestListen(t *testing.T) {
	conn := pgtest.Fresh(t)
	here, there := openAt(t, conn), openAt(t, conn)
	ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
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
		"nonsense":    {"host=== x", "cannot be read"},
		"no server":   {"host=/nowhere user=illumicode", "cannot be reached"},
		"no database": {strings.Replace(good, "dbname=trial", "dbname=other", 1), "turned us away"},
	} {
		_, err := postgres.Open(t.Context(), tt.conn, postgres.Options{})
		if err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v, want %q in it", name, err, tt.want)
		}
	}
}
