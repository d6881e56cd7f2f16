package feedback

import (
	"context"
	"time"

	"github.com/illumicode/illumicode/internal/store/db"
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

// suppressionRow are the columns of a suppression.
var suppressionRow = db.Columns[Suppression]{
	db.Text("thumb", func(r *Suppression) *string { return &r.Thumb }),
	db.Text("kid", func(r *Suppression) *string { return &r.Kid }),
	db.Text("mailbox", func(r *Suppression) *string { return &r.Mailbox }),
	db.Text("scope", func(r *Suppression) *Scope { return &r.Scope }),
	db.Text("reason", func(r *Suppression) *string { return &r.Reason }),
	db.Time("since", func(r *Suppression) *time.Time { return &r.Since }),
}

var (
	// nothing has been let through yet
	newSuppression = suppressionRow.Plus("let_at", "let_challenge").
			Insert("suppression", db.Values{"let_at": "0", "let_challenge": "''"})
	upsertSuppression = db.Q(newSuppression.Alone() + ` ON CONFLICT (thumb, scope) DO UPDATE
		SET mailbox = excluded.mailbox, reason = excluded.reason, since = excluded.since`)
	suppressedAmong = db.Q(`SELECT ` + suppressionRow.Names() + ` FROM @suppression WHERE thumb @listed()
		ORDER BY scope`)
	deleteSuppression = db.Q(`DELETE FROM @suppression WHERE thumb @listed() AND scope @listed()`)
)

// Suppress keeps letters from an address from now on, or changes why.
func (t Tx) Suppress(ctx context.Context, s Suppression) error {
	_, err := t.Exec(ctx, upsertSuppression, newSuppression.Args(s)...)
	return err
}

// SuppressedAmong returns the suppressions among thumbprints, the widest scope first.
func (s Rows) SuppressedAmong(ctx context.Context, thumbs []string) ([]Suppression, error) {
	return db.All(ctx, s, suppressionRow.Scan, suppressedAmong, db.List(thumbs))
}

// Unsuppress lets letters go to an address again that some scopes kept back, and reports whether any
// did. thumbs are its thumbprints under all keys.
func (t Tx) Unsuppress(ctx context.Context, thumbs []string, scopes ...Scope) (bool, error) {
	n, err := t.Exec(ctx, deleteSuppression, db.List(thumbs), db.List(scopes))
	return n > 0, err
}

var letThrough = db.Q(`UPDATE @suppression SET let_at = ?, let_challenge = ?
	WHERE thumb = ? AND scope = 'bounced' AND (let_challenge = ? OR let_at <= ?)`)

// LetThrough reports whether the letter of a challenge may go to an address that has bounced: if none of
// another challenge has within every.
func (s Rows) LetThrough(ctx context.Context, thumb, challenge string, every time.Duration,
	now time.Time) (bool, error) {
	n, err := s.Exec(ctx, letThrough, db.Millis(now), challenge, thumb, challenge, db.Millis(now.Add(-every)))
	return n == 1, err
}

var (
	suppressionsUnder = db.Q(`SELECT ` + suppressionRow.Names() + ` FROM @suppression WHERE kid <> ? AND mailbox <> ''
		ORDER BY thumb, scope LIMIT ?`)
	// one that was suppressed again under the newer key stays: that is the later word
	copySuppression = db.Q(newSuppression.OrNothing("thumb, scope").Alone())
)

// RekeySuppressions puts up to n suppressions that are not under a key under it, and returns how many
// that were. Those of people who were forgotten stay where they are: nobody knows their addresses.
func (s Rows) RekeySuppressions(ctx context.Context, kid string, thumb func(mailbox string) string,
	n int) (int, error) {
	all, err := db.All(ctx, s, suppressionRow.Scan, suppressionsUnder, kid, n)
	if err != nil || len(all) == 0 {
		return 0, err
	}
	err = s.Write(ctx, func(t db.Tx) error {
		for _, x := range all {
			moved := x
			moved.Thumb, moved.Kid = thumb(x.Mailbox), kid
			if _, err := t.Exec(ctx, copySuppression, newSuppression.Args(moved)...); err != nil {
				return err
			}
			if _, err := (Tx{t}).Unsuppress(ctx, []string{x.Thumb}, x.Scope); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return 0, err
	}
	return len(all), nil
}
