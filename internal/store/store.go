package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
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

// A Dialect is what differs between databases.
type Dialect struct {
	Name string

	// Explain returns err with a remedy where the database's own words need one, else err.
	Explain func(err error) error

	// OneWriter says that the database takes one writing transaction at a time. The store then
	// queues its own, instead of letting them poll each other's lock.
	OneWriter bool

	// Warnings are conditions the operator should know of, found when the database was opened.
	Warnings []string

	// Rewrite turns a query of this package into the database's own words. The package writes "?"
	// for parameters, COMMIT_SOON for something true that makes the commit wait for no disk, BY_INDEX for
	// something true that does as ByIndex, FOR UPDATE and SKIP LOCKED where rows are to be locked, json_each(?)
	// for a list, BLOB and SERIAL_KEY for types. Nil leaves it as it is.
	Rewrite func(query string) string

	// Clock asks for the database's clock in Unix milliseconds; empty where it is this machine's.
	Clock string

	// Announce tells listeners in other processes that something is due; empty for none.
	Announce string

	// Listen calls wake whenever something was announced, until ctx ends or the error that it
	// returns; nil where nothing is announced.
	Listen func(ctx context.Context, wake func()) error

	// Together says that one statement can hold several writes (WITH … AS (INSERT …)): a round trip
	// to the server instead of one for each.
	Together bool

	// Unprepared says that the connection has no memory for prepared queries, as behind a pooler that gives
	// it to others between transactions.
	Unprepared bool

	// Pipeline runs statements as one transaction in one round trip, or returns [ErrNoPipeline]. Nil where there
	// is no trip to spare.
	Pipeline func(ctx context.Context, db *sql.DB, all []Statement) error

	// ByIndex, before another statement of the same transaction, has the planner take the index that the
	// statement is made for, whatever it knows of the table by then; empty where it always does.
	ByIndex string

	// Relaxed makes the commits of a connection wait for no disk, until Durable does the opposite;
	// RelaxedInside does it for the transaction it runs in. All three may be empty.
	Relaxed, Durable, RelaxedInside string

	// Begin opens a transaction of a driver's own for the application; nil where that is database/sql's.
	Begin func(ctx context.Context) (Opened, error)

	// Columns asks for table and column of everything textual in tables named illumicode_….
	Columns string

	// Made asks whether the table of migrations is there: 1 or 0.
	Made string

	// Lock makes one migration wait for another; empty where every transaction does.
	Lock string
}

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

// queries lists every query of the package, so that Ready can prepare them all.
var queries []string

// q declares a query.
func q(text string) string {
	queries = append(queries, text)
	return text
}

// A group is statements that do not depend on each other.
type group struct {
	parts  []string
	joined string // all of them as one, for databases that can
}

var groups []group

// together declares statements that [Tx.all] runs, as one where the database can.
func together(parts ...string) *group {
	g := group{parts: parts}
	var b strings.Builder
	for i, part := range parts[:len(parts)-1] {
		sep := ", "
		if i == 0 {
			sep = "WITH "
		}
		fmt.Fprintf(&b, "%sstep%d AS (%s)", sep, i, part)
	}
	g.joined = b.String() + " " + parts[len(parts)-1]
	groups = append(groups, g)
	return &g
}

// An insert is a statement that adds one row, in parts.
type insert struct{ into, values, conflict string }

// alone returns the statement.
func (i insert) alone() string { return i.into + " VALUES (" + i.values + ")" + i.conflict }

// following declares a first insert, and others that happen only if it added its row.
func following(first string, rest ...insert) *group {
	g := group{parts: []string{first}}
	var b strings.Builder
	b.WriteString("WITH step0 AS (" + first + " RETURNING id)")
	for i, one := range rest {
		g.parts = append(g.parts, one.alone())
		text := one.into + " SELECT " + one.values + " FROM step0" + one.conflict
		if i < len(rest)-1 {
			fmt.Fprintf(&b, ", step%d AS (%s)", i+1, text)
		} else {
			b.WriteString(" " + text)
		}
	}
	g.joined = b.String()
	groups = append(groups, g)
	return &g
}

// follow runs a group of following, and reports whether the first insert added its row.
func (t Tx) follow(ctx context.Context, g *group, args ...[]any) (bool, error) {
	if t.s.dialect.Together {
		n, err := t.exec(ctx, g.joined, slices.Concat(args...)...)
		return n == 1, err
	}
	for i, part := range g.parts {
		n, err := t.exec(ctx, part, args[i]...)
		if err != nil || i == 0 && n == 0 {
			return false, err
		}
	}
	return true, nil
}

