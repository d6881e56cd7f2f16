package limits

import (
	"context"

	"github.com/illumicode/illumicode/internal/store/db"
)

// Rows are the tables of this room in an open database. They are safe for concurrent use.
type Rows struct{ *db.Database }

// A Tx is them in a transaction.
type Tx struct{ db.Tx }

// Write is [db.Database.Write].
func (s Rows) Write(ctx context.Context, fn func(Tx) error) error {
	return s.Database.Write(ctx, func(t db.Tx) error { return fn(Tx{t}) })
}

// WriteRelaxed is [db.Database.WriteRelaxed].
func (s Rows) WriteRelaxed(ctx context.Context, fn func(Tx) error) error {
	return s.Database.WriteRelaxed(ctx, func(t db.Tx) error { return fn(Tx{t}) })
}

var _ = db.Hot(map[string]string{
	"lock tallies": lockTallies.Text(), "set tallies": setTallies.Text(), "swap tallies": swapTallies.Text(),
	"read tallies": selectTallies.Text(), "sweep tallies": sweepTallies,
})
