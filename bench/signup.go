package main

import (
	"context"
	"database/sql"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/core/message"
	"github.com/illumicode/illumicode/core/token"
	"github.com/illumicode/illumicode/internal/pgtest"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/store"
	"github.com/illumicode/illumicode/store/postgres"
	"github.com/illumicode/illumicode/store/sqlite"
)

// A bed is a fresh database with a service on it, in a temporary folder.
type bed struct {
	dir   string
	store *store.Store
	svc   *illumicode.Service
}

// The databases of beds.
const (
	onSQLite   = "SQLite"
	onPostgres = "PostgreSQL"
)

// server is the PostgreSQL of all beds, started by the first that needs it.
var server = sync.OnceValues(func() (*pgtest.Server, error) {
	serverStarted.Store(true)
	return pgtest.Start(context.Background())
})

var serverStarted atomic.Bool

// stopServer stops it if it was started.
func stopServer() error {
	if !serverStarted.Load() {
		return nil
	}
	s, err := server()
	if err != nil {
		return err
	}
	return s.Close()
}

// newBed returns a bed on SQLite; newBedOn says on what, and may change the configuration.
func newBed(way provider.Provider) (*bed, error) { return newBedOn(onSQLite, way, nil) }

func newBedOn(database string, way provider.Provider, change func(*illumicode.Config)) (*bed, error) {
	dir, err := os.MkdirTemp("", "illumicode-bench-")
	if err != nil {
		return nil, err
	}
	b := &bed{dir: dir}
	if database == onPostgres {
		if b.store, err = openPostgres(context.Background()); err != nil {
			return nil, err
		}
		return b, b.open(way, change)
	}
	return b, b.openFile(way, change)
}

// openBed opens the bed in a folder that another process has made.
func openBed(dir string, way provider.Provider) (*bed, error) {
	b := &bed{dir: dir}
	return b, b.openFile(way, nil)
}

func (b *bed) openFile(way provider.Provider, change func(*illumicode.Config)) (err error) {
	if b.store, err = sqlite.Open(context.Background(), filepath.Join(b.dir, "bench.db")); err != nil {
		return err
	}
	return b.open(way, change)
}

// open makes the service.
func (b *bed) open(way provider.Provider, change func(*illumicode.Config)) error {
	ctx := context.Background()
	if _, err := b.store.Migrate(ctx, time.Now()); err != nil {
		return err
	}
	ring, err := token.NewKeyring(token.GenerateKey(time.Now()))
	if err != nil {
		return err
	}
	from, err := message.ParseAddress("crew@ternisle.example")
	if err != nil {
		return err
	}
	c := illumicode.Config{
		Store: b.store, Keys: ring, From: from, Providers: []provider.Provider{way}, Log: slog.New(slog.DiscardHandler),
		Site: illumicode.Site{BaseURL: "https://ferry.example", Name: "Tern Isle Ferry"},
	}
	if change != nil {
		change(&c)
	}
	b.svc, err = illumicode.New(c)
	return err
}

func openPostgres(ctx context.Context) (*store.Store, error) {
	s, err := server()
	if err != nil {
		return nil, err
	}
	conn, err := s.Database(ctx)
	if err != nil {
		return nil, err
	}
	return postgres.Open(ctx, conn, postgres.Options{})
}

func (b *bed) close() {
	b.store.Close()
	os.RemoveAll(b.dir)
}

// tx runs fn in a transaction.
func tx(db *sql.DB, fn func(*sql.Tx) error) error {
	t, err := db.Begin()
	if err != nil {
		return err
	}
	defer t.Rollback()
	if err := fn(t); err != nil {
		return err
	}
	return t.Commit()
}

