package addresses

import (
	"context"

	"github.com/illumicode/illumicode/internal/store/db"
)

// A Spelling is an address of a subject under the mailbox that it had, and under the one that it has now.
type Spelling struct{ Subject, Address, Was, Is string }

var (
	addressesAfter = db.Q(`SELECT ` + addressRow.Names() + ` FROM @address WHERE (subject, address) > (?, ?)
		ORDER BY subject, address LIMIT ?`)
	moveHolder = db.Q(`UPDATE @holder SET mailbox = ? WHERE mailbox = ? AND subject = ? AND NOT EXISTS (SELECT 1
		FROM @holder h WHERE h.mailbox = ?)`)
	moveAddress = db.Q(`UPDATE @address SET mailbox = ? WHERE subject = ? AND address = ?`)
	moveBrowser = db.Q(`UPDATE @browser SET mailbox = ? WHERE mailbox = ? AND subject = ?`)
	heldByOther = db.Q(`SELECT EXISTS (SELECT 1 FROM @holder WHERE mailbox = ? AND subject <> ?)`)
)

// After returns up to n addresses behind one, by subject and address.
func (s Rows) After(ctx context.Context, subject, address string, n int) ([]Address, error) {
	return db.All(ctx, s, addressRow.Scan, addressesAfter, subject, address, n)
}

// Respell puts an address under another spelling of its mailbox, and reports whether it did: not if another subject
// holds that.
func (t Tx) Respell(ctx context.Context, s Spelling) (bool, error) {
	taken, err := db.One(ctx, t, db.Scalar[bool], heldByOther, s.Is, s.Subject)
	if err != nil || taken {
		return false, err
	}
	for _, move := range []struct {
		query string
		args  []any
	}{
		{moveHolder, []any{s.Is, s.Was, s.Subject, s.Is}},
		{moveAddress, []any{s.Is, s.Subject, s.Address}},
		{moveBrowser, []any{s.Is, s.Was, s.Subject}},
	} {
		if _, err := t.Exec(ctx, move.query, move.args...); err != nil {
			return false, err
		}
	}
	return true, nil
}
