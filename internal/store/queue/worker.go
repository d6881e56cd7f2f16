package queue

import (
	"context"
	"errors"
	"time"

	"github.com/illumicode/illumicode/internal/store/db"
	"github.com/illumicode/illumicode/retry"
)

// A Worker is a process that delivers: the row.
type Worker struct {
	ID      string
	Host    string
	PID     int
	Started time.Time
	Seen    time.Time
	Lease   time.Time // until when its claims hold
}

// workerRow are the columns of a worker.
var workerRow = db.Columns[Worker]{
	db.Text("id", func(r *Worker) *string { return &r.ID }),
	db.Text("host", func(r *Worker) *string { return &r.Host }),
	db.Number("pid", func(r *Worker) *int { return &r.PID }),
	db.Time("started", func(r *Worker) *time.Time { return &r.Started }),
	db.Time("seen", func(r *Worker) *time.Time { return &r.Seen }),
	db.Time("lease", func(r *Worker) *time.Time { return &r.Lease }),
}

var (
	newWorker    = workerRow.Plus("keyed").Insert("worker", db.Values{"keyed": "1"})
	upsertWorker = db.Q(newWorker.Alone() + ` ON CONFLICT (id) DO UPDATE SET seen = excluded.seen, lease =
		excluded.lease`)
	deleteWorker = db.Q(`DELETE FROM @worker WHERE id = ?`)
)

// Beat records that a worker lives and how long its claims hold.
func (s Rows) Beat(ctx context.Context, w Worker) error {
	_, err := s.Exec(ctx, upsertWorker, newWorker.Args(w)...)
	return err
}

// Leave takes a worker off the list, and gives back at once what it still holds.
func (s Rows) Leave(ctx context.Context, id string, now time.Time) error {
	if _, err := s.Exec(ctx, deleteWorker, id); err != nil {
		return err
	}
	_, err := s.Recover(ctx, now, nil)
	return err
}

var eldest = db.Q(`SELECT id FROM @worker WHERE lease >= ? ORDER BY started, id LIMIT 1`)

// Eldest returns the worker that has worked longest of those whose claims hold, or "" if there is none.
func (s Rows) Eldest(ctx context.Context, now time.Time) (string, error) {
	id, err := db.One(ctx, s, db.Scalar[string], eldest, db.Millis(now))
	if errors.Is(err, db.ErrNotFound) {
		return "", nil
	}
	return id, err
}

// Claims of a worker whose lease has run out, or that is not on the list, are orphans.
const orphaned = `state = 'claimed' AND NOT EXISTS
	(SELECT 1 FROM @worker w WHERE w.id = illumicode_delivery.worker AND w.lease >= ?)`

// At most once is what it says: one whose attempt was under way is not tried again.
const onceBegun = ` WHERE id @listed() AND once = 1 AND EXISTS
	(SELECT 1 FROM @attempt a WHERE a.delivery = illumicode_delivery.id AND a.ended = 0)`

// What is recovered is decided by the first statement alone: its worker may renew its lease before
// the next one, and has lost its claims nevertheless. A row that somebody has locked is left to the next time.
var (
	takeOrphans = db.Q(`UPDATE @delivery SET claim = claim + 1 WHERE id @in(SELECT id FROM @delivery
		WHERE ` + orphaned + ` @free()) RETURNING id`)
	takeUnheard = db.Q(`UPDATE @delivery SET claim = claim + 1 WHERE id @in(SELECT id FROM @delivery
		WHERE state = 'claimed' AND worker = ? AND claimed < ? AND NOT (id @listed()) @free()) RETURNING id`)
	endOrphans = db.Q(leave(db.Values{"state": `'unknown'`, "note": `CAST(? AS TEXT)`,
		"attempts": `(SELECT COUNT(*) FROM @attempt a WHERE a.delivery = illumicode_delivery.id)`}) + onceBegun)
	deleteOrphans  = db.Q(`DELETE FROM @delivery` + onceBegun + ` RETURNING ` + deliveryRow.Names())
	releaseOrphans = db.Q(`UPDATE @delivery SET state = 'waiting', worker = '', ` + joined +
		`, due = ?, note = ?, attempts = (SELECT COUNT(*) FROM @attempt a WHERE a.delivery = illumicode_delivery.id)
			WHERE id @listed() AND state = 'claimed'`)
	endOrphanAttempts = db.Q(`UPDATE @attempt SET ended = ?, class = ?, reply = ?
		WHERE delivery @listed() AND ended = 0`)
	deleteDeadWorkers = db.Q(`DELETE FROM @worker WHERE lease < ?`)
)

// Recovered is what a worker took back of others.
type Recovered struct {
	Released int64      // deliveries
	UnderWay int64      // of these, those with an attempt under way
	Unknown  []Delivery // that ended so
}

// Lost is why an attempt has no answer whose worker died.
const Lost = "the worker stopped before an answer came"

// Recover gives back what dead workers had claimed, due at now. An attempt that was under way may have succeeded:
// it is recorded as ambiguous, and its repeat is a repeat. What may go out only once ends as unknown; then says what
// that leads to, if it is not nil.
func (s Rows) Recover(ctx context.Context, now time.Time, then func(Delivery) Sequel) (r Recovered, err error) {
	err = s.Write(ctx, func(t Tx) error {
		if r, err = t.releaseTaken(ctx, now, then, takeOrphans, db.Millis(now)); err != nil {
			return err
		}
		// Kept for a day after its end, a worker still tells when somebody last worked.
		_, err = t.Exec(ctx, deleteDeadWorkers, db.Millis(now.Add(-24*time.Hour)))
		return err
	})
	return r, err
}

// Unheard says what a worker has claimed and does not know of.
type Unheard struct {
	Worker string
	Before time.Time // claimed before this
	Known  []string  // the ids that it knows
}

// RecoverUnheard gives back what a worker claimed and does not know of, as Recover does. A claim whose answer the
// connection lost is one that was made all the same,
// and while its worker lives nobody else would ever free it.
func (s Rows) RecoverUnheard(ctx context.Context, u Unheard, now time.Time, then func(Delivery) Sequel) (r Recovered,
	err error) {
	err = s.Write(ctx, func(t Tx) error {
		r, err = t.releaseTaken(ctx, now, then, takeUnheard, u.Worker, db.Millis(u.Before),
			db.List(u.Known))
		return err
	})
	return r, err
}

// releaseTaken makes wait, due at now, what a statement takes from its worker and returns the ids of.
func (t Tx) releaseTaken(ctx context.Context, now time.Time, then func(Delivery) Sequel, take string,
	args ...any) (r Recovered, err error) {
	ids, err := db.All(ctx, t, db.Scalar[string], take, args...)
	if err != nil || len(ids) == 0 {
		return r, err
	}
	ms, all := db.Millis(now), db.List(ids)
	if _, err := t.Exec(ctx, endOrphans, ms, Lost, all); err != nil {
		return r, err
	}
	if r.Unknown, err = db.All(ctx, t, deliveryRow.Scan, deleteOrphans, all); err != nil {
		return r, err
	}
	for _, d := range r.Unknown {
		if then != nil {
			if err := t.follow(ctx, then(d)); err != nil {
				return r, err
			}
		}
	}
	if err := t.SettleUnknown(ctx, ids...); err != nil {
		return r, err
	}
	if _, err := t.Exec(ctx, releaseOrphans, ms, Lost, all); err != nil {
		return r, err
	}
	r.Released = int64(len(ids))
	r.UnderWay, err = t.Exec(ctx, endOrphanAttempts, ms, string(retry.Ambiguous), Lost, all)
	return r, err
}
