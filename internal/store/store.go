package store

import (
	"context"
	"database/sql"
	"errors"
	"sync"

	"github.com/illumicode/illumicode/internal/store/addresses"
	"github.com/illumicode/illumicode/internal/store/challenges"
	"github.com/illumicode/illumicode/internal/store/db"
	"github.com/illumicode/illumicode/internal/store/feedback"
	"github.com/illumicode/illumicode/internal/store/limits"
	"github.com/illumicode/illumicode/internal/store/queue"
)

// The rooms, under names that differ.
type (
	queueRows     = queue.Rows
	challengeRows = challenges.Rows
	addressRows   = addresses.Rows
	limitRows     = limits.Rows
	feedbackRows  = feedback.Rows

	queueTx     = queue.Tx
	challengeTx = challenges.Tx
	addressTx   = addresses.Tx
	limitTx     = limits.Tx
	feedbackTx  = feedback.Tx
)

// A Store is an open database with the tables of Illumicode in it. It is safe for concurrent
// use. Use [New]: the zero Store has no database.
type Store struct {
	*db.Database
	queueRows
	challengeRows
	addressRows
	limitRows
	feedbackRows

	patient *Store // on connections of its own; itself where these are patient enough

	mu      sync.Mutex // guards closing
	closing []func()
}

// New returns a store on d. If owned, Close closes d too. Applications use store/sqlite and store/postgres.
func New(d *sql.DB, dialect db.Dialect, owned bool) *Store {
	s := on(db.New(d, dialect, owned))
	s.patient = s
	if dialect.Patient != nil {
		dialect.Unprepared = true // its connections come and go
		s.patient = on(db.New(dialect.Patient, dialect, true))
		s.patient.patient = s.patient
	}
	return s
}

func on(d *db.Database) *Store {
	return &Store{Database: d, queueRows: queueRows{Database: d}, challengeRows: challengeRows{Database: d},
		addressRows: addressRows{Database: d}, limitRows: limitRows{Database: d},
		feedbackRows: feedbackRows{Database: d}}
}

// Patient returns the same store for what operators ask for, for imports and for migrations: its statements, and their
// wait for a lock, may take long.
func (s *Store) Patient() *Store { return s.patient }

// AtClose has fn called when the store is closed, before its database is.
func (s *Store) AtClose(fn func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.closing = append(s.closing, fn)
}

// Close releases what the store holds, and the database if the store opened it.
func (s *Store) Close() error {
	s.mu.Lock()
	closing := s.closing
	s.closing = nil
	s.mu.Unlock()
	for _, fn := range closing {
		fn()
	}
	if s.patient == s {
		return s.Database.Close()
	}
	return errors.Join(s.patient.Database.Close(), s.Database.Close())
}

// A Tx is a transaction in which the store's writes can be made: the caller's own, through
// [Store.In], or one of the store's, through [Store.Write].
type Tx struct {
	db.Tx
	queueTx
	challengeTx
	addressTx
	limitTx
	feedbackTx
}

func txOf(t db.Tx) Tx {
	return Tx{t,
		queueTx{Tx: t}, challengeTx{Tx: t}, addressTx{Tx: t}, limitTx{Tx: t}, feedbackTx{Tx: t}}
}

// In returns tx as a transaction of this store. The caller commits or rolls back.
func (s *Store) In(tx *sql.Tx) Tx { return txOf(s.Database.In(tx)) }

// Through returns a transaction that a driver's own package runs.
func (s *Store) Through(r db.Runner) Tx { return txOf(s.Database.Through(r)) }

// Write runs fn in a transaction of the store's own and commits it if fn returns nil. fn must
// write before it reads.
func (s *Store) Write(ctx context.Context, fn func(Tx) error) error {
	return s.Database.Write(ctx, func(t db.Tx) error { return fn(txOf(t)) })
}

// WriteRelaxed is Write with a commit that waits for no disk.
func (s *Store) WriteRelaxed(ctx context.Context, fn func(Tx) error) error {
	return s.Database.WriteRelaxed(ctx, func(t db.Tx) error { return fn(txOf(t)) })
}
