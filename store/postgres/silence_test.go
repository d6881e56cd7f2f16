package postgres_test

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"github.com/illumicode/illumicode/internal/pgtest"
	"github.com/illumicode/illumicode/internal/proxy"
	"github.com/illumicode/illumicode/internal/store/db"
	"github.com/illumicode/illumicode/store/postgres"
)

// A commit that waits for a standby is given up by closing its connection. To cancel it would make the server answer
// that it is done, and show it to others, though no standby has it.
func TestCommitIsNotCancelled(t *testing.T) {
	server, err := pgtest.Start(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer server.Close()
	conn, err := server.Database(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	st, err := postgres.Open(t.Context(), conn, postgres.Options{Silence: 300 * time.Millisecond})
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	if _, err := st.DB().ExecContext(t.Context(), "CREATE TABLE sailing (pier INT)"); err != nil {
		t.Fatal(err)
	}
	watch, err := pgx.Connect(t.Context(), conn)
	if err != nil {
		t.Fatal(err)
	}
	defer watch.Close(context.Background())
	for _, text := range []string{"ALTER SYSTEM SET synchronous_standby_names = 'nobody'", "SELECT pg_reload_conf()"} {
		if _, err := watch.Exec(t.Context(), text); err != nil {
			t.Fatal(err)
		}
	}
	for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		_, err := st.DB().ExecContext(t.Context(), "INSERT INTO sailing VALUES (1)")
		if err != nil {
			if !strings.Contains(err.Error(), "silent for 300ms") {
				t.Errorf("the commit ends with %v", err)
			}
			break
		}
		if time.Now().After(deadline) {
			t.Fatal("commits wait for nobody")
		}
	}
	// And one that its caller gives up.
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	if _, err := st.DB().ExecContext(ctx, "INSERT INTO sailing VALUES (2)"); err == nil {
		t.Error("the second commit was made")
	}
	time.Sleep(500 * time.Millisecond) // a cancel request would have had its effect
	var waiting, shown int
	if err := watch.QueryRow(t.Context(), "SELECT COUNT(*) FROM pg_stat_activity WHERE wait_event = 'SyncRep'").Scan(
		&waiting); err != nil {
		t.Fatal(err)
	}
	if err := watch.QueryRow(t.Context(), "SELECT COUNT(*) FROM sailing WHERE pier = 2").Scan(&shown); err != nil {
		t.Fatal(err)
	}
	if waiting != 2 || shown != 0 {
		t.Errorf("%d commits wait for the standby, want 2; %d are shown to others, want none", waiting, shown)
	}
}

// The first statement that meets silence has the other connections to that server not used again: they were burnt one
// by one otherwise, each for three seconds.
func TestSilenceRetiresAll(t *testing.T) {
	conn := pgtest.Fresh(t)
	first, second := pgtest.Proxy(t, conn), pgtest.Proxy(t, conn)
	const silence = 500 * time.Millisecond
	st, err := postgres.Open(t.Context(), pgtest.Through(t, conn, first, second), postgres.Options{Silence: silence})
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	pool := st.DB()
	const idle = 20
	all := make(chan error, idle)
	for range idle {
		go func() { _, err := pool.ExecContext(t.Context(), "SELECT pg_sleep(0.2)"); all <- err }()
	}
	for range idle {
		if err := <-all; err != nil {
			t.Fatal(err)
		}
	}
	if n := pool.Stats().Idle; n < idle/2 {
		t.Fatalf("%d connections are idle, want many", n)
	}
	first.Silence(proxy.ToServer, true)
	failed := 0
	for range 2 * idle {
		if _, err := pool.ExecContext(t.Context(), "SELECT 1"); err != nil {
			failed++
		}
	}
	if failed > 2 {
		t.Errorf("%d statements failed, want one or two", failed)
	}
	// What the server says retires nothing.
	before := pool.Stats().OpenConnections
	for range 5 {
		if _, err := pool.ExecContext(t.Context(), "SELECT 1/0"); err == nil {
			t.Fatal("1/0 works")
		}
	}
	if n := pool.Stats().OpenConnections; n != before {
		t.Errorf("%d connections after an error of the server, %d before", n, before)
	}
}

// Sessions of ours do not wait for a lock, nor keep one while nothing is asked of them.
func TestSessionsAreBounded(t *testing.T) {
	conn := pgtest.Fresh(t)
	for text, want := range map[string]string{conn: "2s 1min", conn + " lock_timeout=7s": "7s 1min"} {
		st, err := postgres.Open(t.Context(), text, postgres.Options{})
		if err != nil {
			t.Fatal(err)
		}
		defer st.Close()
		var got string
		if err := st.DB().QueryRowContext(t.Context(), "SELECT current_setting('lock_timeout') || ' ' || "+
			"current_setting('idle_in_transaction_session_timeout')").Scan(&got); err != nil || got != want {
			t.Errorf("sessions have %q, %v, want %q", got, err, want)
		}
	}
}

// A statement whose connection was cut after it was sent is not sent again: it may have been done.
func TestCutIsNotRepeated(t *testing.T) {
	conn := pgtest.Fresh(t)
	way := pgtest.Proxy(t, conn)
	st, err := postgres.Open(t.Context(), pgtest.Through(t, conn, way), postgres.Options{})
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	if _, err := st.DB().ExecContext(t.Context(), "CREATE TABLE sailing (pier INT)"); err != nil {
		t.Fatal(err)
	}
	for _, prepared := range []bool{false, true} {
		insert := func() error {
			_, err := st.DB().ExecContext(t.Context(), "INSERT INTO sailing VALUES (1)")
			return err
		}
		if prepared {
			stmt, err := st.DB().PrepareContext(t.Context(), "INSERT INTO sailing VALUES ($1)")
			if err != nil {
				t.Fatal(err)
			}
			insert = func() error { _, err := stmt.ExecContext(t.Context(), 1); return err }
		}
		if err := insert(); err != nil { // the driver knows it now
			t.Fatal(err)
		}
		way.Silence(proxy.ToClient, true)
		time.AfterFunc(200*time.Millisecond, func() {
			way.Cut()
			way.Silence(proxy.ToClient, false)
		})
		if err := insert(); err == nil {
			t.Error("a statement whose answer was cut off is said to be done")
		}
	}
	var n int
	if err := st.DB().QueryRowContext(t.Context(), "SELECT COUNT(*) FROM sailing").Scan(&n); err != nil || n != 4 {
		t.Errorf("four statements have made %d rows, %v", n, err)
	}
}

// A server that was silent is not the first to be asked again: an old primary that is back takes connections, and keeps
// commits waiting for ever.
func TestZombieIsLeft(t *testing.T) {
	conn := pgtest.Fresh(t)
	first, second := pgtest.Proxy(t, conn), pgtest.Proxy(t, conn)
	st, err := postgres.Open(t.Context(), pgtest.Through(t, conn, first, second),
		postgres.Options{Silence: 300 * time.Millisecond})
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	first.Silence(proxy.ToClient, true)
	if _, err := st.DB().ExecContext(t.Context(), "SELECT 1"); err == nil {
		t.Fatal("a silent server has answered")
	}
	first.Silence(proxy.ToClient, false)
	before := first.Taken()
	for range 5 {
		if _, err := st.DB().ExecContext(t.Context(), "SELECT 1"); err != nil {
			t.Fatal(err)
		}
	}
	if n := first.Taken() - before; n != 0 || second.Taken() == 0 {
		t.Errorf("%d new connections to the server that was silent, %d to the other", n, second.Taken())
	}
}

// A server that takes no writes any more is left for the other host, also by the sessions that it has already.
func TestReadOnlyServer(t *testing.T) {
	var dirs []string
	var servers []*pgtest.Server
	for range 2 {
		server, err := pgtest.Start(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		defer server.Close()
		if _, err := server.Database(t.Context()); err != nil {
			t.Fatal(err)
		}
		servers, dirs = append(servers, server), append(dirs, server.Dir())
	}
	both := "host=" + strings.Join(dirs, ",") + " port=5432,5432 user=illumicode dbname=trial1"
	st, err := postgres.Open(t.Context(), both, postgres.Options{})
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	write := func() error {
		_, err := st.DB().ExecContext(t.Context(), "CREATE TABLE IF NOT EXISTS sailing (pier INT)")
		return err
	}
	if err := write(); err != nil {
		t.Fatal(err)
	}
	turn, err := pgx.Connect(t.Context(), servers[0].Conn("trial1"))
	if err != nil {
		t.Fatal(err)
	}
	defer turn.Close(context.Background())
	for _, text := range []string{"ALTER SYSTEM SET default_transaction_read_only = on", "SELECT pg_reload_conf()"} {
		if _, err := turn.Exec(t.Context(), text); err != nil {
			t.Fatal(err)
		}
	}
	other, err := pgx.Connect(t.Context(), servers[1].Conn("trial1"))
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close(context.Background())
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		err := write()
		var there bool
		if err := other.QueryRow(t.Context(), "SELECT to_regclass('sailing') IS NOT NULL").Scan(&there); err != nil {
			t.Fatal(err)
		}
		if err == nil && there {
			return
		}
		if time.Now().After(end) {
			t.Fatalf("writes still go to the server that takes none: %v", err)
		}
	}
}

// That nothing wakes a worker is a failure of the database like any other: it is told once a minute, with the others.
func TestListenFails(t *testing.T) {
	conn := pgtest.Fresh(t)
	way := pgtest.Proxy(t, conn)
	st := openAt(t, pgtest.Through(t, conn, way))
	if err := st.Listen(t.Context(), way.Cut); !errors.Is(err, db.ErrDatabase) {
		t.Errorf("cut off: %v", err)
	}
	way.Close()
	if err := st.Listen(t.Context(), func() {}); !errors.Is(err, db.ErrDatabase) {
		t.Errorf("nobody there: %v", err)
	}
}