// signupFigures measures beginning a signup in the application's transaction, with
// synchronous=FULL, against the same rows inserted by prepared statements, and against two rows
// of two columns.
func signupFigures(scale int) ([]figure, error) {
	b, err := newBed(nobody{})
	if err != nil {
		return nil, err
	}
	defer b.close()
	ctx, db := context.Background(), b.store.DB()
	admission, err := b.svc.Admit(ctx, illumicode.Request{Address: "mara@ternisle.example", Name: "Mara", Locale: "en"})
	if err != nil {
		return nil, err
	}
	begin := func() error {
		return tx(db, func(t *sql.Tx) error {
			_, err := b.svc.In(t).BeginSignup(ctx, admission, uuid.NewString())
			return err
		})
	}
	if err := begin(); err != nil {
		return nil, err
	}
	var copies []*rowCopy
	for table, fresh := range map[string][]string{"illumicode_challenge": {"id", "ticket"}, "illumicode_address": {"subject"}, "illumicode_delivery": {"id"}} {
		c, err := newRowCopy(db, table, fresh)
		if err != nil {
			return nil, err
		}
		copies = append(copies, c)
	}
	same := func() error {
		return tx(db, func(t *sql.Tx) error {
			for _, c := range copies {
				if err := c.insert(t); err != nil {
					return err
				}
			}
			return nil
		})
	}
	if _, err := db.Exec("CREATE TABLE two (id TEXT NOT NULL PRIMARY KEY, body TEXT NOT NULL)"); err != nil {
		return nil, err
	}
	insert, err := db.Prepare("INSERT INTO two VALUES (?, ?)")
	if err != nil {
		return nil, err
	}
	two := func() error {
		return tx(db, func(t *sql.Tx) error {
			for range 2 {
				if _, err := t.Stmt(insert).Exec(uuid.NewString(), "a body of some length"); err != nil {
					return err
				}
			}
			return nil
		})
	}
	times, err := inTurns(200*scale, begin, same, two)
	if err != nil {
		return nil, err
	}
	note := fmt.Sprintf("%v against", median(times[0]))
	return []figure{
		{"begin signup in a transaction, SQLite", "the same statements, prepared, bare", medianRatio(times[0], times[1]), 1.25, fmt.Sprint(note, " ", median(times[1]))},
		{"begin signup in a transaction, SQLite", "two bare rows", medianRatio(times[0], times[2]), 3, fmt.Sprint(note, " ", median(times[2]))},
	}, nil
}

// A rowCopy inserts copies of a row that differ only in the columns that must.
type rowCopy struct {
	table  string
	stmt   *sql.Stmt
	values []any
	fresh  []int
}

func newRowCopy(db *sql.DB, table string, fresh []string) (*rowCopy, error) {
	rows, err := db.Query("SELECT * FROM " + table + " LIMIT 1")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	c := &rowCopy{values: make([]any, len(names))}
	dest := make([]any, len(names))
	for i, name := range names {
		dest[i] = &c.values[i]
		for _, f := range fresh {
			if f == name {
				c.fresh = append(c.fresh, i)
			}
		}
	}
	if !rows.Next() {
		return nil, fmt.Errorf("%s is empty", table)
	}
	if err := rows.Scan(dest...); err != nil {
		return nil, err
	}
	if err := rows.Close(); err != nil {
		return nil, err
	}
	c.table = table
	database := onSQLite
	if _, err := db.Exec("SELECT sqlite_version()"); err != nil {
		database = onPostgres
	}
	c.stmt, err = db.Prepare(c.many(1, database))
	return c, err
}

// many returns the statement that inserts n rows.
func (c *rowCopy) many(n int, database string) string {
	var b strings.Builder
	b.WriteString("INSERT INTO " + c.table + " VALUES ")
	for i := range n * len(c.values) {
		switch {
		case i == 0:
			b.WriteString("(")
		case i%len(c.values) == 0:
			b.WriteString("), (")
		default:
			b.WriteString(", ")
		}
		if database == onPostgres {
			fmt.Fprintf(&b, "$%d", i+1)
		} else {
			b.WriteString("?")
		}
	}
	return b.String() + ")"
}

func (c *rowCopy) insert(t *sql.Tx) error {
	for _, i := range c.fresh {
		c.values[i] = uuid.Must(uuid.NewV7()).String()
	}
	_, err := t.Stmt(c.stmt).Exec(c.values...)
	return err
}

// nobody is a way out that is never used.
type nobody struct{ provider.Provider }

func (nobody) Name() string          { return "nobody" }
func (nobody) Can() provider.Ability { return provider.Ability{Mail: true} }
