// Commits that wait for no disk: for what may be lost with the machine's power, though not with this
// process, and not in part. It is on disk with the next commit that waits.

package db

import (
	"context"
	"database/sql"
	"database/sql/driver"
)

// WriteRelaxed is [Database.Write] with such a commit.
func (s *Database) WriteRelaxed(ctx context.Context, fn func(Tx) error) error {
	return s.relaxed(ctx, func(conn *sql.Conn) error {
		begin := s.db.BeginTx
		if conn != nil {
			begin = conn.BeginTx
		}
		tx, err := begun(ctx, s, func() (*sql.Tx, error) { return begin(ctx, nil) })
		if err != nil {
			return err
		}
		defer tx.Rollback() // after a commit it does nothing
		if s.dialect.RelaxedInside != "" {
			if _, err := tx.ExecContext(ctx, s.dialect.RelaxedInside); err != nil {
				return s.Explain(err)
			}
		}
		if err := fn(s.In(tx)); err != nil {
			return err
		}
		return s.committed(ctx, tx.Commit)
	})
}

// relaxed runs fn, in its turn to write, with a connection whose commits wait for no disk; with none where
// statements say that themselves.
func (s *Database) relaxed(ctx context.Context, fn func(conn *sql.Conn) error) error {
	unlock, err := s.lock(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	if s.dialect.Relaxed == "" {
		return fn(nil)
	}
	conn, err := s.db.Conn(ctx)
	if err != nil {
		return s.Explain(err)
	}
	defer conn.Close()
	if _, err := conn.ExecContext(ctx, s.dialect.Relaxed); err != nil {
		return s.Explain(err)
	}
	defer func() {
		if _, err := conn.ExecContext(context.WithoutCancel(ctx), s.dialect.Durable); err != nil {
			conn.Raw(func(any) error { return driver.ErrBadConn }) // nobody else may commit on it as it is
		}
	}()
	return fn(conn)
}
