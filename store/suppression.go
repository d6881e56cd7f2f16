package store

import (
	"context"
	"time"
)

// A Suppression is an address that must not be written to: the row.
type Suppression struct {
	Thumb   string // keyed thumbprint of the mailbox: all that stays of a person who was forgotten
	Kid     string // of the key that the thumbprint is under
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
	upsertSuppression = q(`INSERT INTO illumicode_suppression (thumb, kid, mailbox, scope, reason, since) VALUES (?, ?, ?, ?, ?, ?)
		ON CONFLICT (thumb) DO UPDATE SET mailbox = excluded.mailbox, scope = excluded.scope, reason = excluded.reason, since = excluded.since`)
	selectSuppression = q(`SELECT thumb, kid, mailbox, scope, reason, since FROM illumicode_suppression WHERE thumb = ?`)
	deleteSuppression = q(`DELETE FROM illumicode_suppression WHERE thumb = ?`)
)

// Suppress keeps letters from an address from now on, or changes why.
func (t Tx) Suppress(ctx context.Context, s Suppression) error {
	_, err := t.exec(ctx, upsertSuppression, s.Thumb, s.Kid, s.Mailbox, string(s.Scope), s.Reason, millis(s.Since))
	return err
}

// Suppression returns why an address is not written to, or [ErrNotFound].
func (s *Store) Suppression(ctx context.Context, thumb string) (Suppression, error) {
	rows, err := s.query(ctx, selectSuppression, thumb)
	return one(s, rows, err, scanSuppression)
}

func scanSuppression(r scanner) (x Suppression, err error) {
	var since int64
	err = r.Scan(&x.Thumb, &x.Kid, &x.Mailbox, &x.Scope, &x.Reason, &since)
	x.Since = instant(since)
	return x, err
}

var suppressedAmong = q(`SELECT thumb, kid, mailbox, scope, reason, since FROM illumicode_suppression WHERE thumb IN (SELECT value FROM json_each(?))`)

// SuppressedAmong returns the suppressions among thumbprints.
func (s *Store) SuppressedAmong(ctx context.Context, thumbs []string) ([]Suppression, error) {
	rows, err := s.query(ctx, suppressedAmong, list(thumbs))
	return collect(s, rows, err, scanSuppression)
}

// Unsuppress lets letters go to an address again, and reports whether any were kept back.
func (t Tx) Unsuppress(ctx context.Context, thumb string) (bool, error) {
	n, err := t.exec(ctx, deleteSuppression, thumb)
	return n == 1, err
}

var (
	suppressionsUnder = q(`SELECT thumb, kid, mailbox, scope, reason, since FROM illumicode_suppression WHERE kid <> ? AND mailbox <> '' ORDER BY thumb LIMIT ?`)
	copySuppression   = q(`INSERT INTO illumicode_suppression (thumb, kid, mailbox, scope, reason, since) VALUES (?, ?, ?, ?, ?, ?)
		ON CONFLICT (thumb) DO NOTHING`)  // it was suppressed again under the newer key: that is the later word
)

// RekeySuppressions puts up to n suppressions that are not under a key under it, and returns how many
// that were. Those of people who were forgotten stay where they are: nobody knows their addresses.
func (s *Store) RekeySuppressions(ctx context.Context, kid string, thumb func(mailbox string) string, n int) (int, error) {
	rows, err := s.query(ctx, suppressionsUnder, kid, n)
	all, err := collect(s, rows, err, scanSuppression)
	if err != nil || len(all) == 0 {
		return 0, err
	}
	return len(all), s.Write(ctx, func(t Tx) error {
		for _, x := range all {
			if _, err := t.exec(ctx, copySuppression, thumb(x.Mailbox), kid, x.Mailbox, string(x.Scope), x.Reason, millis(x.Since)); err != nil {
				return err
			}
			if _, err := t.Unsuppress(ctx, x.Thumb); err != nil {
				return err
			}
		}
		return nil
	})
}

// Dependents are the rows that depend on a key of the keyring.
type Dependents struct {
	Challenges   int // open: their links and codes would stop working
	Changes      int // that can still be taken back: their links would stop working
	Suppressions int // that would be found no more
}

// Any reports whether there are any.
func (d Dependents) Any() bool { return d.Challenges+d.Changes+d.Suppressions > 0 }

var dependents = q(`SELECT (SELECT COUNT(*) FROM illumicode_challenge WHERE kid = ? AND state = 'open' AND ends > ?),
	(SELECT COUNT(*) FROM illumicode_change WHERE kid = ? AND state IN ('pending', 'made') AND undo_ends > ?),
	(SELECT COUNT(*) FROM illumicode_suppression WHERE kid = ?)`)

// Dependents counts what depends on a key at now.
func (s *Store) Dependents(ctx context.Context, kid string, now time.Time) (Dependents, error) {
	rows, err := s.query(ctx, dependents, kid, millis(now), kid, millis(now), kid)
	return one(s, rows, err, func(r scanner) (d Dependents, err error) {
		return d, r.Scan(&d.Challenges, &d.Changes, &d.Suppressions)
	})
}
