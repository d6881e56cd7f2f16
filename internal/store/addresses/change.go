package addresses

import (
	"context"
	"time"

	"github.com/illumicode/illumicode/internal/store/db"
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
	Bound      string // keyed digest of what the change is, made at its beginning and by a correction
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

// changeRow are the columns of a change.
var changeRow = db.Columns[Change]{
	db.Text("id", func(r *Change) *string { return &r.ID }),
	db.Text("subject", func(r *Change) *string { return &r.Subject }),
	db.Text("old_address", func(r *Change) *string { return &r.Old }),
	db.Text("old_mailbox", func(r *Change) *string { return &r.OldMailbox }),
	db.Text("new_address", func(r *Change) *string { return &r.New }),
	db.Text("new_mailbox", func(r *Change) *string { return &r.NewMailbox }),
	db.Text("challenge", func(r *Change) *string { return &r.Challenge }),
	db.Text("state", func(r *Change) *ChangeState { return &r.State }),
	db.Text("kid", func(r *Change) *string { return &r.Kid }),
	db.Text("bound", func(r *Change) *string { return &r.Bound }),
	db.Time("made", func(r *Change) *time.Time { return &r.Made }),
	db.Time("undo_ends", func(r *Change) *time.Time { return &r.UndoEnds }),
	db.Time("frozen", func(r *Change) *time.Time { return &r.Frozen }),
	db.Text("locale", func(r *Change) *string { return &r.Locale }),
}

var (
	newChange       = changeRow.Insert("change", db.Values{})
	insertChange    = db.Q(newChange.Alone())
	selectChange    = db.Q(`SELECT ` + changeRow.Names() + ` FROM @change WHERE id = ?`)
	selectChangeFor = db.Q(`SELECT ` + changeRow.Names() + ` FROM @change WHERE challenge = ?`)
	selectChanges   = db.Q(`SELECT ` + changeRow.Names() + ` FROM @change WHERE subject = ? ORDER BY made DESC`)
	selectUndoOver  = db.Q(`SELECT ` + changeRow.Names() + ` FROM @change WHERE state = 'made' AND undo_ends <= ?
		ORDER BY undo_ends LIMIT ?`)
	moveChange   = db.Q(`UPDATE @change SET state = ?, frozen = ? WHERE id = ? AND state = ?`)
	stopChangeOf = db.Q(`UPDATE @change SET state = 'stopped' WHERE challenge = ? AND state = 'pending'`)
	endChanges   = db.Q(`UPDATE @change SET state = 'settled' WHERE subject = (SELECT subject FROM @change
		WHERE id = ? AND state = 'frozen') AND (state = 'frozen' OR state = 'made' AND made >= (SELECT made
		FROM @change WHERE id = ?)) RETURNING ` + changeRow.Names())
	// A change and what was begun or made after it, while any of that can be taken back.
	lockChange  = db.Q(`SELECT ` + changeRow.Names() + ` FROM @change WHERE id = ? @lock()`)
	changesFrom = db.Q(`SELECT ` + changeRow.Names() + ` FROM @change WHERE subject = ? AND made >= ?
		AND state IN ('pending', 'made') ORDER BY made`)
	markUndone      = db.Q(`UPDATE @change SET frozen = ? WHERE id = ? AND state = 'stopped' AND frozen = 0`)
	settleStopped   = db.Q(`UPDATE @change SET state = 'settled' WHERE subject = ? AND state = 'stopped'`)
	anyFrozen       = db.Q(`SELECT EXISTS (SELECT 1 FROM @change WHERE subject = ? AND state = 'frozen')`)
	moveToCorrected = db.Q(`UPDATE @change SET challenge = ?, new_address = ?, new_mailbox = ?, bound = ?
		WHERE id = ? AND state = 'pending'`)
	stopChanges = db.Q(`UPDATE @change SET state = 'stopped' WHERE subject = ? AND state = 'pending'`)
	provenSince = db.Q(`SELECT EXISTS (SELECT 1 FROM @challenge WHERE subject = ? AND mailbox = ?
		AND state = 'accepted' AND accepted > ?)`)
)

// InsertChange adds a change that is pending.
func (t Tx) InsertChange(ctx context.Context, c Change) error {
	_, err := t.Exec(ctx, insertChange, newChange.Args(c)...)
	return err
}

// Change returns the change with this id, or [db.ErrNotFound].
func (s Rows) Change(ctx context.Context, id string) (Change, error) {
	return db.One(ctx, s, changeRow.Scan, selectChange, id)
}

// Changes returns the changes of a subject, the latest first.
func (s Rows) Changes(ctx context.Context, subject string) ([]Change, error) {
	return db.All(ctx, s, changeRow.Scan, selectChanges, subject)
}

var changesAt = db.Q(`SELECT ` + changeRow.Names() + ` FROM @change WHERE subject @listed() ORDER BY made DESC`)

// ChangesAt returns the changes of some subjects, the latest first.
func (s Rows) ChangesAt(ctx context.Context, subjects []string) ([]Change, error) {
	return db.All(ctx, s, changeRow.Scan, changesAt, db.List(subjects))
}

// ChangeFor returns the change that a challenge is for, or [db.ErrNotFound].
func (t Tx) ChangeFor(ctx context.Context, challenge string) (Change, error) {
	return db.One(ctx, t, changeRow.Scan, selectChangeFor, challenge)
}

// MoveChange takes a change from the state that c says to another and reports whether it did: not
// if somebody else was faster.
func (t Tx) MoveChange(ctx context.Context, c Change, to ChangeState, frozen time.Time) (bool, error) {
	n, err := t.Exec(ctx, moveChange, string(to), db.Millis(frozen), c.ID, string(c.State))
	return n == 1, err
}

// StopChangeOf stops the pending change that a challenge is for, if it is for one.
func (t Tx) StopChangeOf(ctx context.Context, challenge string) error {
	_, err := t.Exec(ctx, stopChangeOf, challenge)
	return err
}

// LockChange returns the change with this id, locked, or [db.ErrNotFound].
func (t Tx) LockChange(ctx context.Context, id string) (Change, error) {
	return db.One(ctx, t, changeRow.Scan, lockChange, id)
}

// ChangesFrom returns what can be taken back of a change and of those that its subject began or made after it.
func (t Tx) ChangesFrom(ctx context.Context, c Change) ([]Change, error) {
	return db.All(ctx, t, changeRow.Scan, changesFrom, c.Subject, db.Millis(c.Made))
}

// ChangesFrom is the same outside of a transaction.
func (s Rows) ChangesFrom(ctx context.Context, c Change) ([]Change, error) {
	return db.All(ctx, s, changeRow.Scan, changesFrom, c.Subject, db.Millis(c.Made))
}

// MarkUndone says that a change which had been stopped before was taken back too.
func (t Tx) MarkUndone(ctx context.Context, id string, now time.Time) error {
	_, err := t.Exec(ctx, markUndone, db.Millis(now), id)
	return err
}

// SettleStopped settles what changes of a subject were stopped: their links do nothing any more.
func (t Tx) SettleStopped(ctx context.Context, subject string) error {
	_, err := t.Exec(ctx, settleStopped, subject)
	return err
}

// EndChanges ends the freeze of a subject of which a change is frozen. It settles that one with any
// other that is frozen, and what was made since, and returns them; none if it is not frozen.
func (t Tx) EndChanges(ctx context.Context, id string) ([]Change, error) {
	return db.All(ctx, t, changeRow.Scan, endChanges, id, id)
}

// AnyFrozen reports whether a subject has a change that was taken back and is not settled.
func (s Rows) AnyFrozen(ctx context.Context, subject string) (bool, error) {
	return db.One(ctx, s, db.Scalar[bool], anyFrozen, subject)
}

// AnyFrozen is [Rows.AnyFrozen] in a transaction.
func (t Tx) AnyFrozen(ctx context.Context, subject string) (bool, error) {
	return db.One(ctx, t, db.Scalar[bool], anyFrozen, subject)
}

// CorrectChange writes another challenge, at another new address, into a change that is pending, and reports whether it
// did: not if it is pending no more.
func (t Tx) CorrectChange(ctx context.Context, c Change) (bool, error) {
	n, err := t.Exec(ctx, moveToCorrected, c.Challenge, c.New, c.NewMailbox, c.Bound, c.ID)
	return n == 1, err
}

// StopChanges stops what changes of a subject are pending.
func (t Tx) StopChanges(ctx context.Context, subject string) error {
	_, err := t.Exec(ctx, stopChanges, subject)
	return err
}

// UndoOver returns up to n changes that were made and can no longer be taken back.
func (s Rows) UndoOver(ctx context.Context, now time.Time, n int) ([]Change, error) {
	return db.All(ctx, s, changeRow.Scan, selectUndoOver, db.Millis(now), n)
}

// ProvenSince reports whether a subject has proven a mailbox after an instant.
func (t Tx) ProvenSince(ctx context.Context, subject, mailbox string, since time.Time) (bool, error) {
	return db.One(ctx, t, db.Scalar[bool], provenSince, subject, mailbox, db.Millis(since))
}
