package store

import (
	"context"
	"time"

	"github.com/illumicode/illumicode/core/retry"
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
	deleteWorker  = q(`DELETE FROM illumicode_worker WHERE id = ?`)
	releaseClaims = q(`UPDATE illumicode_delivery SET state = 'waiting', worker = '', due = ? WHERE worker = ? AND state = 'claimed'`)
)

// Beat records that a worker lives and how long its claims hold.
func (s *Store) Beat(ctx context.Context, w Worker) error {
	_, err := s.exec(ctx, upsertWorker, w.ID, w.Host, w.PID, millis(w.Started), millis(w.Seen), millis(w.Lease))
	return err
}

// Leave takes a worker off the list and gives back what it still holds, due at now. It is for a
// worker that knows that none of its attempts is running.
func (s *Store) Leave(ctx context.Context, id string, now time.Time) error {
	return s.Write(ctx, func(t Tx) error {
		if _, err := t.exec(ctx, releaseClaims, millis(now), id); err != nil {
			return err
		}
		_, err := t.exec(ctx, deleteWorker, id)
		return err
	})
}

// Claims of a worker whose lease has run out, or that is not on the list, are orphans.
const orphaned = `state = 'claimed' AND NOT EXISTS
	(SELECT 1 FROM illumicode_worker w WHERE w.id = illumicode_delivery.worker AND w.lease >= ?)`

var (
	endOrphanAttempts = q(`UPDATE illumicode_attempt SET ended = ?, class = ?, reply = ?
		WHERE ended = 0 AND delivery IN (SELECT id FROM illumicode_delivery WHERE ` + orphaned + `)`)
	releaseOrphans = q(`UPDATE illumicode_delivery SET state = 'waiting', worker = '', due = ?, note = ?
		WHERE ` + orphaned)
	deleteDeadWorkers = q(`DELETE FROM illumicode_worker WHERE lease < ?`)
)

// Recover gives back what dead workers had claimed, due at now, and returns how many deliveries
// that were and how many of them had an attempt under way. Such an attempt may have succeeded:
// it is recorded as ambiguous, and its repeat is a repeat.
func (s *Store) Recover(ctx context.Context, now time.Time) (released, underWay int64, err error) {
	err = s.Write(ctx, func(t Tx) error {
		ms := millis(now)
		const lost = "the worker stopped before an answer came"
		if underWay, err = t.exec(ctx, endOrphanAttempts, ms, string(retry.Ambiguous), lost, ms); err != nil {
			return err
		}
		if released, err = t.exec(ctx, releaseOrphans, ms, lost, ms); err != nil {
			return err
		}
		// Kept for a day after its end, a worker still tells when somebody last worked.
		_, err = t.exec(ctx, deleteDeadWorkers, millis(now.Add(-24*time.Hour)))
		return err
	})
	return released, underWay, err
}

// A Summary is the outbox at a glance.
type Summary struct {
	Count     map[State]int
	OldestDue time.Time // of what waits and is due; zero if nothing is
	LastSeen  time.Time // of any worker; zero if there was none for a day
	Repeats   int       // attempts that followed an ambiguous one of the same delivery
}

var (
	countStates = q(`SELECT state, COUNT(*), MIN(CASE WHEN state = 'waiting' THEN due ELSE 0 END) FROM illumicode_delivery GROUP BY state`)
	lastSeen    = q(`SELECT COALESCE(MAX(seen), 0) FROM illumicode_worker`)
	countRepeat = q(`SELECT COUNT(*) FROM illumicode_attempt a JOIN illumicode_attempt b
		ON b.delivery = a.delivery AND b.number = a.number + 1 WHERE a.class = 'ambiguous'`)
)

// Summary counts the outbox at now.
func (s *Store) Summary(ctx context.Context, now time.Time) (Summary, error) {
	sum := Summary{Count: make(map[State]int)}
	type group struct {
		state State
		n     int
		due   int64
	}
	rows, err := s.query(ctx, countStates)
	groups, err := collect(s, rows, err, func(r scanner) (g group, err error) {
		err = r.Scan(&g.state, &g.n, &g.due)
		return g, err
	})
	if err != nil {
		return Summary{}, err
	}
	for _, g := range groups {
		sum.Count[g.state] = g.n
		if g.state == Waiting && g.due <= millis(now) {
			sum.OldestDue = instant(g.due)
		}
	}
	number := func(r scanner) (n int64, err error) { return n, r.Scan(&n) }
	rows, err = s.query(ctx, lastSeen)
	seen, err := one(s, rows, err, number)
	if err != nil {
		return Summary{}, err
	}
	sum.LastSeen = instant(seen)
	rows, err = s.query(ctx, countRepeat)
	repeats, err := one(s, rows, err, number)
	sum.Repeats = int(repeats)
	return sum, err
}

// Idle is how long letters may wait without any worker before every surface says so.
const Idle = time.Minute

// NobodyWorks reports whether letters have been due for [Idle] and no worker was seen for as long.
func (s Summary) NobodyWorks(now time.Time) bool {
	return !s.OldestDue.IsZero() && now.Sub(s.OldestDue) >= Idle && now.Sub(s.LastSeen) >= Idle
}
