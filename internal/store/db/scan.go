package db

import (
	"context"
	"time"
)

// A Scanner is a row.
type Scanner interface{ Scan(dest ...any) error }

// What runs queries that return rows: a [Database] or a [Tx].
type asker interface {
	Query(ctx context.Context, query string, args ...any) (Rows, error)
	Explain(err error) error
}

// All runs a query and returns its rows.
func All[T any](ctx context.Context, by asker, scan func(Scanner) (T, error), query string, args ...any) ([]T, error) {
	rows, err := by.Query(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	return Collect(by, rows, scan)
}

// One runs a query and returns its first row, or [ErrNotFound].
func One[T any](ctx context.Context, by asker, scan func(Scanner) (T, error), query string, args ...any) (T, error) {
	return Only(All(ctx, by, scan, query, args...))
}

// Collect scans every row with scan and closes rows.
func Collect[T any](by asker, rows Rows, scan func(Scanner) (T, error)) ([]T, error) {
	defer rows.Close()
	var out []T
	for rows.Next() {
		v, err := scan(rows)
		if err != nil {
			return nil, by.Explain(err)
		}
		out = append(out, v)
	}
	return out, by.Explain(rows.Err())
}

// Only returns the first of all, or [ErrNotFound] if there is none.
func Only[T any](all []T, err error) (T, error) {
	if err == nil && len(all) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		var zero T
		return zero, err
	}
	return all[0], nil
}

// Change runs one writing query that returns rows, as a transaction of its own.
func Change[T any](ctx context.Context, s *Database, scan func(Scanner) (T, error), query string,
	args ...any) ([]T, error) {
	unlock, err := s.lock(ctx)
	if err != nil {
		return nil, err
	}
	defer unlock()
	return All(ctx, s, scan, query, args...)
}

// Scalar scans the only column of a row.
func Scalar[T any](r Scanner) (v T, err error) { return v, r.Scan(&v) }

// Millis returns t as the schema keeps instants: Unix milliseconds, 0 for the zero time.
func Millis(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMilli()
}

// Instant is the inverse of [Millis].
func Instant(ms int64) time.Time {
	if ms == 0 {
		return time.Time{}
	}
	return time.UnixMilli(ms).UTC()
}

// Flag is a truth value in the INTEGER columns that both databases have.
func Flag(b bool) int {
	if b {
		return 1
	}
	return 0
}
