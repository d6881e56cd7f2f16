package postgres

import (
	"context"
	"sync"

	"github.com/jackc/pgx/v5"

	"github.com/illumicode/illumicode/store"
)

// In returns a transaction of pgx as one of a store, for illumicode.Service.On. The caller commits
// or rolls back. Like the transaction, it is not safe for concurrent use.
func In(st *store.Store, tx pgx.Tx) store.Tx { return st.Through(runner{st, tx}) }

type runner struct {
	st *store.Store
	tx pgx.Tx
}

// inPgx keeps what queries are in PostgreSQL's words; they are few, and always the same.
var inPgx sync.Map // of string to string

func (r runner) words(query string) string {
	if v, ok := inPgx.Load(query); ok {
		return v.(string)
	}
	text := r.st.Words(query)
	inPgx.Store(query, text)
	return text
}

func (r runner) Exec(ctx context.Context, query string, args ...any) (int64, error) {
	tag, err := r.tx.Exec(ctx, r.words(query), args...)
	return tag.RowsAffected(), err
}

func (r runner) Query(ctx context.Context, query string, args ...any) (store.Rows, error) {
	rows, err := r.tx.Query(ctx, r.words(query), args...)
	return pgxRows{rows}, err
}

// pgxRows are rows whose Close returns nothing, as one that does.
type pgxRows struct{ pgx.Rows }

func (r pgxRows) Close() error {
	r.Rows.Close()
	return r.Err()
}
