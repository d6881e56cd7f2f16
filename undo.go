package illumicode

import (
	"context"
	"errors"
	"slices"
	"time"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/internal/flow"
	rows "github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/message"
)

// undoFor is how long the holder of an old address can take a change back by default.
const undoFor = 7 * 24 * time.Hour

// A Change is a change of address, as the holder of the old one sees it.
type Change struct {
	ID      string
	Subject string
	Old     string
	New     string
	Made    bool // it, or one after it, was in effect: the account may have been taken over through it
	Ends    time.Time

	// Stopped are the new addresses of all changes that [Service.Undo] stops or has stopped, this one's and of those
	// that were begun or made after it, in that order.
	Stopped []string
}

func changeOf(c rows.Change) Change {
	return Change{ID: c.ID, Subject: c.Subject, Old: c.Old, New: c.New, Made: c.State == rows.Made ||
		c.State == rows.Frozen, Ends: c.UndoEnds}
}

// including returns c with what of its subject's changes is taken back with it.
func (c Change) including(all []rows.Change) Change {
	for _, one := range all {
		c.Stopped = append(c.Stopped, one.New)
		c.Made = c.Made || one.State == rows.Made
	}
	return c
}

// byUndoLink returns the change that a link takes back, and as its reader is told of it. With [ErrUsed] and
// [ErrExpired] both are returned too.
func (s *Service) byUndoLink(ctx context.Context, link Link) (c rows.Change, told Change, err error) {
	claims, err := s.readLink(link, challenge.Undo)
	if err != nil {
		return c, told, err
	}
	c, err = s.p.Store.Change(ctx, claims.Challenge)
	if errors.Is(err, rows.ErrNotFound) {
		return c, told, ErrInvalid
	}
	if err != nil {
		return c, told, err
	}
	key, err := s.p.ChangeKey(c)
	if err != nil || c.Kid != claims.KeyID() || flow.OldBound(key, c) != claims.Bound {
		return rows.Change{}, told, ErrInvalid
	}
	live, err := s.p.Store.ChangesFrom(ctx, c)
	if err == nil && len(live) == 0 { // it may have moved on since it was read, and then says how
		c, err = s.p.Store.Change(ctx, c.ID)
	}
	if err != nil {
		return c, told, err
	}
	told = changeOf(c).including(live)
	// one that followed may have frozen the account
	if err = s.undoable(c, live); errors.Is(err, ErrUsed) && !told.Made {
		var lookErr error
		if told.Made, lookErr = s.p.Store.AnyFrozen(ctx, c.Subject); lookErr != nil {
			return c, told, lookErr
		}
	}
	return c, told, err
}

// undoable returns why a change cannot be taken back any more; nil if it can.
func (s *Service) undoable(c rows.Change, live []rows.Change) error {
	switch {
	case c.State == rows.Settled || !s.p.Now().Before(c.UndoEnds):
		return ErrExpired
	case !c.Frozen.IsZero() || len(live) == 0: // taken back, or stopped by something else
		return ErrUsed
	}
	return nil
}

// Undo takes a change of address back for whoever holds the old address, and with it every change of the account that
// was begun or made since. It signs nobody in, and gives nobody the account:
//
//   - a change that is pending stops, and the old address goes on working;
//   - if one was made the account is frozen: nobody signs in to it, and it does not count as confirmed; the addresses
//
// of
//
//	all of them, and any that was confirmed since, are asked to be proven anew. Then somebody decides, by what else
//	they know, which one stays: desk.Desk.Decide.
//
// apply, which may be nil, makes the application's own writes in the same commit, such as ending the account's
// sessions. A link acts once, and not after a decision. Of several callers one succeeds; the error matches
// [ErrInvalid], [ErrExpired], or [ErrUsed] for the others.
func (s *Service) Undo(ctx context.Context, link Link,
	apply func(ctx context.Context, tx Tx, c Change) error) (told Change, err error) {
	c, _, err := s.byUndoLink(ctx, link)
	if err != nil {
		return Change{}, err
	}
	err = s.Transact(ctx, func(ctx context.Context, tx Tx) (err error) {
		if told, err = tx.undo(ctx, c); err != nil || apply == nil {
			return err
		}
		return apply(ctx, tx, told)
	})
	if err != nil {
		return Change{}, err
	}
	return told, nil
}

