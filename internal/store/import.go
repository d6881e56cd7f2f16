package store

import (
	"context"
	"errors"
)

// A Backfill is an address and its standing as another system knew them.
type Backfill struct {
	Address
	Line int // where it stood, for reports
}

// held are the standings for which a subject must hold the mailbox.
const held = `('confirmed', 'stale', 'bounced')`

var (
	backfillHolders = q(`INSERT INTO illumicode_holder (mailbox, subject, since)
		SELECT r.value ->> 2, r.value ->> 0, CAST(r.value ->> 4 AS BIGINT) FROM json_each(?) AS r WHERE r.value ->> 3
		IN ` + held + `
		ON CONFLICT (mailbox) DO NOTHING`)
	backfillConflicts = q(`SELECT CAST(r.value ->> 6 AS INTEGER) FROM json_each(?) AS r
		JOIN illumicode_holder h ON h.mailbox = r.value ->> 2 WHERE h.subject <> r.value ->> 0 AND r.value ->> 3 IN ` +
		held)
	backfillAddresses = q(
		`INSERT INTO illumicode_address (subject, address, mailbox, standing, since, reason, grace_ends, locale)
		SELECT r.value ->> 0, r.value ->> 1, r.value ->> 2, r.value ->> 3, CAST(r.value ->> 4 AS BIGINT), r.value ->>
		5, CAST(r.value ->> 7 AS BIGINT), r.value ->> 8
		FROM json_each(?) AS r
		WHERE r.value ->> 3 NOT IN ` + held + ` OR EXISTS (SELECT 1 FROM illumicode_holder h WHERE h.mailbox = r.value
		->> 2 AND h.subject = r.value ->> 0)
		ON CONFLICT (subject, address) DO UPDATE SET standing = excluded.standing, since = excluded.since, reason =
		excluded.reason,
		grace_ends = excluded.grace_ends, locale = CASE excluded.locale WHEN '' THEN illumicode_address.locale ELSE
		excluded.locale END
		WHERE illumicode_address.since < excluded.since AND illumicode_address.standing <> excluded.standing`)
)

// errRollBack undoes a dry run.
var errRollBack = errors.New("store: dry run")

// TakeOver records addresses with their standings, each unless what is known of it is newer or the
// same, in one transaction. It returns how many were new or changed, and the lines of those whose
// mailbox another subject holds, which are left out. No two have the same subject and address. A dry
// run changes nothing.
func (s *Store) TakeOver(ctx context.Context, all []Backfill, dry bool) (changed int64, conflicts []int, err error) {
	rows := make([][]any, len(all))
	for i, b := range all {
		rows[i] = []any{b.Subject, b.Address.Address, b.Mailbox, string(b.Standing), millis(b.Since), b.Reason, b.Line,
			millis(b.GraceEnds), b.Locale}
	}
	raw := list(rows)
	err = s.Write(ctx, func(t Tx) error {
		if _, err := t.exec(ctx, backfillHolders, raw); err != nil {
			return err
		}
		found, err := t.query(ctx, backfillConflicts, raw)
		if conflicts,
			err = collect(s, found, err, func(r scanner) (n int, err error) { return n, r.Scan(&n) }); err != nil {
			return err
		}
		if changed, err = t.exec(ctx, backfillAddresses, raw); err == nil && dry {
			err = errRollBack
		}
		return err
	})
	if errors.Is(err, errRollBack) {
		err = nil
	}
	return changed, conflicts, err
}
