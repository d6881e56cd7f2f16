package store

import (
	"context"

	"github.com/illumicode/illumicode/internal/store/db"
)

var (
	mailboxesOf = db.Q(`SELECT DISTINCT mailbox FROM @address WHERE subject = ? ORDER BY mailbox`)

	// In the order of locks.
	releaseRows = []string{
		db.Q(`DELETE FROM @registration WHERE subject = ?`),
		db.Q(`DELETE FROM @browser WHERE subject = ?`),
		db.Q(`UPDATE @change SET state = 'settled' WHERE subject = ? AND state <> 'settled'`),
		db.Q(`DELETE FROM @holder WHERE subject = ?`),
		db.Q(`DELETE FROM @address WHERE subject = ?`),
	}
)

// Release takes everything that says who it is from a subject, with a line of the trail of each of its mailboxes.
func (t Tx) Release(ctx context.Context, subject string, step Step) error {
	mailboxes, err := db.All(ctx, t, db.Scalar[string], mailboxesOf, subject)
	if err != nil {
		return err
	}
	for _, text := range releaseRows {
		if _, err := t.Exec(ctx, text, subject); err != nil {
			return err
		}
	}
	for _, mailbox := range mailboxes {
		step.Mailbox = mailbox
		if err := t.Record(ctx, step); err != nil {
			return err
		}
	}
	return nil
}
