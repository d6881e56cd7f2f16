package store

import (
	"time"
)

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