// all runs a group with the arguments of each part.
func (t Tx) all(ctx context.Context, g *group, args ...[]any) error {
	if t.s.dialect.Together {
		_, err := t.exec(ctx, g.joined, slices.Concat(args...)...)
		return err
	}
	for i, part := range g.parts {
		if _, err := t.exec(ctx, part, args[i]...); err != nil {
			return err
		}
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

// A Runner runs the store's queries in a transaction: database/sql's, or a driver's own. Queries
// come in the store's words; see [Store.Words].
type Runner interface {
	Exec(ctx context.Context, query string, args ...any) (changed int64, err error)
	Query(ctx context.Context, query string, args ...any) (Rows, error)
}

// Rows are what a query returns, as *sql.Rows are.
type Rows interface {
	Next() bool
	Scan(dest ...any) error
	Err() error
	Close() error
}

// A sqlRunner runs queries through database/sql.
type sqlRunner struct {
	s  *Store
	tx *sql.Tx // nil where each query is a transaction of its own
}

// A statement is a query with its words, prepared or not.
type statement interface {
	ExecContext(ctx context.Context, args ...any) (sql.Result, error)
	QueryContext(ctx context.Context, args ...any) (*sql.Rows, error)
}

// An unprepared statement is sent as text.
type unprepared struct {
	by interface { // *sql.DB or *sql.Tx
		ExecContext(ctx context.Context, words string, args ...any) (sql.Result, error)
		QueryContext(ctx context.Context, words string, args ...any) (*sql.Rows, error)
	}
	words string
}

func (s unprepared) ExecContext(ctx context.Context, args ...any) (sql.Result, error) {
	return s.by.ExecContext(ctx, s.words, args...)
}

func (s unprepared) QueryContext(ctx context.Context, args ...any) (*sql.Rows, error) {
	return s.by.QueryContext(ctx, s.words, args...)
}

func (r sqlRunner) statement(ctx context.Context, query string) (statement, error) {
	switch {
	case r.s.dialect.Unprepared && r.tx == nil:
		return unprepared{r.s.db, r.s.Words(query)}, nil
	case r.s.dialect.Unprepared:
		return unprepared{r.tx, r.s.Words(query)}, nil
	}
	st, err := r.s.prepare(ctx, query)
	if err != nil || r.tx == nil {
		return st, err
	}
	return r.tx.StmtContext(ctx, st), nil
}

func (r sqlRunner) Exec(ctx context.Context, query string, args ...any) (int64, error) {
	st, err := r.statement(ctx, query)
	if err != nil {
		return 0, err
	}
	result, err := st.ExecContext(ctx, args...)
	if err != nil {
		return 0, err
	}
	return result.RowsAffected()
}

func (r sqlRunner) Query(ctx context.Context, query string, args ...any) (Rows, error) {
	st, err := r.statement(ctx, query)
	if err != nil {
		return nil, err
	}
	return st.QueryContext(ctx, args...)
}

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
func change[T any](ctx context.Context, s *Store, scan func(scanner) (T, error), text string, args ...any) ([]T,
	error) {
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

// collect scans every row with scan and closes rows.
func collect[T any](s *Store, rows Rows, err error, scan func(scanner) (T, error)) ([]T, error) {
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []T
	for rows.Next() {
		v, err := scan(rows)
		if err != nil {
			return nil, s.explain(err)
		}
		out = append(out, v)
	}
	return out, s.explain(rows.Err())
}

// one returns the only row, or [ErrNotFound].
func one[T any](s *Store, rows Rows, err error, scan func(scanner) (T, error)) (T, error) {
	all, err := collect(s, rows, err, scan)
	return only(all, err)
}

// only returns the first of all, or [ErrNotFound] if there is none.
func only[T any](all []T, err error) (T, error) {
	if err == nil && len(all) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		var zero T
		return zero, err
	}
	return all[0], nil
}

// A scanner is a row: *sql.Rows or *sql.Row.
type scanner interface{ Scan(dest ...any) error }

// millis returns t as the schema keeps instants: Unix milliseconds, 0 for the zero time.
func millis(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMilli()
}

// instant is the inverse of millis.
func instant(ms int64) time.Time {
	if ms == 0 {
		return time.Time{}
	}
	return time.UnixMilli(ms).UTC()
}
