package store

import (
	"context"
	"strings"
	"time"
)

// A Mark is how far a worker has claimed in a lane: where its next claim begins to look.
//
// Where a transaction of the application is held open, rows that were claimed long ago stay in
// the index until it ends. A claim that began at the lane's head would walk over all of them.
type Mark struct {
	Due time.Time
	ID  string
}

var (
	// What is next is locked, and was looked at again under the lock: that it waits need not be asked twice, and
	// would lead PostgreSQL to an index of all that wait.
	claimLane = q(`WITH next AS MATERIALIZED (SELECT id FROM illumicode_delivery
			WHERE state = 'waiting' AND lane = ? AND due <= ? AND (due, id) > (CAST(? AS BIGINT), ?) AND version <= ?
			ORDER BY due, id LIMIT ? FOR UPDATE SKIP LOCKED)
		UPDATE illumicode_delivery SET state = 'claimed', worker = ?, claim = claim + 1, claimed = ?
		WHERE id IN (SELECT id FROM next) RETURNING ` + deliveryColumns)
	claimOne = q(`UPDATE illumicode_delivery SET state = 'claimed', worker = ?, claim = claim + 1, claimed = ?
		WHERE id = ? AND state = 'waiting' RETURNING ` + deliveryColumns)
	anyDue = q(`SELECT EXISTS (SELECT 1 FROM illumicode_delivery
		WHERE state = 'waiting' AND lane = ? AND due <= ? AND (due, id) > (CAST(? AS BIGINT), ?))`)
)

// AnyDue reports whether a lane has something due at now behind a mark: one probe of an index,
// no lock.
func (s *Store) AnyDue(ctx context.Context, lane Lane, after Mark, now time.Time) (due bool, err error) {
	err = s.byIndex(ctx, s.alone().run, Statement{anyDue, []any{string(lane), millis(now), millis(after.Due), after.ID},
		func(rows Rows) error {
			due, err = one(s, rows, nil, func(r scanner) (due bool, err error) { return due, r.Scan(&due) })
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
func (s *Store) Claim(ctx context.Context, worker string, r Reach, now time.Time) (all []Delivery, err error) {
	args := []any{string(r.Lane), millis(now), millis(r.After.Due), r.After.ID, Version, r.Most, worker, millis(now)}
	err = s.byIndex(ctx, s.write, Statement{claimLane, args, func(rows Rows) error {
		all, err = collect(s, rows, nil, scanDelivery)
		return err
	}})
	return all, err
}

// ClaimOne takes one waiting delivery, due or not. [ErrNotFound] means that it does not wait.
func (s *Store) ClaimOne(ctx context.Context, worker, id string, now time.Time) (Delivery, error) {
	return only(change(ctx, s, scanDelivery, claimOne, worker, millis(now), id))
}

const ours = ` WHERE id = ? AND claim = ? AND state = 'claimed'`

// After its first claim nothing joins a delivery any more: what comes later begins a letter of its
// own. Its collapse key is then its id, which says that items belong to it.
const (
	joined = `collapse = ` + itsOwn
	itsOwn = `CASE WHEN collapse = '' THEN '' ELSE id END`
)

var (
	unclaim = q(`UPDATE illumicode_delivery SET state = 'waiting', worker = '', ` + joined + `,
		due = CASE WHEN due > ? THEN due ELSE ? END, note = ?` + ours)
	holdClaimed = q(`UPDATE illumicode_delivery SET state = 'held', worker = '', ` + joined +
		`, held_by = ?, note = ?` + ours)
)

// Unclaim gives a delivery back that was claimed and not attempted, due at until or later.
func (s *Store) Unclaim(ctx context.Context, d Delivery, until time.Time, note string) error {
	_, err := s.exec(ctx, unclaim, millis(until), millis(until), note, d.ID, d.Claim)
	return err
}

// Hold keeps a claimed delivery that was not attempted until what holds it has ended.
func (s *Store) Hold(ctx context.Context, d Delivery, by, note string) error {
	_, err := s.exec(ctx, holdClaimed, by, note, d.ID, d.Claim)
	return err
}

// Drop ends a claimed delivery without an attempt.
func (s *Store) Drop(ctx context.Context, d Delivery, state State, note string, now time.Time) error {
	return s.Write(ctx, func(t Tx) error {
		_, err := t.endAlone(ctx, d, state, note, now)
		return err
	})
}

// DropDecoy is Drop for a decoy's letter: what a hand-over would begin begins.
func (s *Store) DropDecoy(ctx context.Context, d Delivery, state State, note string, now time.Time) error {
	return s.Write(ctx, func(t Tx) error {
		ended, err := t.endAlone(ctx, d, state, note, now)
		if err != nil || !ended {
			return err
		}
		return t.HandedOver(ctx, d.Challenge, d.Generation, now)
	})
}

// How a row leaves: what it knew, and what it came to. Its data, and what joined it, stay only if it
// failed, for another try.
const leaving = `INSERT INTO illumicode_ended (` + deliveryColumns +
	`) SELECT id, challenge, generation, letter, locale, address,
	name, %DATA%, lane, %STATE%, created, due, deliver_before, claim, worker, claimed, %COUNTS%, CAST(? AS BIGINT),
	%NOTE%, zone, visible, bundle,
	version, once, '', app_key, lead, collapse, fallback, asked_by, trace FROM illumicode_delivery`

// leave returns how a row leaves with a state, counts and a note: parameters or expressions.
func leave(data, state, counts, note string) string {
	return strings.NewReplacer("%DATA%", data, "%STATE%", state, "%COUNTS%", counts, "%NOTE%", note).Replace(leaving)
}

var (
	endOne = q(leave(`CASE WHEN CAST(? AS TEXT) = 'failed' THEN data ELSE '{}' END`, `CAST(? AS TEXT)`,
		`CAST(? AS INTEGER), CAST(? AS INTEGER)`, `CAST(? AS TEXT)`) + ours + ` FOR UPDATE`)
	deleteOne = q(`DELETE FROM illumicode_delivery` + ours)

	deleteItems = q(`DELETE FROM illumicode_item WHERE delivery = ?`)
)

// endAlone moves a claimed delivery to those that have ended, and reports whether it did: not if the
// claim was lost.
func (t Tx) endAlone(ctx context.Context, d Delivery, state State, note string, now time.Time) (bool, error) {
	n, err := t.exec(ctx, endOne, string(state), string(state), d.Attempts, d.Spent, millis(now), note, d.ID, d.Claim)
	if err != nil || n == 0 {
		return false, err
	}
	if _, err := t.exec(ctx, deleteOne, d.ID, d.Claim); err != nil {
		return false, err
	}
	if state != Failed { // else what joined it may be tried again
		if _, err := t.exec(ctx, deleteItems, d.ID); err != nil {
			return false, err
		}
	}
	return true, t.eraseBundle(ctx, d.Bundle)
}
