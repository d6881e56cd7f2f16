package db

import (
	"context"
	"database/sql"
)

// A Runner runs queries in a transaction: database/sql's, or a driver's own. They come in the database's own words.
type Runner interface {
	Exec(ctx context.Context, words string, args ...any) (changed int64, err error)
	Query(ctx context.Context, words string, args ...any) (Rows, error)
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
	s  *Database
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

func (r sqlRunner) statement(ctx context.Context, words string) (statement, error) {
	switch {
	case r.s.dialect.Unprepared && r.tx == nil:
		return unprepared{r.s.db, words}, nil
	case r.s.dialect.Unprepared:
		return unprepared{r.tx, words}, nil
	}
	st, err := r.s.prepare(ctx, words)
	if err != nil || r.tx == nil {
		return st, err
	}
	return r.tx.StmtContext(ctx, st), nil
}

func (r sqlRunner) Exec(ctx context.Context, words string, args ...any) (int64, error) {
	st, err := r.statement(ctx, words)
	if err != nil {
		return 0, err
	}
	result, err := st.ExecContext(ctx, args...)
	if err != nil {
		return 0, err
	}
	return result.RowsAffected()
}

func (r sqlRunner) Query(ctx context.Context, words string, args ...any) (Rows, error) {
	st, err := r.statement(ctx, words)
	if err != nil {
		return nil, err
	}
	return st.QueryContext(ctx, args...)
}

// A Plain runs queries in the database's own words: *sql.Tx has these methods, and so has what many mappers give.
type Plain interface {
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// Adapted returns what runs the store's queries through p.
func Adapted(p Plain) Runner { return adapted{p} }

type adapted struct{ Plain }

func (a adapted) Exec(ctx context.Context, words string, args ...any) (int64, error) {
	result, err := a.ExecContext(ctx, words, args...)
	if err != nil {
		return 0, err
	}
	return result.RowsAffected()
}

func (a adapted) Query(ctx context.Context, words string, args ...any) (Rows, error) {
	return a.QueryContext(ctx, words, args...)
}
