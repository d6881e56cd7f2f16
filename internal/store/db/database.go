package db

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"sync"
	"time"
)

// What callers can tell apart. [Dialect.Explain] adds the words and the remedy.
var (
	ErrNotFound    = errors.New("store: no such row")
	ErrVersion     = errors.New("store: the tables are not those of this version")
	ErrNotMigrated = fmt.Errorf(
		"%w: they are missing or older than this program; run `illumicode migrate` or call Store.Migrate", ErrVersion)
	ErrReadOnly = errors.New("store: the database cannot be written")
	ErrTwoOpen  = errors.New("store: this process has the file open already")
	ErrFull     = errors.New("store: the disk or the quota is full; nothing was written; make room")
	// matches whatever the database itself refused or failed at
	ErrDatabase = errors.New("store: the database")
	// and this besides, if the fault is a value's
	ErrData = errors.New("store: a value that this database cannot keep")
	errTurn = errors.New("store: another transaction of this process has kept the database for itself all the while; " +
		"look for one that waits for something else, such as a network")
	ErrNewer = fmt.Errorf("%w: a newer version of this program made them; deploy that version here too", ErrVersion)
)

// A Database is an open database with the tables of Illumicode in it. It is safe for concurrent use. Use [New]: the
// zero Database has none.
type Database struct {
	db      *sql.DB
	dialect Dialect
	owned   bool
	writer  chan struct{} // holds a token while one of the store's own writes runs; nil without OneWriter
	words   sync.Map      // of a query to it in the database's own words
	seam    Seam          // nil but where histories are explored

	mu    sync.RWMutex         // guards stmts
	stmts map[string]*sql.Stmt // by words
}

// New returns the tables in db. If owned, Close closes db too.
func New(db *sql.DB, d Dialect, owned bool) *Database {
	s := &Database{db: db, dialect: d, owned: owned, stmts: make(map[string]*sql.Stmt)}
	if d.OneWriter {
		s.writer = make(chan struct{}, 1)
	}
	return s
}

// DB returns the database, for the application's own transactions on it.
func (s *Database) DB() *sql.DB { return s.db }

// Warnings returns what the operator should know about how the database was opened.
func (s *Database) Warnings() []string { return s.dialect.Warnings }

// Close releases the prepared statements, and the database if the store opened it.
func (s *Database) Close() error {
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
func (s *Database) Ready(ctx context.Context) error {
	if err := s.checkVersion(ctx); err != nil {
		return err
	}
	if s.dialect.Unprepared {
		return nil
	}
	for _, text := range declared(s.dialect.Together) {
		if _, err := s.prepare(ctx, s.Words(text)); err != nil {
			return fmt.Errorf("store: %w in query %q", s.Explain(err), text)
		}
	}
	return nil
}

func (s *Database) prepare(ctx context.Context, words string) (*sql.Stmt, error) {
	s.mu.RLock()
	st := s.stmts[words]
	s.mu.RUnlock()
	if st != nil {
		return st, nil
	}
	st, err := s.db.PrepareContext(ctx, words)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if other := s.stmts[words]; other != nil {
		st.Close()
		return other, nil
	}
	s.stmts[words] = st
	return st, nil
}

// Words returns a query in the database's own words.
func (s *Database) Words(query string) string {
	if v, ok := s.words.Load(query); ok {
		return v.(string)
	}
	words := compile(query, s.dialect.Words)
	s.words.Store(query, words)
	return words
}

// Explain returns err with a remedy where the database's own words need one. What it returns matches [ErrDatabase].
func (s *Database) Explain(err error) error {
	if err == nil || errors.Is(err, context.Canceled) || errors.Is(err, sql.ErrNoRows) ||
		errors.Is(err, ErrDatabase) {
		return err
	}
	return &databaseError{s.dialect.Explain(err)}
}

// A databaseError is an error of the database, in its own words.
type databaseError struct{ error }

func (e *databaseError) Unwrap() error        { return e.error }
func (e *databaseError) Is(target error) bool { return target == ErrDatabase }

// writerWait is how long a writer waits for its turn.
const writerWait = 10 * time.Second

// lock waits until the store may write, but not for ever, and returns what ends its turn.
func (s *Database) lock(ctx context.Context) (unlock func(), err error) {
	if s.writer == nil {
		return func() {}, nil
	}
	s.at(ctx, TurnWanted, "")
	if err := s.takeTurn(ctx); err != nil {
		return nil, err
	}
	s.at(ctx, TurnHad, "")
	return func() {
		<-s.writer
		s.at(ctx, TurnGiven, "")
	}, nil
}

func (s *Database) takeTurn(ctx context.Context) error {
	select {
	case s.writer <- struct{}{}: // most of the time, and without a timer
		return nil
	default:
	}
	most := time.NewTimer(writerWait)
	defer most.Stop()
	select {
	case s.writer <- struct{}{}:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	case <-most.C:
		return s.Explain(errTurn)
	}
}

// AwaitWriter waits until the store's own writes let another one go, where the database takes one at a time, and
// returns what ends the turn: writers that queue are faster than those that poll the database's lock.
func (s *Database) AwaitWriter(ctx context.Context) (end func(), err error) { return s.lock(ctx) }

// Write runs fn in a transaction of the store's own and commits it if fn returns nil. fn must
// write before it reads.
func (s *Database) Write(ctx context.Context, fn func(Tx) error) error {
	unlock, err := s.lock(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	tx, err := begun(ctx, s, func() (*sql.Tx, error) { return s.db.BeginTx(ctx, nil) })
	if err != nil {
		return err
	}
	defer tx.Rollback() // after a commit it does nothing
	if err := fn(s.In(tx)); err != nil {
		return err
	}
	return s.committed(ctx, tx.Commit)
}

// Exec runs one query as a transaction of its own, and returns how many rows it changed.
func (s *Database) Exec(ctx context.Context, query string, args ...any) (int64, error) {
	unlock, err := s.lock(ctx)
	if err != nil {
		return 0, err
	}
	defer unlock()
	return s.Alone().Exec(ctx, query, args...)
}

// Query runs a query that only reads.
func (s *Database) Query(ctx context.Context, query string, args ...any) (Rows, error) {
	return s.Alone().Query(ctx, query, args...)
}

// Home returns the marks of the database's place, nil if it has none.
func (s *Database) Home(ctx context.Context) ([]string, error) {
	if s.dialect.Home == nil {
		return nil, nil
	}
	marks, err := s.dialect.Home(ctx, s.db)
	return marks, s.Explain(err)
}

// Moved returns how many of these marks differ if the database is elsewhere.
func (s *Database) Moved() int { return s.dialect.Moved }

// Sharing returns the statement by which a transaction keeps out [Tx.Alone], or "" where it need not.
func (s *Database) Sharing() string { return s.dialect.Share }

// OneWriter reports whether the database takes one writing transaction at a time.
func (s *Database) OneWriter() bool { return s.dialect.OneWriter }

// Dialect returns the name of the database: sqlite or postgres.
func (s *Database) Dialect() string { return s.dialect.Name }

// Steps runs one step of a bulk change, of at most 500 rows, until it changes nothing more, each in
// a transaction of its own so that workers and the application get their turn. It returns how many
// rows were changed.
func (s *Database) Steps(ctx context.Context, step func(Tx) (int64, error)) (total int64, err error) {
	for {
		var n int64
		err := s.Write(ctx, func(t Tx) (err error) { n, err = step(t); return err })
		if err != nil || n == 0 { // what was not committed does not count
			return total, err
		}
		total += n
	}
}
