package postgres

import (
	"context"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"

	"github.com/illumicode/illumicode/internal/store/db"
	"github.com/illumicode/illumicode/store"
)

// UsePool returns a store on the application's own pool of pgx, which stays the application's to close. Callbacks get
// transactions of that pool: illumicode.Own[pgx.Tx](tx) is the application's own.
func UsePool(ctx context.Context, own *pgxpool.Pool, o Options) (*store.Store, error) {
	begin := func(ctx context.Context) (db.Opened, error) {
		tx, err := own.Begin(ctx)
		if err != nil {
			return db.Opened{}, err
		}
		return db.Opened{Own: pgx.Tx(tx), By: runner{tx}, Commit: tx.Commit, Rollback: tx.Rollback}, nil
	}
	over := stdlib.OpenDBFromPool(own)
	st, err := use(ctx, pool{db: over, owned: true, begin: begin}, o) // closing it leaves the application's pool alone
	if err != nil {
		over.Close()
	}
	return st, err
}
