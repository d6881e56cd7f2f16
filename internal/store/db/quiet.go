package db

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"
)

// Quiet returns a logger that says no more than once a minute that the database fails: where it is away, everything
// that works fails several times a second. All else it says as log does.
func Quiet(log *slog.Logger) *slog.Logger {
	return slog.New(&quiet{Handler: log.Handler(), spoke: new(spoke)})
}

type quiet struct {
	slog.Handler
	*spoke
}

// spoke is when the database's failure was last told.
type spoke struct {
	mu     sync.Mutex // guards what follows
	at     time.Time
	untold int // lines since then
}

// Handle implements [slog.Handler].
func (q *quiet) Handle(ctx context.Context, r slog.Record) error {
	failed := false
	r.Attrs(func(a slog.Attr) bool {
		err, ok := a.Value.Any().(error)
		failed = ok && errors.Is(err, ErrDatabase) && !errors.Is(err, ErrData)
		return !failed
	})
	if failed {
		q.mu.Lock()
		defer q.mu.Unlock()
		if r.Time.Sub(q.at) < time.Minute {
			q.untold++
			return nil
		}
		if q.untold > 0 {
			r.AddAttrs(slog.Int("lines_left_out", q.untold))
		}
		q.at, q.untold = r.Time, 0
	}
	return q.Handler.Handle(ctx, r)
}

func (q *quiet) WithAttrs(attrs []slog.Attr) slog.Handler {
	return &quiet{q.Handler.WithAttrs(attrs), q.spoke}
}

func (q *quiet) WithGroup(name string) slog.Handler {
	return &quiet{q.Handler.WithGroup(name), q.spoke}
}
