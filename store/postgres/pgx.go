package postgres

import (
	"context"
	"database/sql"
	"errors"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"

	rows "github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/internal/store/db"
	"github.com/illumicode/illumicode/store"
)

// Handle returns a transaction of pgx for illumicode.Service.On. The caller commits or rolls back. Like the
// transaction, it is not safe for concurrent use.
func Handle(tx pgx.Tx) store.Handle {
	var h store.Handle
	if tx != nil {
		rows.PublishHandle(&h, tx, runner{tx})
	}
	return h
}

type runner struct{ tx pgx.Tx }

func (r runner) Exec(ctx context.Context, words string, args ...any) (int64, error) {
	tag, err := r.tx.Exec(ctx, words, args...)
	return tag.RowsAffected(), err
}

func (r runner) Query(ctx context.Context, words string, args ...any) (db.Rows, error) {
	found, err := r.tx.Query(ctx, words, args...)
	return pgxRows{found}, err
}

// pgxRows are rows whose Close returns nothing, as one that does.
type pgxRows struct{ pgx.Rows }

func (r pgxRows) Close() error {
	r.Rows.Close()
	return r.Err()
}

// pipeline implements [db.Dialect].Pipeline: the server runs what comes in one piece as one transaction.
func pipeline(ctx context.Context, pool *sql.DB, all []db.Statement) error {
	conn, err := pool.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	return conn.Raw(func(c any) error {
		own, ok := c.(*stdlib.Conn)
		if !ok { // the application has its pool of another driver
			return db.ErrNoPipeline
		}
		var batch pgx.Batch
		for _, one := range all {
			batch.Queue(one.Query, one.Args...)
		}
		results := own.Conn().SendBatch(ctx, &batch)
		for _, one := range all {
			found, err := results.Query()
			switch {
			case err != nil: // Close says why
			case one.Found != nil:
				err = one.Found(pgxRows{found})
			default:
				found.Close()
			}
			if err != nil {
				return errors.Join(results.Close(), err)
			}
		}
		return results.Close()
	})
}
