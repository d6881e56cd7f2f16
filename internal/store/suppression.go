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

// The scopes, the widest first.
const (
	AllLetters Scope = "all"
	// letters came back: all but one challenge a day, so that the address can be proven again
	BouncedOnce Scope = "bounced"
	NoticesOnly Scope = "notices"
)

const suppressionColumns = `thumb, kid, mailbox, scope, reason, since`

var (
	upsertSuppression = q(`INSERT INTO illumicode_suppression (` + suppressionColumns +
		`, let_at, let_challenge) VALUES (?, ?, ?, ?, ?, ?, 0, '')
		ON CONFLICT (thumb, scope) DO UPDATE SET mailbox = excluded.mailbox, reason = excluded.reason, since =
		excluded.since`)
	suppressedAmong = q(`SELECT ` + suppressionColumns +
		` FROM illumicode_suppression WHERE thumb IN (SELECT value FROM json_each(?)) ORDER BY scope`)
	deleteSuppression = q(
		`DELETE FROM illumicode_suppression WHERE thumb IN (SELECT value FROM json_each(?)) AND scope IN (SELECT ` +
			`value FROM json_each(?))`)
)

// Suppress keeps letters from an address from now on, or changes why.
func (t Tx) Suppress(ctx context.Context, s Suppression) error {
	_, err := t.exec(ctx, upsertSuppression, s.Thumb, s.Kid, s.Mailbox, string(s.Scope), s.Reason, millis(s.Since))
	return err
}

func scanSuppression(r scanner) (x Suppression, err error) {
	var since int64
	err = r.Scan(&x.Thumb, &x.Kid, &x.Mailbox, &x.Scope, &x.Reason, &since)
	x.Since = instant(since)
	return x, err
}

// SuppressedAmong returns the suppressions among thumbprints, the widest scope first.
func (s *Store) SuppressedAmong(ctx context.Context, thumbs []string) ([]Suppression, error) {
	rows, err := s.query(ctx, suppressedAmong, list(thumbs))
	return collect(s, rows, err, scanSuppression)
}

// Unsuppress lets letters go to an address again that some scopes kept back, and reports whether any
// did. thumbs are its thumbprints under all keys.
func (t Tx) Unsuppress(ctx context.Context, thumbs []string, scopes ...Scope) (bool, error) {
	n, err := t.exec(ctx, deleteSuppression, list(thumbs), list(scopes))
	return n > 0, err
}

var letThrough = q(`UPDATE illumicode_suppression SET let_at = ?, let_challenge = ?
	WHERE thumb = ? AND scope = 'bounced' AND (let_challenge = ? OR let_at <= ?)`)

// LetThrough reports whether the letter of a challenge may go to an address that has bounced: if none of
// another challenge has within every.
func (s *Store) LetThrough(ctx context.Context, thumb, challenge string, every time.Duration,
	now time.Time) (let bool, err error) {
	return let, s.Write(ctx, func(t Tx) error {
		n, err := t.exec(ctx, letThrough, millis(now), challenge, thumb, challenge, millis(now.Add(-every)))
		let = n == 1
		return err
	})
}

var (
	suppressionsUnder = q(`SELECT ` + suppressionColumns +
		` FROM illumicode_suppression WHERE kid <> ? AND mailbox <> '' ORDER BY thumb, scope LIMIT ?`)
	copySuppression = q(`INSERT INTO illumicode_suppression (` + suppressionColumns +
		`, let_at, let_challenge) VALUES (?, ?, ?, ?, ?, ?, 0, '')
		ON CONFLICT (thumb, scope) DO NOTHING`)  // it was suppressed again under the newer key: that is the later word
)

// RekeySuppressions puts up to n suppressions that are not under a key under it, and returns how many
// that were. Those of people who were forgotten stay where they are: nobody knows their addresses.
func (s *Store) RekeySuppressions(ctx context.Context, kid string, thumb func(mailbox string) string,
	n int) (int, error) {
	rows, err := s.query(ctx, suppressionsUnder, kid, n)
	all, err := collect(s, rows, err, scanSuppression)
	if err != nil || len(all) == 0 {
		return 0, err
	}
	return len(all), s.Write(ctx, func(t Tx) error {
		for _, x := range all {
			if _, err := t.exec(ctx, copySuppression, thumb(x.Mailbox), kid, x.Mailbox, string(x.Scope), x.Reason,
				millis(x.Since)); err != nil {
				return err
			}
			if _, err := t.Unsuppress(ctx, []string{x.Thumb}, x.Scope); err != nil {
				return err
			}
		}
		return nil
	})
}

// Dependents are the rows that depend on a key of the keyring.
type Dependents struct {
	Challenges   int `json:"challenges"`   // open: their links and codes would stop working
	Changes      int `json:"changes"`      // that can still be taken back: their links would stop working
	Suppressions int `json:"suppressions"` // that would be found no more
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
