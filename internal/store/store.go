package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"sync"
)

// What callers can tell apart. [Dialect.Explain] adds the words and the remedy.
var (
	ErrNotFound    = errors.New("store: no such row")
	ErrFenced      = errors.New("store: the claim was lost to another worker")
	ErrVersion     = errors.New("store: the tables are not those of this version")
	ErrNotMigrated = fmt.Errorf(
		"%w: they are missing or older than this program; run `illumicode migrate` or call Store.Migrate", ErrVersion)
	ErrReadOnly = errors.New("store: the database cannot be written")
	ErrTwoOpen  = errors.New("store: this process has the file open already")
	// matches whatever the database itself refused or failed at
	ErrDatabase = errors.New("store: the database")
	// and this besides, if the fault is a value's
	ErrData  = errors.New("store: a value that this database cannot keep")
	ErrNewer = fmt.Errorf("%w: a newer version of this program made them; deploy that version here too", ErrVersion)
)

// A Store is an open database with the tables of Illumicode in it. It is safe for concurrent
// use. Use [New]: the zero Store has no database.
type Store struct {
	db      *sql.DB
	dialect Dialect
	owned   bool
	writer  chan struct{} // holds a token while one of the store's own writes runs; nil without OneWriter

	mu    sync.RWMutex // guards stmts
	stmts map[string]*sql.Stmt
}

// New returns a store on db. If owned, Close closes db too. Applications use store/sqlite.
func New(db *sql.DB, d Dialect, owned bool) *Store {
	s := &Store{db: db, dialect: d, owned: owned, stmts: make(map[string]*sql.Stmt)}
	if d.OneWriter {
		s.writer = make(chan struct{}, 1)
	}
	return s
}

// DB returns the database, for the application's own transactions on it.
func (s *Store) DB() *sql.DB { return s.db }

// Warnings returns what the operator should know about how the database was opened.
func (s *Store) Warnings() []string { return s.dialect.Warnings }

// Close releases the prepared statements, and the database if the store opened it.
func (s *Store) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, st := range s.stmts {
		st.Close()
	}
	clear(s.stmts)
	if s.owned {
		return s.db.Close()
	}
	return nil
}

// Ready checks that the tables are those of this version and prepares every query, where queries are
// prepared: inside a caller's transaction no further connection may be asked for, as the pool may have only one.
// The error matches [ErrNotMigrated] or [ErrNewer] where that is the cause.
func (s *Store) Ready(ctx context.Context) error {
	if err := s.checkVersion(ctx); err != nil {
		return err
	}
	if s.dialect.Unprepared {
		return nil
	}
	all := slices.Clone(queries)
	for _, g := range groups {
		if s.dialect.Together {
			all = append(all, g.joined)
		} else {
			all = append(all, g.parts...)
		}
	}
	for _, text := range all {
		if _, err := s.prepare(ctx, text); err != nil {
			return fmt.Errorf("store: %w in query %q", s.explain(err), text)
		}
	}
	return nil
}

func (s *Store) prepare(ctx context.Context, text string) (*sql.Stmt, error) {
	s.mu.RLock()
	st := s.stmts[text]
	s.mu.RUnlock()
	if st != nil {
		return st, nil
	}
	st, err := s.db.PrepareContext(ctx, s.Words(text))
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if other := s.stmts[text]; other != nil {
		st.Close()
		return other, nil
	}
	s.stmts[text] = st
	return st, nil
}

// Words returns a query of this package in the database's own words.
func (s *Store) Words(text string) string {
	if s.dialect.Rewrite == nil {
		return text
	}
	return s.dialect.Rewrite(text)
}

func (s *Store) explain(err error) error {
	if err == nil || errors.Is(err, context.Canceled) || errors.Is(err, sql.ErrNoRows) {
		return err
	}
	if errors.Is(err, ErrDatabase) {
		return err
	}
	return &databaseError{s.dialect.Explain(err)}
}

// A databaseError is an error of the database, in its own words.
type databaseError struct{ error }

func (e *databaseError) Unwrap() error        { return e.error }
func (e *databaseError) Is(target error) bool { return target == ErrDatabase }

// A Tx is a transaction in which the store's writes can be made: the caller's own, through
// [Store.In], or one of the store's, through [Store.Write].
type Tx struct {
	s  *Store
	by Runner
}

// In returns tx as a transaction of this store. The caller commits or rolls back.
func (s *Store) In(tx *sql.Tx) Tx { return Tx{s: s, by: sqlRunner{s: s, tx: tx}} }

// Through returns a transaction that a driver's own package runs.
func (s *Store) Through(r Runner) Tx { return Tx{s: s, by: r} }

// lock waits until the store may write, and returns what ends its turn.
func (s *Store) lock(ctx context.Context) (unlock func(), err error) {
	if s.writer == nil {
		return func() {}, nil
	}
	select {
	case s.writer <- struct{}{}:
		return func() { <-s.writer }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// WriterTurn waits until the store's own writes let another one go, where the database takes one at a time, and
// returns what ends the turn: writers that queue are faster than those that poll the database's lock.
func (s *Store) WriterTurn(ctx context.Context) (end func(), err error) { return s.lock(ctx) }

// Write runs fn in a transaction of the store's own and commits it if fn returns nil. fn must
// write before it reads.
func (s *Store) Write(ctx context.Context, fn func(Tx) error) error {
	unlock, err := s.lock(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return s.explain(err)
	}
	defer tx.Rollback() // after a commit it does nothing
	if err := fn(s.In(tx)); err != nil {
		return err
	}
	return s.explain(tx.Commit())
}

var (
	savepoint = q(`SAVEPOINT illumicode`)
	release   = q(`RELEASE SAVEPOINT illumicode`)
	undo      = q(`ROLLBACK TO SAVEPOINT illumicode`)
)

// Nested runs fn and, if it returns an error, undoes what fn wrote and nothing else. The transaction
// can go on.
func (t Tx) Nested(ctx context.Context, fn func() error) error {
	if _, err := t.exec(ctx, savepoint); err != nil {
		return err
	}
	err := fn()
	end := release
	if err != nil {
		end = undo
	}
	if _, endErr := t.exec(ctx, end); endErr != nil && err == nil {
		err = endErr
	}
	return err
}

// exec runs a query and returns how many rows it changed.
func (t Tx) exec(ctx context.Context, text string, args ...any) (int64, error) {
	n, err := t.by.Exec(ctx, text, args...)
	return n, t.s.explain(err)
}

func (t Tx) query(ctx context.Context, text string, args ...any) (Rows, error) {
	rows, err := t.by.Query(ctx, text, args...)
	return rows, t.s.explain(err)
}

// alone returns what runs each query as a transaction of its own.
func (s *Store) alone() Tx { return Tx{s: s, by: sqlRunner{s: s}} }

// exec runs one query as a transaction of its own.
func (s *Store) exec(ctx context.Context, text string, args ...any) (int64, error) {
	unlock, err := s.lock(ctx)
	if err != nil {
		return 0, err
	}
	defer unlock()
	return s.alone().exec(ctx, text, args...)
}

// change runs one writing query that returns rows, as a transaction of its own.
func change[T any](ctx context.Context, s *Store, scan func(scanner) (T, error), text string,
	args ...any) ([]T, error) {
	unlock, err := s.lock(ctx)
	if err != nil {
		return nil, err
	}
	defer unlock()
	rows, err := s.query(ctx, text, args...)
	return collect(s, rows, err, scan)
}

func (s *Store) query(ctx context.Context, text string, args ...any) (Rows, error) {
	return s.alone().query(ctx, text, args...)
}
