package queue

import (
	"context"
	"errors"
	"time"

	"github.com/illumicode/illumicode/internal/store/db"
)

// ErrFenced means that a delivery was claimed again by another worker.
var ErrFenced = errors.New("store: the claim was lost to another worker")

// A Mark is how far a worker has claimed in a lane: where its next claim begins to look.
//
// Where a transaction of the application is held open, rows that were claimed long ago stay in
// the index until it ends. A claim that began at the lane's head would walk over all of them.
type Mark struct {
	Due time.Time
	ID  string
}

// While a delivery is held, the column says with a minus how long it was free before.
const nowFree = `CASE WHEN free <= 0 THEN CAST(? AS BIGINT) + free ELSE free END`

var (
	// What is next is locked, and was looked at again under the lock: that it waits need not be asked twice, and
	// would lead PostgreSQL to an index of all that wait.
	claimLane = db.Q(`WITH next AS MATERIALIZED (SELECT id FROM @delivery
			WHERE state = 'waiting' AND lane = ? AND due <= ? AND (due, id) > (CAST(? AS BIGINT), ?) AND version <= ?
			AND ` + free("illumicode_delivery") + ` ORDER BY due, id LIMIT ? @free())
		UPDATE @delivery SET state = 'claimed', worker = ?, claim = claim + 1, claimed = ?,
			free = ` + nowFree + `
		WHERE id @in(SELECT id FROM next) RETURNING ` + deliveryRow.Names())
	claimOne = db.Q(`UPDATE @delivery SET state = 'claimed', worker = ?, claim = claim + 1, claimed = ?,
			free = ` + nowFree + `
		WHERE id = ? AND state = 'waiting' AND ` + free("illumicode_delivery") + ` RETURNING ` + deliveryRow.Names())
	anyDue = db.Q(`SELECT EXISTS (SELECT 1 FROM @delivery
		WHERE state = 'waiting' AND lane = ? AND due <= ? AND (due, id) > (CAST(? AS BIGINT), ?))`)
)

// AnyDue reports whether a lane has something due at now behind a mark: one probe of an index,
// no lock.
func (s Rows) AnyDue(ctx context.Context, lane Lane, after Mark, now time.Time) (due bool, err error) {
	err = s.ByIndex(ctx, s.Alone().Run, db.Statement{
		Query: anyDue, Args: []any{string(lane), db.Millis(now), db.Millis(after.Due), after.ID},
		Found: func(rows db.Rows) error {
			due, err = db.Only(db.Collect(s, rows, db.Scalar[bool]))
			return err
		}})
	return due, err
}

// A Reach says what a worker claims: of a lane, what is behind a mark, and at most so much.
type Reach struct {
	Lane  Lane
	After Mark
	Most  int
}

// Claim takes deliveries that are due at now for a worker. They come in no particular order.
func (s Rows) Claim(ctx context.Context, worker string, r Reach, now time.Time) (all []Delivery, err error) {
	args := []any{string(r.Lane), db.Millis(now), db.Millis(r.After.Due), r.After.ID, Knows, r.Most, worker,
		db.Millis(now), db.Millis(now)}
	err = s.ByIndex(ctx, s.Writes, db.Statement{Query: claimLane, Args: args, Found: func(rows db.Rows) error {
		all, err = db.Collect(s, rows, deliveryRow.Scan)
		return err
	}})
	return all, err
}

// ClaimOne takes one waiting delivery, due or not. [db.ErrNotFound] means that it does not wait.
func (s Rows) ClaimOne(ctx context.Context, worker, id string, now time.Time) (Delivery, error) {
	return db.Only(db.Change(ctx, s.Database, deliveryRow.Scan, claimOne, worker, db.Millis(now), db.Millis(now), id))
}

const ours = ` WHERE id = ? AND claim = ? AND state = 'claimed'`

// After its first claim nothing joins a delivery any more: what comes later begins a letter of its
// own. Its collapse key is then its id, which says that items belong to it.
const (
	joined = `collapse = ` + itsOwn
	itsOwn = `CASE WHEN collapse = '' THEN '' ELSE id END`
)

