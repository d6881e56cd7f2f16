package store

import (
	"context"
	"time"

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

var (
	upsertWorker = q(`INSERT INTO illumicode_worker (id, host, pid, started, seen, lease) VALUES (?, ?, ?, ?, ?, ?)
		ON CONFLICT (id) DO UPDATE SET seen = excluded.seen, lease = excluded.lease`)
	deleteWorker = q(`DELETE FROM illumicode_worker WHERE id = ?`)
)

// Beat records that a worker lives and how long its claims hold.
func (s *Store) Beat(ctx context.Context, w Worker) error {
	_, err := s.exec(ctx, upsertWorker, w.ID, w.Host, w.PID, millis(w.Started), millis(w.Seen), millis(w.Lease))
	return err
}

// Leave takes a worker off the list, and gives back at once what it still holds.
func (s *Store) Leave(ctx context.Context, id string, now time.Time) error {
	if _, err := s.exec(ctx, deleteWorker, id); err != nil {
		return err
	}
	_, _, err := s.Recover(ctx, now)
	return err
}

// Claims of a worker whose lease has run out, or that is not on the list, are orphans.
const orphaned = `state = 'claimed' AND NOT EXISTS
	(SELECT 1 FROM illumicode_worker w WHERE w.id = illumicode_delivery.worker AND w.lease >= ?)`

// What is recovered is decided by the first statement alone: its worker may renew its lease before
// the next one, and has lost its claims nevertheless.
var (
	takeOrphans = q(`UPDATE illumicode_delivery SET claim = claim + 1 WHERE ` + orphaned + ` RETURNING id`)
	takeUnheard = q(
		`UPDATE illumicode_delivery SET claim = claim + 1 WHERE state = 'claimed' AND worker = ? AND claimed < ?
		AND NOT (id IN (SELECT value FROM json_each(?))) RETURNING id`)
	holdOrphans = q(`UPDATE illumicode_delivery SET state = 'held', worker = '', ` + joined + `, held_by = ?, note = ?,
		attempts = (SELECT COUNT(*) FROM illumicode_attempt a WHERE a.delivery = illumicode_delivery.id)
		WHERE id IN (SELECT value FROM json_each(?)) AND once = 1
		AND EXISTS (SELECT 1 FROM illumicode_attempt a WHERE a.delivery = illumicode_delivery.id AND a.ended = 0)`)
	releaseOrphans = q(`UPDATE illumicode_delivery SET state = 'waiting', worker = '', ` + joined +
		`, due = ?, note = ?,
		attempts = (SELECT COUNT(*) FROM illumicode_attempt a WHERE a.delivery = illumicode_delivery.id)
		WHERE id IN (SELECT value FROM json_each(?)) AND state = 'claimed'`)
	endOrphanAttempts = q(`UPDATE illumicode_attempt SET ended = ?, class = ?, reply = ?
		WHERE delivery IN (SELECT value FROM json_each(?)) AND ended = 0`)
	deleteDeadWorkers = q(`DELETE FROM illumicode_worker WHERE lease < ?`)
)

// Recover gives back what dead workers had claimed, due at now, and returns how many deliveries
// that were and how many of them had an attempt under way. Such an attempt may have succeeded:
// it is recorded as ambiguous, and its repeat is a repeat. One that may go out only once is held.
func (s *Store) Recover(ctx context.Context, now time.Time) (released, underWay int64, err error) {
	err = s.Write(ctx, func(t Tx) error {
		if released, underWay, err = t.releaseTaken(ctx, now, takeOrphans, millis(now)); err != nil {
			return err
		}
		// Kept for a day after its end, a worker still tells when somebody last worked.
		_, err = t.exec(ctx, deleteDeadWorkers, millis(now.Add(-24*time.Hour)))
		return err
	})
	return released, underWay, err
}

// RecoverUnheard gives back what a worker claimed before a time and does not know of, and returns
// how much that was. A claim whose answer the connection lost is one that was made all the same,
// and while its worker lives nobody else would ever free it. known holds the ids that it knows.
func (s *Store) RecoverUnheard(ctx context.Context, worker string, known []string, before,
	now time.Time) (released int64, err error) {
	err = s.Write(ctx, func(t Tx) error {
		released, _, err = t.releaseTaken(ctx, now, takeUnheard, worker, millis(before), list(known))
		return err
	})
	return released, err
}

// releaseTaken makes wait, due at now, what a statement takes from its worker and returns the ids of.
func (t Tx) releaseTaken(ctx context.Context, now time.Time, take string,
	args ...any) (released, underWay int64, err error) {
	const lost = "the worker stopped before an answer came"
	rows, err := t.query(ctx, take, args...)
	ids, err := collect(t.s, rows, err, scanText)
	if err != nil || len(ids) == 0 {
		return 0, 0, err
	}
	ms, all := millis(now), list(ids)
	if _, err := t.exec(ctx, holdOrphans, HeldUnsure, lost, all); err != nil {
		return 0, 0, err
	}
	if _, err := t.exec(ctx, releaseOrphans, ms, lost, all); err != nil {
		return 0, 0, err
	}
	underWay, err = t.exec(ctx, endOrphanAttempts, ms, string(retry.Ambiguous), lost, all)
	return int64(len(ids)), underWay, err
}

// Offset returns how far the database's clock is ahead of this machine's, as read by now; 0 where
// they are one.
func (s *Store) Offset(ctx context.Context, now func() time.Time) (time.Duration, error) {
	if s.dialect.Clock == "" {
		return 0, nil
	}
	before := now()
	var ms int64
	if err := s.db.QueryRowContext(ctx, s.dialect.Clock).Scan(&ms); err != nil {
		return 0, s.explain(err)
	}
	middle := before.Add(now().Sub(before) / 2)
	return time.UnixMilli(ms).Sub(middle), nil
}

// Announce tells workers in other processes that something may be due. It is a statement of its
// own: inside a transaction it would make all commits wait for each other.
func (s *Store) Announce(ctx context.Context) error {
	if s.dialect.Announce == "" {
		return nil
	}
	_, err := s.db.ExecContext(ctx, s.dialect.Announce)
	return s.explain(err)
}

// OneWriter reports whether the database takes one writing transaction at a time.
func (s *Store) OneWriter() bool { return s.dialect.OneWriter }

// HasClock reports whether the database has a clock of its own.
func (s *Store) HasClock() bool { return s.dialect.Clock != "" }

// Announces reports whether Announce does anything.
func (s *Store) Announces() bool { return s.dialect.Announce != "" }

// Listen calls wake for every announcement until ctx ends or the connection does, whose error it
// returns; it returns nil at once where nothing is announced.
func (s *Store) Listen(ctx context.Context, wake func()) error {
	if s.dialect.Listen == nil {
		return nil
	}
	return s.dialect.Listen(ctx, wake)
}

// Dialect returns the name of the database: sqlite or postgres.
func (s *Store) Dialect() string { return s.dialect.Name }
