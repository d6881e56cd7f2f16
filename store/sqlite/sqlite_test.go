package sqlite_test

import (
	"database/sql"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/internal/store/db"
	"github.com/illumicode/illumicode/internal/storetest"
	"github.com/illumicode/illumicode/store/sqlite"
)

func TestOpenRefuses(t *testing.T) {
	dir := t.TempDir()
	readOnly := filepath.Join(dir, "readonly.db")
	st, err := sqlite.Open(t.Context(), readOnly)
	if err != nil {
		t.Fatal(err)
	}
	if err := st.Migrate(t.Context()); err != nil {
		t.Fatal(err)
	}
	// Open already, in this very process.
	if _, err := sqlite.Open(t.Context(), readOnly); !errors.Is(err, db.ErrTwoOpen) ||
		!strings.Contains(err.Error(), "sqlite.Use") {
		t.Errorf("open twice: %v, want ErrTwoOpen with the remedy", err)
	}
	st.Close()
	if err := os.Chmod(readOnly, 0o444); err != nil {
		t.Fatal(err)
	}
	if _, err := sqlite.Open(t.Context(), readOnly); !errors.Is(err, db.ErrReadOnly) ||
		!strings.Contains(err.Error(), "chmod u+w") {
		t.Errorf("read-only file: %v, want ErrReadOnly with the remedy", err)
	}
	noDB := filepath.Join(dir, "letter.txt")
	if err := os.WriteFile(noDB, []byte(strings.Repeat("not a database ", 100)), 0o600); err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{
		noDB: "not an SQLite database", dir: "is a folder", filepath.Join(dir, "nowhere", "x.db"): "create it first",
	} {
		if _, err := sqlite.Open(t.Context(), path); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("Open(%s) = %v, want an error with %q", path, err, want)
		}
	}
}

func TestUse(t *testing.T) {
	open := func(params string) *sql.DB {
		t.Helper()
		path := filepath.Join(t.TempDir(), "app.db")
		if err := os.WriteFile(path, nil, 0o600); err != nil {
			t.Fatal(err)
		}
		db, err := sql.Open("sqlite", "file:"+path+"?"+params)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { db.Close() })
		return db
	}
	if _, err := sqlite.Use(t.Context(), open("")); err == nil || !strings.Contains(err.Error(), "busy_timeout") {
		t.Errorf("without busy_timeout: %v", err)
	}
	db := open("_pragma=busy_timeout(1000)&_pragma=synchronous(1)")
	st, err := sqlite.Use(t.Context(), db)
	if err != nil {
		t.Fatal(err)
	}
	if w := strings.Join(store.Of(st).Warnings(), "\n"); !strings.Contains(w, "wal") ||
		!strings.Contains(w, "synchronous") {
		t.Errorf("warnings: %q", w)
	}
	if err := st.Migrate(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := store.Of(st).Ready(t.Context()); err != nil {
		t.Fatal(err)
	}
	st.Close()
	if err := db.Ping(); err != nil {
		t.Errorf("Close closed the application's database: %v", err)
	}
	good, err := sqlite.Use(t.Context(),
		open("_pragma=busy_timeout(1000)&_pragma=journal_mode(WAL)&_pragma=synchronous(2)"))
	if err != nil || len(store.Of(good).Warnings()) != 0 {
		t.Errorf("good settings: %v, warnings %v", err, store.Of(good).Warnings())
	}
}

