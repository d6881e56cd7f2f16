package store

import (
	"context"
	"database/sql"
)

// A Plain runs queries in the database's own words: *sql.Tx has these methods, and so has what many mappers give.
type Plain interface {
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// Adapted returns what runs the store's queries through p.
func Adapted(s *Store, p Plain) Runner { return adapted{s, p} }

type adapted struct {
	s *Store
	p Plain
}

func (a adapted) Exec(ctx context.Context, query string, args ...any) (int64, error) {
	result, err := a.p.ExecContext(ctx, a.s.Words(query), args...)
	if err != nil {
		return 0, err
	}
	return result.RowsAffected()
}

func (a adapted) Query(ctx context.Context, query string, args ...any) (Rows, error) {
	return a.p.QueryContext(ctx, a.s.Words(query), args...)
}
