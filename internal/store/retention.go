package store

import (
	"context"
	"time"
)

// An id begins with the milliseconds of its making (RFC 9562 §5.7), so that the oldest rows are
// the first of the primary key: removing them needs no further index.
var (
	deleteOldEnded = q(
		`DELETE FROM illumicode_ended WHERE id IN (SELECT id FROM illumicode_ended WHERE id < ? AND ended < ? ` +
			`ORDER BY id LIMIT 500)`)
	deleteOldAttempts = q(
		`DELETE FROM illumicode_attempt WHERE delivery IN (SELECT delivery FROM illumicode_attempt a WHERE delivery < ?
		AND NOT EXISTS (SELECT 1 FROM illumicode_outbox o WHERE o.id = a.delivery) ORDER BY delivery LIMIT 500)`)
	deleteOldItems = q(
		`DELETE FROM illumicode_item WHERE delivery IN (SELECT delivery FROM illumicode_item i WHERE delivery < ?
		AND NOT EXISTS (SELECT 1 FROM illumicode_outbox o WHERE o.id = i.delivery) ORDER BY delivery LIMIT 500)`)
	deleteOldOnce = q(
		`DELETE FROM illumicode_once WHERE name IN (SELECT name FROM illumicode_once WHERE made < ? LIMIT 500)`)
	deleteOldTrail = q(
		`DELETE FROM illumicode_trail WHERE seq IN (SELECT seq FROM illumicode_trail WHERE at < ? ORDER BY at ` +
			`LIMIT 500)`)
	deleteOldChallenges = q(
		`DELETE FROM illumicode_challenge WHERE id IN (SELECT id FROM illumicode_challenge WHERE id < ? AND state ` +
			`<> 'open' AND ends < ? ORDER BY id LIMIT 500)`)
	deleteOldChanges = q(
		`DELETE FROM illumicode_change WHERE id IN (SELECT id FROM illumicode_change WHERE id < ? AND state IN ` +
			`('stopped', 'settled') AND undo_ends < ? ORDER BY id LIMIT 500)`)
	deleteOldFailures = q(
		`DELETE FROM illumicode_failure WHERE name IN (SELECT name FROM illumicode_failure WHERE at < ? LIMIT 500)`)
	deleteOldFeedback = q(
		`DELETE FROM illumicode_feedback WHERE id IN (SELECT id FROM illumicode_feedback WHERE taken < ? AND state ` +
			`<> 'waiting' ORDER BY taken LIMIT 500)`)
	deleteOldPieces = q(`DELETE FROM illumicode_attachment_piece WHERE bundle IN (` + oldBundles + `)`)
	deleteOldFiles  = q(`DELETE FROM illumicode_attachment WHERE bundle IN (` + oldBundles + `)`)
)

const oldBundles = `SELECT bundle FROM illumicode_attachment b WHERE bundle < ?
	AND NOT EXISTS (SELECT 1 FROM illumicode_delivery d WHERE d.bundle = b.bundle AND d.bundle <> '')
	AND NOT EXISTS (SELECT 1 FROM illumicode_fanout f WHERE f.bundle = b.bundle)
	AND NOT EXISTS (SELECT 1 FROM illumicode_ended e WHERE e.bundle = b.bundle AND e.bundle <> '' AND e.state =
	'failed')
	ORDER BY bundle LIMIT 20`

// Sweep removes what is older than it need be: deliveries that ended before ended with their
// attempts, what joined them and what came back about them, challenges and changes of address of that time with their
// trail, de-duplication keys made before once, and wrong codes of that time, which count nothing any more. It works in
// steps of at most 500 rows and returns how many rows it removed.
func (s *Store) Sweep(ctx context.Context, ended, once time.Time) (total int64, err error) {
	oldest := idAt(ended)
	for _, step := range []func(Tx) (int64, error){
		func(t Tx) (int64, error) { return t.exec(ctx, deleteOldEnded, oldest, millis(ended)) },
		func(t Tx) (int64, error) { return t.exec(ctx, deleteOldAttempts, oldest) },
		func(t Tx) (int64, error) { return t.exec(ctx, deleteOldItems, oldest) },
		func(t Tx) (int64, error) {
			if _, err := t.exec(ctx, deleteOldPieces, oldest); err != nil {
				return 0, err
			}
			return t.exec(ctx, deleteOldFiles, oldest)
		},
		func(t Tx) (int64, error) { return t.exec(ctx, deleteOldOnce, millis(once)) },
		func(t Tx) (int64, error) { return t.exec(ctx, deleteOldTrail, millis(ended)) },
		func(t Tx) (int64, error) { return t.exec(ctx, deleteOldChallenges, oldest, millis(ended)) },
		func(t Tx) (int64, error) { return t.exec(ctx, deleteOldChanges, oldest, millis(ended)) },
		func(t Tx) (int64, error) { return t.exec(ctx, deleteOldFailures, millis(once)) },
		func(t Tx) (int64, error) { return t.exec(ctx, deleteOldFeedback, millis(ended)) },
	} {
		n, err := s.steps(ctx, step)
		total += n
		if err != nil {
			return total, err
		}
	}
	return total, nil
}

// idAt returns what every id made before t sorts before.
func idAt(t time.Time) string {
	const hex = "0123456789abcdef"
	b := make([]byte, 12)
	for ms, i := uint64(t.UnixMilli()), 11; i >= 0; i, ms = i-1, ms>>4 {
		b[i] = hex[ms&15]
	}
	return string(b[:8]) + "-" + string(b[8:])
}
