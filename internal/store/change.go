package store

import (
	"context"
	"time"
)

// A Change is a change of address: the row.
type Change struct {
	ID         string
	Subject    string
	Old        string
	OldMailbox string
	New        string
	NewMailbox string
	Challenge  string
	State      ChangeState
	Kid        string // of the key that signs the link of the old address
	Made       time.Time
	UndoEnds   time.Time
	Frozen     time.Time
	Locale     string // of who holds the old address; empty if it is not known
}

// A ChangeState is where a change of address stands.
type ChangeState string

// The states of a change.
const (
	Pending ChangeState = "pending" // the new address is not proven yet; the old one works
	Made    ChangeState = "made"    // the new address works; the old one can take it back
	Stopped ChangeState = "stopped" // it was taken back, or called off, before it was made
	Frozen  ChangeState = "frozen"  // it was taken back after it was made: neither address signs in
	Settled ChangeState = "settled" // nobody can take it back any more
)

const changeColumns = `id, subject, old_address, old_mailbox, new_address, new_mailbox, challenge, state, kid, made,
	undo_ends, frozen, locale`

func scanChange(r scanner) (c Change, err error) {
	var made, undo, frozen int64
	err = r.Scan(&c.ID, &c.Subject, &c.Old, &c.OldMailbox, &c.New, &c.NewMailbox, &c.Challenge, &c.State, &c.Kid, &made,
		&undo, &frozen, &c.Locale)
	c.Made, c.UndoEnds, c.Frozen = instant(made), instant(undo), instant(frozen)
	return c, err
}

var (
	insertChange = q(`INSERT INTO illumicode_change (` + changeColumns +
		`) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`)
	selectChange    = q(`SELECT ` + changeColumns + ` FROM illumicode_change WHERE id = ?`)
	selectChangeFor = q(`SELECT ` + changeColumns + ` FROM illumicode_change WHERE challenge = ?`)
	selectChanges   = q(`SELECT ` + changeColumns + ` FROM illumicode_change WHERE subject = ? ORDER BY made DESC`)
	selectUndoOver  = q(`SELECT ` + changeColumns +
		` FROM illumicode_change WHERE state = 'made' AND undo_ends <= ? ORDER BY undo_ends LIMIT ?`)
	moveChange   = q(`UPDATE illumicode_change SET state = ?, frozen = ? WHERE id = ? AND state = ?`)
	stopChangeOf = q(`UPDATE illumicode_change SET state = 'stopped' WHERE challenge = ? AND state = 'pending'`)
	endChanges   = q(
		`UPDATE illumicode_change SET state = 'settled' WHERE subject = (SELECT subject FROM illumicode_change WHERE id
			= ? AND state = 'frozen')
		AND (state = 'frozen' OR state = 'made' AND made >= (SELECT made FROM illumicode_change WHERE id = ?))
		RETURNING ` + changeColumns)
	anyFrozen       = q(`SELECT EXISTS (SELECT 1 FROM illumicode_change WHERE subject = ? AND state = 'frozen')`)
	moveToCorrected = q(
		`UPDATE illumicode_change SET challenge = ?, new_address = ?, new_mailbox = ? WHERE challenge = ? AND state =
			'pending'`)
	stopChanges = q(`UPDATE illumicode_change SET state = 'stopped' WHERE subject = ? AND state = 'pending'`)
	provenSince = q(
		`SELECT EXISTS (SELECT 1 FROM illumicode_challenge WHERE subject = ? AND mailbox = ? AND state = 'accepted' AND
			accepted > ?)`)
)

// InsertChange adds a change that is pending.
func (t Tx) InsertChange(ctx context.Context, c Change) error {
	_, err := t.exec(ctx, insertChange, c.ID, c.Subject, c.Old, c.OldMailbox, c.New, c.NewMailbox, c.Challenge,
		string(c.State),
		c.Kid, millis(c.Made), millis(c.UndoEnds), millis(c.Frozen), c.Locale)
	return err
}

// Change returns the change with this id, or [ErrNotFound].
func (s *Store) Change(ctx context.Context, id string) (Change, error) {
	rows, err := s.query(ctx, selectChange, id)
	return one(s, rows, err, scanChange)
}

// Changes returns the changes of a subject, the latest first.
func (s *Store) Changes(ctx context.Context, subject string) ([]Change, error) {
	rows, err := s.query(ctx, selectChanges, subject)
	return collect(s, rows, err, scanChange)
}

// ChangeFor returns the change that a challenge is for, or [ErrNotFound].
func (t Tx) ChangeFor(ctx context.Context, challenge string) (Change, error) {
	rows, err := t.query(ctx, selectChangeFor, challenge)
	return one(t.s, rows, err, scanChange)
}

// MoveChange takes a change from the state that c says to another and reports whether it did: not
// if somebody else was faster.
func (t Tx) MoveChange(ctx context.Context, c Change, to ChangeState, frozen time.Time) (bool, error) {
	n, err := t.exec(ctx, moveChange, string(to), millis(frozen), c.ID, string(c.State))
	return n == 1, err
}

// StopChangeOf stops the pending change that a challenge is for, if it is for one.
func (t Tx) StopChangeOf(ctx context.Context, challenge string) error {
	_, err := t.exec(ctx, stopChangeOf, challenge)
	return err
}

// EndChanges ends the freeze of a subject of which a change is frozen. It settles that one with any
// other that is frozen, and what was made since, and returns them; none if it is not frozen.
func (t Tx) EndChanges(ctx context.Context, id string) ([]Change, error) {
	rows, err := t.query(ctx, endChanges, id, id)
	return collect(t.s, rows, err, scanChange)
}

// AnyFrozen reports whether a subject has a change that was taken back and is not settled.
func (s *Store) AnyFrozen(ctx context.Context, subject string) (bool, error) {
	return s.alone().AnyFrozen(ctx, subject)
}

// AnyFrozen is [Store.AnyFrozen] in a transaction.
func (t Tx) AnyFrozen(ctx context.Context, subject string) (bool, error) {
	rows, err := t.query(ctx, anyFrozen, subject)
	return one(t.s, rows, err, func(r scanner) (yes bool, err error) { return yes, r.Scan(&yes) })
}

// CorrectChange says that another challenge, at another address, is what a pending change waits for.
func (t Tx) CorrectChange(ctx context.Context, from, to, address, mailbox string) error {
	_, err := t.exec(ctx, moveToCorrected, to, address, mailbox, from)
	return err
}

// StopChanges stops what changes of a subject are pending.
func (t Tx) StopChanges(ctx context.Context, subject string) error {
	_, err := t.exec(ctx, stopChanges, subject)
	return err
}

// UndoOver returns up to n changes that were made and can no longer be taken back.
func (s *Store) UndoOver(ctx context.Context, now time.Time, n int) ([]Change, error) {
	rows, err := s.query(ctx, selectUndoOver, millis(now), n)
	return collect(s, rows, err, scanChange)
}

// ProvenSince reports whether a subject has proven a mailbox after an instant.
func (t Tx) ProvenSince(ctx context.Context, subject, mailbox string, since time.Time) (bool, error) {
	rows, err := t.query(ctx, provenSince, subject, mailbox, millis(since))
	return one(t.s, rows, err, func(r scanner) (yes bool, err error) { return yes, r.Scan(&yes) })
}