// changing names what all that begins or takes back changes of a subject's address waits for, one after another.
func changing(subject string) string { return "changes:" + subject }

// undo takes a change back, which may have moved on since it was read.
func (t Tx) undo(ctx context.Context, read rows.Change) (Change, error) {
	now := t.s.p.Now()
	if _, err := t.rows().LockFailures(ctx, changing(read.Subject), now); err != nil {
		return Change{}, err
	}
	// What proves a change ends first: whoever was accepting one has done so, or does not.
	if err := t.s.p.CallOffChanging(ctx, t.rows(), read.Subject, proof.Undone); err != nil {
		return Change{}, err
	}
	c, err := t.rows().LockChange(ctx, read.ID)
	if err != nil {
		return Change{}, err
	}
	live, err := t.rows().ChangesFrom(ctx, c)
	if err == nil {
		err = t.s.undoable(c, live)
	}
	if err != nil {
		return Change{}, err
	}
	var made []rows.Change
	for _, one := range live {
		to := rows.Stopped
		if one.State == rows.Made {
			to, made = rows.Frozen, append(made, one)
		}
		moved, err := t.rows().MoveChange(ctx, one, to, now)
		if err == nil && !moved {
			err = ErrUsed
		}
		if err != nil {
			return Change{}, err
		}
	}
	if err := t.rows().MarkUndone(ctx, c.ID, now); err != nil { // it may have been stopped before
		return Change{}, err
	}
	if len(made) > 0 {
		if err := t.freeze(ctx, made); err != nil {
			return Change{}, err
		}
	}
	for _, one := range live {
		if err := t.rows().RemoveUnconfirmed(ctx, one.Subject, one.New); err != nil {
			return Change{}, err
		}
	}
	return changeOf(c).including(live), nil
}

// freeze makes an account's addresses doubtful: those of changes that were made, and what was confirmed after the first
// of them.
func (t Tx) freeze(ctx context.Context, made []rows.Change) error {
	first := made[0]
	// What was begun before, by whichever side, must not end in a session.
	if err := t.s.p.CallOffOpen(ctx, t.rows(), flow.Opened{Subject: first.Subject, Why: proof.Undone}); err != nil {
		return err
	}
	var doubtful []rows.Address
	doubt := func(a rows.Address) {
		if !slices.ContainsFunc(doubtful, func(b rows.Address) bool { return b.Mailbox == a.Mailbox }) {
			doubtful = append(doubtful, a)
		}
	}
	for _, c := range made {
		proving, err := t.rows().ChallengeOf(ctx, c.Challenge)
		if err != nil && !errors.Is(err, rows.ErrNotFound) {
			return err
		}
		doubt(rows.Address{Address: c.Old, Mailbox: c.OldMailbox, Locale: c.Locale})
		doubt(rows.Address{Address: c.New, Mailbox: c.NewMailbox, Locale: proving.Locale})
	}
	all, err := t.rows().AddressesOf(ctx, first.Subject)
	if err != nil {
		return err
	}
	for _, a := range all {
		if a.Standing.Holds() && !a.Since.Before(first.Made) {
			doubt(a)
		}
	}
	for _, a := range doubtful {
		step := rows.Step{Subject: first.Subject, Mailbox: a.Mailbox, At: t.s.p.Now(), What: "standing",
			Outcome: "stale: " + flow.TakenBack, Network: flow.Network(ctx)}
		a.Reason = flow.TakenBack
		if err := t.rows().Doubt(ctx, a, step); err != nil {
			return err
		}
		if err := t.recheck(ctx, first.Subject, a.Address, a.Locale); err != nil {
			return err
		}
	}
	return nil
}

// recheck begins the challenge by which an address is proven anew. No browser has begun it, so that there
// is none to type a code into. An empty locale means the fallback.
func (t Tx) recheck(ctx context.Context, subject, address, locale string) error {
	to, err := message.ParseRecipient(address)
	if err != nil {
		return err
	}
	_, err = t.begin(ctx, Admission{address: to, locale: t.s.p.Locale(locale)},
		start{purpose: challenge.Reverify, subject: subject, letter: flow.RecheckLetter, forms: challenge.LinkOnly})
	return err
}
