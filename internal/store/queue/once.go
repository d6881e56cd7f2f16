package queue

import (
	"context"
	"time"

	"github.com/illumicode/illumicode/internal/store/db"
)

// A Once is what was asked for under a de-duplication key: the row.
type Once struct {
	Name   string
	Digest string // of what was asked for
	Result string // what came of it
	Made   time.Time
}

// onceRow are the columns of a de-duplication key.
var onceRow = db.Columns[Once]{
	db.Text("name", func(r *Once) *string { return &r.Name }),
	db.Text("digest", func(r *Once) *string { return &r.Digest }),
	db.Text("result", func(r *Once) *string { return &r.Result }),
	db.Time("made", func(r *Once) *time.Time { return &r.Made }),
}

var (
	newOnce    = onceRow.Insert("once", db.Values{}).OrNothing("name")
	insertOnce = db.Q(newOnce.Alone())
	selectOnce = db.Q(`SELECT ` + onceRow.Names() + ` FROM @once WHERE name = ?`)
)

// OnceOf returns what stands under a de-duplication key, or [db.ErrNotFound].
func (s Rows) OnceOf(ctx context.Context, name string) (Once, error) {
	return db.One(ctx, s, onceRow.Scan, selectOnce, name)
}

// Once records o and reports whether its name is new; if not, it returns what stands under it. In
// PostgreSQL it waits for another transaction that is about to record the same name.
func (t Tx) Once(ctx context.Context, o Once) (first bool, stands Once, err error) {
	n, err := t.Exec(ctx, insertOnce, newOnce.Args(o)...)
	if err != nil || n == 1 {
		return n == 1, o, err
	}
	stands, err = db.One(ctx, t, onceRow.Scan, selectOnce, o.Name)
	return false, stands, err
}
