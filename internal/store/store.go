package store

import (
	"context"
	"database/sql"

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
}

// New returns a store on d. If owned, Close closes d too. Applications use store/sqlite and store/postgres.
func New(d *sql.DB, dialect db.Dialect, owned bool) *Store {
	s := db.New(d, dialect, owned)
	return &Store{s,
		queueRows{Database: s}, challengeRows{Database: s}, addressRows{Database: s}, limitRows{Database: s},
		feedbackRows{Database: s}}
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
