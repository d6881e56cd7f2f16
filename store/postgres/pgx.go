package postgres

import (
	"context"
	"database/sql"
	"errors"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"

	"github.com/illumicode/illumicode/store"
)

// In returns a transaction of pgx as one of a store, for illumicode.Service.On. The caller commits
// or rolls back. Like the transaction, it is not safe for concurrent use.
func In(st *store.Store, tx pgx.Tx) store.Tx { return st.Through(runner{tx}) }

type runner struct{ tx pgx.Tx }

func (r runner) Exec(ctx context.Context, query string, args ...any) (int64, error) {
	tag, err := r.tx.Exec(ctx, Words(query), args...)
	return tag.RowsAffected(), err
}

func (r runner) Query(ctx context.Context, query string, args ...any) (store.Rows, error) {
	rows, err := r.tx.Query(ctx, Words(query), args...)
	return pgxRows{rows}, err
}

// pgxRows are rows whose Close returns nothing, as one that does.
type pgxRows struct{ pgx.Rows }

func (r pgxRows) Close() error {
	r.Rows.Close()
	return r.Err()
}

// pipeline implements [store.Dialect].Pipeline: the server runs what comes in one piece as one transaction.
func pipeline(ctx context.Context, db *sql.DB, all []store.Statement) error {
	conn, err := db.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	return conn.Raw(func(c any) error {
		own, ok := c.(*stdlib.Conn)
		if !ok { // the application has its pool of another driver
			return store.ErrNoPipeline
		}
		var batch pgx.Batch
		for _, one := range all {
			batch.Queue(Words(one.Query), one.Args...)
		}
		results := own.Conn().SendBatch(ctx, &batch)
		for _, one := range all {
			rows, err := results.Query()
			switch {
			case err != nil: // Close says why
			case one.Found != nil:
				err = one.Found(pgxRows{rows})
			default:
				rows.Close()
			}
			if err != nil {
				return errors.Join(results.Close(), err)
			}
		}
		return results.Close()
	})
}
