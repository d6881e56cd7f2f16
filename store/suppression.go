package store

import (
	"context"
	"time"
)

// A Suppression is an address that must not be written to: the row.
type Suppression struct {
	Thumb   string // keyed thumbprint of the mailbox: all that stays of a person who was forgotten
	Mailbox string // empty for such a person
	Scope   Scope
	Reason  string
	Since   time.Time
}

// A Scope is what a suppression keeps back.
type Scope string

// The scopes.
const (
	AllLetters  Scope = "all"
	NoticesOnly Scope = "notices"
)

var (
	upsertSuppression = q(`INSERT INTO illumicode_suppression (thumb, mailbox, scope, reason, since) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (thumb) DO UPDATE SET mailbox = excluded.mailbox, scope = excluded.scope, reason = excluded.reason, since = excluded.since`)
	selectSuppression = q(`SELECT thumb, mailbox, scope, reason, since FROM illumicode_suppression WHERE thumb = ?`)
	deleteSuppression = q(`DELETE FROM illumicode_suppression WHERE thumb = ?`)
)

// Suppress keeps letters from an address from now on, or changes why.
func (t Tx) Suppress(ctx context.Context, s Suppression) error {
	_, err := t.exec(ctx, upsertSuppression, s.Thumb, s.Mailbox, string(s.Scope), s.Reason, millis(s.Since))
	return err
}

// Suppression returns why an address is not written to, or [ErrNotFound].
func (s *Store) Suppression(ctx context.Context, thumb string) (Suppression, error) {
	rows, err := s.query(ctx, selectSuppression, thumb)
	return one(s, rows, err, func(r scanner) (x Suppression, err error) {
		var since int64
		err = r.Scan(&x.Thumb, &x.Mailbox, &x.Scope, &x.Reason, &since)
		x.Since = instant(since)
		return x, err
	})
}

// Unsuppress lets letters go to an address again, and reports whether any were kept back.
func (t Tx) Unsuppress(ctx context.Context, thumb string) (bool, error) {
	n, err := t.exec(ctx, deleteSuppression, thumb)
	return n == 1, err
}
