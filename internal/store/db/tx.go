package db

import (
	"context"
	"database/sql"
	"errors"
)

// A Tx is a transaction in which the store's writes can be made: the caller's own, through [Database.In] or
// [Database.Through], or one of the store's, through [Database.Write].
type Tx struct {
	s  *Database
	by Runner
}

// In returns tx as a transaction of this store. The caller commits or rolls back.
func (s *Database) In(tx *sql.Tx) Tx { return Tx{s, sqlRunner{s: s, tx: tx}} }

// Through returns a transaction that a driver's own package runs.
func (s *Database) Through(r Runner) Tx { return Tx{s, r} }

// Alone returns what runs each query as a transaction of its own.
func (s *Database) Alone() Tx { return Tx{s, sqlRunner{s: s}} }

// Exec runs a query and returns how many rows it changed.
func (t Tx) Exec(ctx context.Context, query string, args ...any) (int64, error) {
	if err := t.s.at(ctx, ToRun, query); err != nil {
		return 0, err
	}
	n, err := t.by.Exec(ctx, t.s.Words(query), args...)
	if err != nil {
		return n, t.s.Explain(err)
	}
	return n, t.s.at(ctx, Ran, query)
}

// Query runs a query that returns rows.
func (t Tx) Query(ctx context.Context, query string, args ...any) (Rows, error) {
	if err := t.s.at(ctx, ToRun, query); err != nil {
		return nil, err
	}
	rows, err := t.by.Query(ctx, t.s.Words(query), args...)
	if err != nil {
		return rows, t.s.Explain(err)
	}
	if err := t.s.at(ctx, Ran, query); err != nil {
		return nil, errors.Join(err, rows.Close())
	}
	return rows, nil
}

// Explain is [Database.Explain].
func (t Tx) Explain(err error) error { return t.s.Explain(err) }

// Alone waits for the transactions that have said [Database.Sharing], and keeps out others until this one ends.
func (t Tx) Alone(ctx context.Context) error {
	if t.s.dialect.Alone == "" {
		return nil
	}
	_, err := t.Exec(ctx, t.s.dialect.Alone)
	return err
}

// OneWriter is [Database.OneWriter].
func (t Tx) OneWriter() bool { return t.s.OneWriter() }

var (
	savepoint = Q(`SAVEPOINT illumicode`)
	release   = Q(`RELEASE SAVEPOINT illumicode`)
	undo      = Q(`ROLLBACK TO SAVEPOINT illumicode`)
)

// Nested runs fn and, if it returns an error, undoes what fn wrote and nothing else. The transaction
// can go on.
func (t Tx) Nested(ctx context.Context, fn func() error) error {
	if _, err := t.Exec(ctx, savepoint); err != nil {
		return err
	}
	err := fn()
	end := release
	if err != nil {
		end = undo
	}
	if _, endErr := t.Exec(ctx, end); endErr != nil && err == nil {
		err = endErr
	}
	return err
}
