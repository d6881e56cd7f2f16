package db

import (
	"context"
	"time"
)

// Offset returns how far the database's clock is ahead of this machine's, as read by now; 0 where
// they are one.
func (s *Database) Offset(ctx context.Context, now func() time.Time) (time.Duration, error) {
	if s.dialect.Clock == "" {
		return 0, nil
	}
	before := now()
	var ms int64
	if err := s.db.QueryRowContext(ctx, s.dialect.Clock).Scan(&ms); err != nil {
		return 0, s.Explain(err)
	}
	middle := before.Add(now().Sub(before) / 2)
	return time.UnixMilli(ms).Sub(middle), nil
}

// HasClock reports whether the database has a clock of its own.
func (s *Database) HasClock() bool { return s.dialect.Clock != "" }
