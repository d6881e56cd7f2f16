package store

import (
	"context"
	"time"

	"github.com/illumicode/illumicode/internal/store/db"
)

// An id begins with the milliseconds of its making (RFC 9562 §5.7), so that the oldest rows are
// the first of the primary key: removing them needs no further index.
var (
	deleteOldEnded = db.Q(`DELETE FROM @ended WHERE id @in(SELECT id FROM @ended WHERE id < ? AND ended < ?
		ORDER BY id LIMIT 500)`)
	deleteOldAttempts = db.Q(`DELETE FROM @attempt WHERE delivery @in(SELECT delivery FROM @attempt a WHERE delivery < ?
		AND NOT EXISTS (SELECT 1 FROM @outbox o WHERE o.id = a.delivery) ORDER BY delivery LIMIT 500)`)
	deleteOldItems = db.Q(`DELETE FROM @item WHERE delivery @in(SELECT delivery FROM @item i WHERE delivery < ?
		AND NOT EXISTS (SELECT 1 FROM @outbox o WHERE o.id = i.delivery) ORDER BY delivery LIMIT 500)`)
	deleteOldOnce  = db.Q(`DELETE FROM @once WHERE name @in(SELECT name FROM @once WHERE made < ? LIMIT 500)`)
	deleteOldTrail = db.Q(`DELETE FROM @trail WHERE seq @in(SELECT seq FROM @trail WHERE at < ? ORDER BY at
		LIMIT 500)`)
	deleteOldChallenges = db.Q(`DELETE FROM @challenge WHERE id @in(SELECT id FROM @challenge WHERE id < ?
		AND state <> 'open' AND ends < ? ORDER BY id LIMIT 500)`)
	deleteOldChanges = db.Q(`DELETE FROM @change WHERE id @in(SELECT id FROM @change WHERE id < ?
		AND state IN ('stopped', 'settled') AND undo_ends < ? ORDER BY id LIMIT 500)`)
	deleteOldFailures = db.Q(`DELETE FROM @failure WHERE name @in(SELECT name FROM @failure WHERE at < ? LIMIT 500)`)
	deleteOldFeedback = db.Q(`DELETE FROM @feedback WHERE id @in(SELECT id FROM @feedback WHERE taken < ?
		AND state <> 'waiting' ORDER BY taken LIMIT 500)`)
	deleteOldPieces = db.Q(`DELETE FROM @attachment_piece WHERE bundle @in(` + oldBundles + `)`)
	deleteOldFiles  = db.Q(`DELETE FROM @attachment WHERE bundle @in(` + oldBundles + `)`)
)

const oldBundles = `SELECT bundle FROM @attachment b WHERE bundle < ? AND NOT EXISTS (SELECT 1 FROM @delivery d
	WHERE d.bundle = b.bundle AND d.bundle <> '') AND NOT EXISTS (SELECT 1 FROM @fanout f WHERE f.bundle = b.bundle)
	AND NOT EXISTS (SELECT 1 FROM @ended e WHERE e.bundle = b.bundle AND e.bundle <> ''
	AND e.state IN ('failed', 'unknown'))
	ORDER BY bundle LIMIT 20`

// Sweep removes what is older than it need be: deliveries that ended before ended with their
// attempts, what joined them and what came back about them, challenges and changes of address of that time with their
// trail, de-duplication keys made before once, and wrong codes of that time, which count nothing any more. It works in
// steps of at most 500 rows and returns how many rows it removed.
func (s *Store) Sweep(ctx context.Context, ended, once time.Time) (total int64, err error) {
	oldest := idAt(ended)
	for _, step := range []func(db.Tx) (int64, error){
		func(t db.Tx) (int64, error) { return t.Exec(ctx, deleteOldEnded, oldest, db.Millis(ended)) },
		func(t db.Tx) (int64, error) { return t.Exec(ctx, deleteOldAttempts, oldest) },
		func(t db.Tx) (int64, error) { return t.Exec(ctx, deleteOldItems, oldest) },
		func(t db.Tx) (int64, error) {
			if _, err := t.Exec(ctx, deleteOldPieces, oldest); err != nil {
				return 0, err
			}
			return t.Exec(ctx, deleteOldFiles, oldest)
		},
		func(t db.Tx) (int64, error) { return t.Exec(ctx, deleteOldOnce, db.Millis(once)) },
		func(t db.Tx) (int64, error) { return t.Exec(ctx, deleteOldTrail, db.Millis(ended)) },
		func(t db.Tx) (int64, error) { return t.Exec(ctx, deleteOldChallenges, oldest, db.Millis(ended)) },
		func(t db.Tx) (int64, error) { return t.Exec(ctx, deleteOldChanges, oldest, db.Millis(ended)) },
		func(t db.Tx) (int64, error) { return t.Exec(ctx, deleteOldFailures, db.Millis(once)) },
		func(t db.Tx) (int64, error) { return t.Exec(ctx, deleteOldFeedback, db.Millis(ended)) },
	} {
		n, err := s.Steps(ctx, step)
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

var _ = db.Hot(map[string]string{
	"old ended": deleteOldEnded, "old trail": deleteOldTrail, "old challenges": deleteOldChallenges,
	"old changes": deleteOldChanges, "old attempts": deleteOldAttempts, "old keys": deleteOldOnce,
})
