package addresses

import (
	"context"
	"errors"
	"time"

	"github.com/illumicode/illumicode/internal/store/db"
)

// A Backfill is an address and its standing as another system knew them.
type Backfill struct {
	Address
	Line int // where it stood, for reports
}

// Held are the standings for which a subject must hold the mailbox.
const Held = `('confirmed', 'stale', 'bounced')`

// backfillRow are the columns that an import sets, and the line.
var backfillRow = db.Columns[Backfill]{
	db.Text("subject", func(b *Backfill) *string { return &b.Subject }),
	db.Text("address", func(b *Backfill) *string { return &b.Address.Address }),
	db.Text("mailbox", func(b *Backfill) *string { return &b.Mailbox }),
	db.Text("standing", func(b *Backfill) *Standing { return &b.Standing }),
	db.Time("since", func(b *Backfill) *time.Time { return &b.Since }),
	db.Text("reason", func(b *Backfill) *string { return &b.Reason }),
	db.Time("grace_ends", func(b *Backfill) *time.Time { return &b.GraceEnds }),
	db.Text("locale", func(b *Backfill) *string { return &b.Locale }),
	db.Number("line", func(b *Backfill) *int { return &b.Line }),
}

var (
	backfillHolder  = backfillRow.Pick("mailbox", "subject", "since")
	backfillAddress = backfillRow.Without(db.Values{"line": ""})
)

var (
	backfillHolders = db.Q(`INSERT INTO @holder (` + backfillHolder.Names() + `)
		SELECT ` + backfillHolder.FromEach("r", nil) + ` FROM @each(r)
		WHERE r.value ->> 'standing' IN ` + Held + ` ON CONFLICT (mailbox) DO NOTHING`)
	backfillConflicts = db.Q(`SELECT CAST(r.value ->> 'line' AS INTEGER) FROM @each(r)
		JOIN @holder h ON h.mailbox = r.value ->> 'mailbox'
		WHERE h.subject <> r.value ->> 'subject' AND r.value ->> 'standing' IN ` + Held)
	backfillAddresses = db.Q(`INSERT INTO @address (` + backfillAddress.Names() + `)
		SELECT ` + backfillAddress.FromEach("r", nil) + ` FROM @each(r)
		WHERE r.value ->> 'standing' NOT IN ` + Held + ` OR EXISTS (SELECT 1 FROM @holder h
			WHERE h.mailbox = r.value ->> 'mailbox' AND h.subject = r.value ->> 'subject')
			ON CONFLICT (subject, address) DO UPDATE SET standing = excluded.standing, since = excluded.since, reason
			= excluded.reason, grace_ends = excluded.grace_ends, locale = CASE excluded.locale WHEN '' THEN
			illumicode_address.locale ELSE excluded.locale END WHERE illumicode_address.since < excluded.since
			AND illumicode_address.standing <> excluded.standing`)
)

// errRollBack undoes a dry run.
var errRollBack = errors.New("store: dry run")

// TakeOver records addresses with their standings, each unless what is known of it is newer or the
// same, in one transaction. It returns how many were new or changed, and the lines of those whose
// mailbox another subject holds, which are left out. No two have the same subject and address. A dry
// run changes nothing.
func (s Rows) TakeOver(ctx context.Context, all []Backfill, dry bool) (changed int64, conflicts []int, err error) {
	raw := backfillRow.Objects(all)
	err = s.Write(ctx, func(t db.Tx) error {
		_, err := t.Exec(ctx, backfillHolders, raw)
		if err != nil {
			return err
		}
		if conflicts, err = db.All(ctx, t, db.Scalar[int], backfillConflicts, raw); err != nil {
			return err
		}
		if changed, err = t.Exec(ctx, backfillAddresses, raw); err == nil && dry {
			err = errRollBack
		}
		return err
	})
	if errors.Is(err, errRollBack) {
		err = nil
	}
	return changed, conflicts, err
}
