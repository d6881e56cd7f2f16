package illumicode

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/outbox"
	rows "github.com/illumicode/illumicode/internal/store"
)

// A Closing says which account is closed.
type Closing struct {
	Subject string

	// Undoable closes it even while a change of its address can be taken back. The old address is told, in the letter
	// account-closed: otherwise a thief would change the address and close the account.
	Undoable bool
}

// Release takes everything from a subject whose account is closed, in the application's transaction: its challenges and
// changes end, its addresses are free for others at once, its browsers are known no longer. What suppresses an address
// stays, and so does the trail. A subject of the same id begins with nothing.
//
// The error is [ErrFrozen] while the account is frozen, and [ErrUndoable] while a change of its address can be taken
// back and what does not say so. Nothing was written then.
func (t Tx) Release(ctx context.Context, what Closing) error {
	if err := t.ok(); err != nil {
		return err
	}
	if what.Subject == "" {
		return errors.New("illumicode: Release needs the subject of the account that is closed")
	}
	now := t.s.p.Now()
	if _, err := t.rows().LockFailures(ctx, changing(what.Subject), now); err != nil {
		return err
	}
	if _, err := t.closable(ctx, what); err != nil {
		return err
	}
	// Whoever was beginning a sign-in has done so, or finds nobody there.
	if err := t.lockAddresses(ctx, what.Subject, now); err != nil {
		return err
	}
	// Whoever was accepting a proof has done so after this, or does not.
	if err := t.s.p.CallOffOpen(ctx, t.rows(), flow.Opened{Subject: what.Subject, Why: proof.Closed}); err != nil {
		return err
	}
	undoable, err := t.closable(ctx, what)
	if err != nil {
		return err
	}
	if err := t.rows().Release(ctx, what.Subject, rows.Step{Subject: what.Subject, At: now, What: "released",
		Outcome: "the account was closed", Network: flow.Network(ctx)}); err != nil {
		return err
	}
	for _, c := range undoable {
		if err := t.tellClosed(ctx, c); err != nil {
			return err
		}
	}
	return t.rows().CancelSubject(ctx, what.Subject, "the account of its subject was closed", now)
}

// lockAddresses waits for what begins sign-ins at the addresses of a subject, and keeps it waiting.
func (t Tx) lockAddresses(ctx context.Context, subject string, now time.Time) error {
	all, err := t.rows().AddressesOf(ctx, subject)
	if err != nil {
		return err
	}
	slices.SortFunc(all, func(a, b rows.Address) int { return strings.Compare(a.Mailbox, b.Mailbox) })
	for _, a := range all {
		if _, err := t.rows().LockFailures(ctx, "address:"+a.Mailbox, now); err != nil {
			return err
		}
	}
	return nil
}

// closable returns the changes of an account that can be taken back, or why it cannot be closed.
func (t Tx) closable(ctx context.Context, what Closing) (undoable []rows.Change, err error) {
	frozen, err := t.rows().AnyFrozen(ctx, what.Subject)
	switch {
	case err != nil:
		return nil, err
	case frozen:
		return nil, ErrFrozen
	}
	all, err := t.rows().ChangesFrom(ctx, rows.Change{Subject: what.Subject})
	for _, c := range all {
		if c.State == rows.Made && t.s.p.Now().Before(c.UndoEnds) {
			undoable = append(undoable, c)
		}
	}
	if err == nil && len(undoable) > 0 && !what.Undoable {
		err = ErrUndoable
	}
	return undoable, err
}

// tellClosed adds the letter that tells the old address of a change that the account was closed.
func (t Tx) tellClosed(ctx context.Context, c rows.Change) error {
	data, err := json.Marshal(map[string]string{"name": "", "new_address": c.New})
	if err != nil {
		return err
	}
	now := t.s.p.Now()
	return t.rows().InsertDelivery(ctx, rows.Delivery{
		ID: flow.NewID(), Letter: flow.ClosedLetter, Locale: t.s.Locale(c.Locale), Address: c.Old, Data: string(data),
		Lane: rows.Urgent, Created: now, Due: now, Trace: outbox.Trace(ctx),
	})
}
