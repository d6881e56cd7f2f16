package challenges

import (
	"context"
	"time"

	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/internal/store/db"
)

// lockedFailure ends a statement that makes the row of a name, or locks the one that is there.
const lockedFailure = ` ON CONFLICT (name) DO UPDATE SET at = illumicode_failure.at RETURNING failures, at`

var (
	selectFailure = db.Q(`SELECT failures, at FROM @failure WHERE name = ?`)
	upsertFailure = db.Q(`INSERT INTO @failure (name, failures, at) VALUES (?, ?, ?)
		ON CONFLICT (name) DO UPDATE SET failures = excluded.failures, at = excluded.at`)
	lockFailure    = db.Q(`INSERT INTO @failure (name, failures, at) VALUES (?, 0, ?)` + lockedFailure)
	beginByFailure = db.Q(`INSERT INTO @failure (name, failures, at) SELECT CAST(? AS TEXT), 0, CAST(? AS BIGINT)
		WHERE @byindex()` + lockedFailure)
)

func scanRecord(r db.Scanner) (rec proof.Record, err error) {
	var thousandths, at int64
	err = r.Scan(&thousandths, &at)
	return proof.Record{Failures: float64(thousandths) / 1000, At: db.Instant(at)}, err
}

// Failures returns what is remembered of wrong codes under a name; the zero record if nothing.
func (s Rows) Failures(ctx context.Context, name string) (proof.Record, error) {
	all, err := db.All(ctx, s, scanRecord, selectFailure, name)
	if len(all) == 0 {
		return proof.Record{}, err
	}
	return all[0], err
}

// LockFailures is Failures for a transaction which no other with the same name overtakes.
func (t Tx) LockFailures(ctx context.Context, name string, now time.Time) (proof.Record, error) {
	return t.lockFailure(ctx, lockFailure, name, now)
}

func (t Tx) lockFailure(ctx context.Context, text, name string, now time.Time) (proof.Record, error) {
	return db.One(ctx, t, scanRecord, text, name, db.Millis(now))
}

// BeginByFailures is LockFailures as the first statement of a transaction in which nothing of the application's
// runs: those that follow go by the indexes that they are made for, as with [db.Dialect].ByIndex.
func (t Tx) BeginByFailures(ctx context.Context, name string, now time.Time) (proof.Record, error) {
	return t.lockFailure(ctx, beginByFailure, name, now)
}

// SetFailures remembers what [proof.Record.Failed] came to.
func (t Tx) SetFailures(ctx context.Context, name string, r proof.Record) error {
	_, err := t.Exec(ctx, upsertFailure, name, int64(r.Failures*1000), db.Millis(r.At))
	return err
}