var (
	unclaim = db.Q(`UPDATE @delivery SET state = 'waiting', worker = '', ` + joined + `,
		due = CASE WHEN due > ? THEN due ELSE ? END, note = ?` + ours)
	holdClaimed = db.Q(`UPDATE @delivery SET state = 'held', worker = '',
		free = CASE WHEN free > CAST(? AS BIGINT) THEN free - claimed WHEN free > 0 THEN free - CAST(? AS BIGINT)
			ELSE free END, ` + joined + `, held_by = ?, note = ?` + ours)
)

// Unclaim gives a delivery back that was claimed and not attempted, due at until or later.
func (s Rows) Unclaim(ctx context.Context, d Delivery, until time.Time, note string) error {
	_, err := s.Exec(ctx, unclaim, db.Millis(until), db.Millis(until), note, d.ID, d.Claim)
	return err
}

// Hold keeps a claimed delivery that was not attempted until what holds it has ended. since is when that began: from
// then on the time of its fallback stands still. One that was claimed since then has the time that it had before.
func (s Rows) Hold(ctx context.Context, d Delivery, by, note string, since time.Time) error {
	_, err := s.Exec(ctx, holdClaimed, db.Millis(since), db.Millis(since), by, note, d.ID, d.Claim)
	return err
}

// A Sequel is what the end of a delivery leads to, in the same commit. The zero Sequel is nothing.
type Sequel struct {
	Fallback *Delivery // goes in its place; nil for none
	Event    *Event    // tells of it; nil for none
}

func (t Tx) follow(ctx context.Context, s Sequel) error {
	if s.Fallback != nil {
		if err := t.InsertDelivery(ctx, *s.Fallback); err != nil {
			return err
		}
	}
	if s.Event != nil {
		return t.InsertEvent(ctx, *s.Event)
	}
	return nil
}

// An Ending is how a delivery ends without an attempt.
type Ending struct {
	State State
	Note  string
	At    time.Time
	Then  Sequel
}

// Drop ends a claimed delivery without an attempt.
func (s Rows) Drop(ctx context.Context, d Delivery, e Ending) error {
	return s.Write(ctx, func(t Tx) error {
		ended, err := t.endAlone(ctx, d, e.State, e.Note, e.At)
		if err != nil || !ended {
			return err
		}
		return t.follow(ctx, e.Then)
	})
}

// leave returns how a row leaves for those that have ended: what it knew, and what it came to. Its data, and what
// joined it, stay only if it failed, for another try; set says the rest.
func leave(set db.Values) string {
	set["held_by"], set["ended"] = "''", "CAST(? AS BIGINT)"
	return deliveryRow.Copy("delivery", "ended", set)
}

var (
	endOne = db.Q(leave(db.Values{"data": `CASE WHEN CAST(? AS TEXT) IN ('failed', 'unknown') THEN data ELSE '{}' END`,
		"state": `CAST(? AS TEXT)`, "attempts": `CAST(? AS INTEGER)`, "spent": `CAST(? AS INTEGER)`,
		"note": `CAST(? AS TEXT)`}) + ours + ` @lock()`)
	deleteOne = db.Q(`DELETE FROM @delivery` + ours)

	deleteItems = db.Q(`DELETE FROM @item WHERE delivery = ?`)
)

// endAlone moves a claimed delivery to those that have ended, and reports whether it did: not if the
// claim was lost.
func (t Tx) endAlone(ctx context.Context, d Delivery, state State, note string, now time.Time) (bool, error) {
	n, err := t.Exec(ctx, endOne, string(state), string(state), d.Attempts, d.Spent, db.Millis(now), note, d.ID,
		d.Claim)
	if err != nil || n == 0 {
		return false, err
	}
	if _, err := t.Exec(ctx, deleteOne, d.ID, d.Claim); err != nil {
		return false, err
	}
	if !state.Again() { // else what joined it may be tried again
		if _, err := t.Exec(ctx, deleteItems, d.ID); err != nil {
			return false, err
		}
	}
	if state == Unknown {
		if err := t.SettleUnknown(ctx, d.ID); err != nil {
			return false, err
		}
	}
	return true, t.eraseBundle(ctx, d.Bundle)
}