func TestVersions(t *testing.T) {
	st, err := sqlite.Open(t.Context(), filepath.Join(t.TempDir(), "v.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	if err := store.Of(st).Ready(t.Context()); !errors.Is(err, store.ErrNotMigrated) {
		t.Errorf("an empty file: %v, want ErrNotMigrated", err)
	}
	done, err := store.Of(st).Migrate(t.Context(), time.Now())
	if err != nil || len(done) != len(db.Migrations()) {
		t.Fatalf("Migrate = %v, %v", done, err)
	}
	if again, err := store.Of(st).Migrate(t.Context(), time.Now()); err != nil || len(again) != 0 {
		t.Errorf("a second Migrate = %v, %v", again, err)
	}
	if _, err := st.DB().Exec("INSERT INTO illumicode_migration VALUES (999, 'future', 0)"); err != nil {
		t.Fatal(err)
	}
	if err := store.Of(st).Ready(t.Context()); !errors.Is(err, store.ErrNewer) {
		t.Errorf("tables of a newer version: %v, want ErrNewer", err)
	}
}

// A transaction of the application that reads before it writes fails when another wrote in
// between; the error names the remedy, which Open itself applies.
func TestBusySnapshotNamesTheRemedy(t *testing.T) {
	path := filepath.Join(t.TempDir(), "app.db")
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(1000)&_pragma=journal_mode(WAL)")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	st, err := sqlite.Use(t.Context(), db)
	if err != nil {
		t.Fatal(err)
	}
	if err := st.Migrate(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := store.Of(st).Ready(t.Context()); err != nil {
		t.Fatal(err)
	}
	tx, err := db.Begin() // deferred
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback()
	var n int
	if err := tx.QueryRow("SELECT COUNT(*) FROM illumicode_delivery").Scan(&n); err != nil {
		t.Fatal(err)
	}
	d := store.Delivery{ID: "d-1", Lane: store.Normal, Data: "{}"}
	if err := store.Of(st).Write(t.Context(), func(other store.Tx) error {
		return other.InsertDelivery(t.Context(), d)
	}); err != nil {
		t.Fatal(err)
	}
	d.ID = "d-2"
	if err := store.Of(st).In(tx).InsertDelivery(t.Context(), d); err == nil ||
		!strings.Contains(err.Error(), "_txlock=immediate") {
		t.Errorf("an upgrade of a stale reader: %v, want the remedy", err)
	}
}

func open(tb testing.TB) *store.Store {
	tb.Helper()
	st, err := sqlite.Open(tb.Context(), filepath.Join(tb.TempDir(), "trial.db"))
	if err != nil {
		tb.Fatal(err)
	}
	tb.Cleanup(func() { st.Close() })
	return store.Of(st)
}

func TestConformance(t *testing.T) { storetest.Run(t, open) }

// A database of the version before keeps its deliveries: what waits waits, what has ended has
// ended, and an attempt under way keeps what it had fixed. A migration that breaks off half-way
// leaves everything as it was.
func TestUpgrade(t *testing.T) {
	path := filepath.Join(t.TempDir(), "old.db")
	st, err := sqlite.Open(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	must := func(text string, args ...any) {
		t.Helper()
		if _, err := st.DB().Exec(text, args...); err != nil {
			t.Fatal(err)
		}
	}
	must("CREATE TABLE illumicode_migration (number INTEGER NOT NULL PRIMARY KEY, name TEXT NOT NULL, applied " +
		"BIGINT NOT NULL)")
	for _, m := range db.Migrations()[:2] {
		must(strings.ReplaceAll(m.SQL, "@bytes()", "BLOB"))
		must("INSERT INTO illumicode_migration VALUES (?, ?, 0)", m.Number, m.Name)
	}
	for id, state := range map[string]string{"d1": "waiting", "d2": "claimed", "d3": "sent", "d4": "failed"} {
		must(`INSERT INTO illumicode_delivery (id, challenge, generation, letter, locale, address, name, data, lane,
			state, created, due, deliver_before,
			claim, worker, claimed, attempts, spent, fixed, ended, note, signature)
			VALUES (?, '', 0, 'trial', 'en', 'm@ternisle.example', '', '{}',
			'normal', ?, 1, 1, 0, 1, '', 0, 1, 1, 77, 0, '', 'sig')`, id, state)
	}
	must("INSERT INTO illumicode_attempt (delivery, number, claim, worker, provider, begun, ended, class, code, " +
		"enhanced, reply) VALUES ('d2', 1, 1, 'w', 'harbour', 1, 0, '', 0, '', '')")

	must("CREATE TABLE illumicode_setting (in_the_way INTEGER)") // the last step will fail
	if err := st.Migrate(t.Context()); err == nil || !strings.Contains(err.Error(), "migration 3") {
		t.Fatalf("a migration that cannot be done: %v", err)
	}
	var n int
	if err := st.DB().QueryRow("SELECT COUNT(fixed) FROM illumicode_delivery").Scan(&n); err != nil || n != 4 {
		t.Fatalf("a failed migration has left %d deliveries of the old form, %v", n, err)
	}
	must("DROP TABLE illumicode_setting")
	if done, err := store.Of(st).Migrate(t.Context(), time.Now()); err != nil ||
		len(done) != len(db.Migrations())-2 {
		t.Fatalf("%v, %v", done, err)
	}
	if err := store.Of(st).Ready(t.Context()); err != nil {
		t.Fatal(err)
	}
	for id, state := range map[string]store.State{"d1": store.Waiting, "d2": store.Claimed, "d3": store.Sent,
		"d4": store.Failed} {
		if d, err := store.Of(st).Delivery(t.Context(), id); err != nil || d.State != state || d.Attempts != 1 {
			t.Errorf("%s: %+v, %v; want %s", id, d, err, state)
		}
	}
	if a, err := store.Of(st).Attempts(t.Context(), "d2"); err != nil || len(a) != 1 || a[0].Fixed.UnixMilli() != 77 ||
		a[0].Signature != "sig" {
		t.Errorf("%+v, %v", a, err)
	}
}

// No query that is asked all the time reads a large table from end to end.
func TestPlans(t *testing.T) {
	path := filepath.Join(t.TempDir(), "grown.db")
	if out, err := exec.Command("go", "run", "../../scripts/fill", path).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	st, err := sqlite.Open(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	storetest.Plans(t, store.Of(st))
}
