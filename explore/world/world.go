// Package world is the real service as a history plays on it: a database, a clock that the history moves, a provider
// that does as it is told, and browsers. [World] is the type to read first.
package world

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/explore/model"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store/db"
	"github.com/illumicode/illumicode/internal/text"
	"github.com/illumicode/illumicode/limit"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/store"
	"github.com/illumicode/illumicode/token"
)

// A World is one service. It is for one goroutine.
type World struct {
	on    Database
	store *store.Store
	svc   *illumicode.Service
	parts *flow.Parts
	keys  *token.Keyring
	first []byte // the keyring at the beginning of each history
	way   *way
	log   *text.Text   // what went wrong
	gone  func() error // removes the database

	logged int // of the histories before

	start time.Time     // of this history
	now   time.Duration // since then
	zero  time.Time     // the start by the service's clock, which follows the database's

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
	return errors.Join(w.store.Close(), w.gone())
}

// Empty begins another history: nothing has happened, and it is another year.
func (w *World) Empty(ctx context.Context) error {
	w.start, w.now = w.start.Add(apart), 0
	if len(w.admissions) > 0 { // what was not used is given back here, and not in the next history
		if err := w.parts.Limits.RefundUnused(ctx); err != nil {
			return err
		}
	}
	*w = World{on: w.on, store: w.store, keys: w.keys, first: w.first, way: w.way, log: w.log, gone: w.gone,
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
	w.parts, w.zero = flow.Of(w.svc), w.svc.Now().Truncate(time.Millisecond)
	if w.tables == nil {
		if w.tables, err = w.tablesOf(ctx); err != nil {
			return err
		}
	}
	tx, err := w.store.DB().BeginTx(ctx, nil)
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

// Errors returns what errors the service has logged in this history.
func (w *World) Errors() string {
	if w.tampered { // which is logged, as it should
		return ""
	}
	return w.log.String()[w.logged:]
}

func address(n int) string { return fmt.Sprintf("person%d@ternisle.example", n) }

func account(n int) string { return fmt.Sprint("account ", n) }
