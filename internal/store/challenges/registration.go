package challenges

import (
	"context"
	"time"

	"github.com/illumicode/illumicode/internal/store/db"
)

// A Registration says that somebody has registered an account.
type Registration struct {
	Subject string
	Ticket  string // digest of the browser's, from now on
	Earlier string // digest of the one that it had; empty for none
	Mailbox string
}

var (
	// An account that has an address already was registered by somebody whom nobody has noted.
	register = db.Q(`INSERT INTO @registration (subject, ticket, contested, since) VALUES (?, ?,
		CASE WHEN EXISTS (SELECT 1 FROM @address WHERE subject = ?) THEN 1 ELSE 0 END, ?)
		ON CONFLICT (subject) DO UPDATE SET contested = CASE WHEN illumicode_registration.ticket = ?
		THEN illumicode_registration.contested ELSE 1 END, ticket = excluded.ticket
		RETURNING COALESCE((SELECT h.subject FROM @holder h WHERE h.mailbox = ?), '')`)
	onlyOne = db.Q(`UPDATE @registration SET since = since WHERE subject = ? AND ticket = ? AND contested = 0`)

	lockByTicket = db.Q(`SELECT ` + challengeRow.Names() + ` FROM @challenge WHERE ticket = ? @lock()`)
)

// Register notes a registration, and returns who holds its mailbox; "" for nobody. An account is contested from the
// first registration on that comes from another browser than the one before.
func (t Tx) Register(ctx context.Context, r Registration, now time.Time) (holder string, err error) {
	earlier := r.Earlier
	if earlier == "" {
		earlier = r.Ticket
	}
	return db.One(ctx, t, db.Scalar[string], register, r.Subject, r.Ticket, r.Subject, db.Millis(now), earlier,
		r.Mailbox)
}

// OnlyOne reports whether one browser alone, whose ticket has this digest, has registered an account; until the
// transaction ends nobody registers it again.
func (t Tx) OnlyOne(ctx context.Context, subject, ticket string) (bool, error) {
	n, err := t.Exec(ctx, onlyOne, subject, ticket)
	return n == 1, err
}

// ByTicket returns the challenge whose ticket has this digest, locked, or [db.ErrNotFound].
func (t Tx) ByTicket(ctx context.Context, digest string) (Challenge, error) {
	return db.One(ctx, t, challengeRow.Scan, lockByTicket, digest)
}
