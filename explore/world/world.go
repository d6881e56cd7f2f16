// Package world is the real service as a history plays on it: a database, a clock that the history moves, a provider
// that does as it is told, and browsers. [World] is the type to read first.
package world

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/explore/model"
	"github.com/illumicode/illumicode/internal/flow"
	rows "github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/internal/store/db"
	"github.com/illumicode/illumicode/internal/text"
	"github.com/illumicode/illumicode/limit"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/store"
	"github.com/illumicode/illumicode/store/sqlite"
	"github.com/illumicode/illumicode/token"
)

// A World is one service. It is for one goroutine.
type World struct {
	store *store.Store
	svc   *illumicode.Service
	parts *flow.Parts
	keys  *token.Keyring
	first []byte // the keyring at the beginning of each history
	way   *way
	log   *text.Text // what went wrong
	dir   string

	logged int // of the histories before

	start time.Time     // of this history
	now   time.Duration // since then

	browsers   []cookies
	admissions []illumicode.Admission
	proofs     []illumicode.Proof
	challenges map[string]int // by their tickets' digests
	letters    []string       // ids of deliveries, in order
	recalls    map[int]string // by their addresses
	tampered   bool           // somebody has written to the database
	seam       db.Seam        // of a history with calls at once, or with faults; else nil
	tables     []string
	queries    *sync.Map // *sql.Stmt by its words
}

// cookies are what a browser has.
type cookies struct {
	ticket illumicode.Ticket
	known  string
}

// apart is how far histories are from each other, so that nothing in a process's memory is of the one before.
const apart = 400 * 24 * time.Hour

// digits is the length of codes: so long that one which is found anywhere is no accident.
const digits = 9

// Open returns a world on SQLite, in memory. Close it.
func Open(ctx context.Context) (w *World, err error) {
	w = &World{start: time.Date(2030, 1, 1, 12, 0, 0, 0, time.UTC), log: new(text.Text),
		queries: new(sync.Map)}
	if w.dir, err = os.MkdirTemp("/dev/shm", "illumicode-explore-"); err != nil {
		if w.dir, err = os.MkdirTemp("", "illumicode-explore-"); err != nil {
			return nil, err
		}
	}
	defer func() {
		if err != nil {
			os.RemoveAll(w.dir)
		}
	}()
	st, err := sqlite.Open(ctx, filepath.Join(w.dir, "world.db"))
	if err == nil {
		err = st.Migrate(ctx)
	}
	if err != nil {
		return nil, err
	}
	w.way = &way{letters: map[string]letter{}}
	w.keys = token.Generate(w.start.Add(-24 * time.Hour))
	w.first = w.keys.Marshal()
	w.store = st
	rows.Of(st).Watch(func(ctx context.Context, at db.Point, words string) error {
		if w.seam == nil {
			return nil
		}
		return w.seam(ctx, at, words)
	})
	return w, w.Empty(ctx)
}

func (w *World) config(st *store.Store) illumicode.Config {
	from, _ := message.ParseAddress("crew@ternisle.example")
	policy := challenge.Policy{Digits: digits}
	return illumicode.Config{
		Store: st, Keys: w.keys, From: from, Providers: []provider.Provider{w.way}, Now: w.Now,
		Site:     illumicode.Site{BaseURL: "http://127.0.0.1:1", Name: "Tern Isle Ferry"},
		Purposes: map[string]challenge.Purpose{"own": {Letter: "confirm", Policy: policy}},
		Signup:   policy, SignIn: policy, Reverify: policy, StepUp: policy,
		Limits: []limit.Rule{{Name: "address", By: limit.Address,
			Rate: limit.Rate{Times: int(time.Hour / model.Every), Per: time.Hour, Burst: model.Burst}}},
		Outbox: delivery.Settings{Senders: 1, Poll: time.Second},
		Log:    slog.New(slog.NewTextHandler(w.log, &slog.HandlerOptions{Level: slog.LevelError})),
	}
}

// Now is the service's clock.
func (w *World) Now() time.Time { return w.start.Add(w.now) }

// Close removes the world.
func (w *World) Close() error {
	return errors.Join(w.store.Close(), os.RemoveAll(w.dir))
}

// Empty begins another history: nothing has happened, and it is another year.
func (w *World) Empty(ctx context.Context) error {
	w.start, w.now = w.start.Add(apart), 0
	*w = World{store: w.store, keys: w.keys, first: w.first, way: w.way, log: w.log, dir: w.dir,
		start: w.start, logged: w.logged, tables: w.tables, queries: w.queries, svc: w.svc, browsers: make([]cookies,
			model.Browsers), challenges: map[string]int{}, recalls: map[int]string{}}
	clear(w.way.letters)
	w.logged = len(w.log.String())
	ring, err := token.Parse(w.first)
	if err != nil {
		return err
	}
	w.keys.Replace(ring)
	if w.svc == nil || w.way.soured { // else a history would begin with what a provider did in another
		w.way.soured = false
		if w.svc, err = illumicode.New(w.config(w.store)); err != nil {
			return err
		}
	}
	w.parts = flow.Of(w.svc)
	own := w.store.DB()
	if w.tables == nil {
		if w.tables, err = tablesOf(ctx, own); err != nil {
			return err
		}
	}
	tx, err := own.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, table := range w.tables {
		if _, err := tx.ExecContext(ctx, "DELETE FROM "+table); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// tablesOf returns the tables that histories write to.
func tablesOf(ctx context.Context, own *sql.DB) (all []string, err error) {
	found, err := own.QueryContext(ctx, `SELECT name FROM sqlite_schema WHERE type = 'table'
		AND name LIKE 'illumicode\_%' ESCAPE '\' AND name <> 'illumicode_migration' ORDER BY name`)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	for found.Next() {
		var name string
		if err := found.Scan(&name); err != nil {
			return nil, err
		}
		all = append(all, name)
	}
	return all, found.Err()
}

// Errors returns what errors the service has logged in this history.
func (w *World) Errors() string {
	if w.tampered { // which is logged, as it should
		return ""
	}
	return w.log.String()[w.logged:]
}

func address(n int) string { return fmt.Sprintf("person%d@ternisle.example", n) }

func account(n int) string { return fmt.Sprint("account ", n) }
