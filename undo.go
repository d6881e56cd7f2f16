package illumicode

import (
	"context"
	"errors"
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
	Made    bool // it was in effect: the account may have been taken over through it
	Ends    time.Time
}

func changeOf(c rows.Change) Change {
	return Change{ID: c.ID, Subject: c.Subject, Old: c.Old, New: c.New, Made: c.State == rows.Made ||
		c.State == rows.Frozen, Ends: c.UndoEnds}
}

func (s *Service) byUndoLink(ctx context.Context, link Link) (rows.Change, error) {
	claims, err := s.readLink(link, challenge.Undo)
	if err != nil {
		return rows.Change{}, err
	}
	c, err := s.p.Store.Change(ctx, claims.Challenge)
	if errors.Is(err, rows.ErrNotFound) {
		return c, ErrInvalid
	}
	if err != nil {
		return c, err
	}
	key, err := s.p.ChangeKey(c)
	switch {
	case err != nil || c.Kid != claims.KeyID() || flow.OldBound(key, c) != claims.Bound:
		return rows.Change{}, ErrInvalid
	case c.State == rows.Settled || !s.p.Now().Before(c.UndoEnds):
		return c, ErrExpired
	case c.State == rows.Frozen || c.State == rows.Stopped:
		return c, ErrUsed
	}
	return c, nil
}

// Undo takes a change of address back, for whoever holds the old address. It signs nobody in, and
// gives nobody the account:
//
//   - a change that is pending stops, and the old address goes on working;
//   - one that was made is frozen: nobody signs in to the account, and it does not count as confirmed;
//     both addresses, and any that was confirmed since the change was asked for, are asked to be proven
//     anew. Then somebody decides, by what else they know, which one stays: desk.Desk.Decide.
//
// apply, which may be nil, makes the application's own writes in the same commit, such as ending the
// account's sessions. Of several callers one succeeds; the error matches [ErrInvalid],
// [ErrExpired], or [ErrUsed] for the others.
func (s *Service) Undo(ctx context.Context, link Link,
	apply func(ctx context.Context, tx Tx, c Change) error) (Change, error) {
	for {
		c, err := s.byUndoLink(ctx, link)
		if err != nil {
			return Change{}, err
		}
		told := changeOf(c)
		err = s.Transact(ctx, func(ctx context.Context, tx Tx) error {
			if err := tx.undo(ctx, c); err != nil || apply == nil {
				return err
			}
			return apply(ctx, tx, told)
		})
		if errors.Is(err, errMoved) { // it was made, or taken back, since it was read
			continue
		}
		if err != nil {
			return Change{}, err
		}
		return told, nil
	}
}

// errMoved means that a change is not in the state any more in which it was read.
var errMoved = errors.New("illumicode: the change has moved on")

func (t Tx) undo(ctx context.Context, c rows.Change) error {
	if c.State == rows.Made {
		return t.freeze(ctx, c)
	}
	if err := t.s.p.CallOffChanging(ctx, t.rows(), c.Subject, proof.Undone); err != nil {
		return err
	}
	if err := t.move(ctx, c, rows.Stopped); err != nil {
		return err
	}
	return t.rows().RemoveUnconfirmed(ctx, c.Subject, c.New)
}

func (t Tx) move(ctx context.Context, c rows.Change, to rows.ChangeState) error {
	moved, err := t.rows().MoveChange(ctx, c, to, t.s.p.Now())
	if err == nil && !moved {
		err = errMoved
	}
	return err
}

// freeze makes an account's addresses doubtful: the two of a change, and what was confirmed after it, by
// further changes for one.
func (t Tx) freeze(ctx context.Context, c rows.Change) error {
	if err := t.move(ctx, c, rows.Frozen); err != nil {
		return err
	}
	// What was begun before, by whichever side, must not end in a session.
	if err := t.s.p.CallOffOpen(ctx, t.rows(), flow.Opened{Subject: c.Subject, Why: proof.Undone}); err != nil {
		return err
	}
	proving, err := t.rows().ChallengeOf(ctx, c.Challenge)
	if err != nil && !errors.Is(err, rows.ErrNotFound) {
		return err
	}
	all, err := t.rows().AddressesOf(ctx, c.Subject)
	if err != nil {
		return err
	}
	doubtful := []rows.Address{{Address: c.Old, Mailbox: c.OldMailbox, Locale: c.Locale},
		{Address: c.New, Mailbox: c.NewMailbox, Locale: proving.Locale}}
	for _, a := range all {
		if a.Standing.Holds() && !a.Since.Before(c.Made) && a.Mailbox != c.OldMailbox && a.Mailbox != c.NewMailbox {
			doubtful = append(doubtful, a)
		}
	}
	for _, a := range doubtful {
		step := rows.Step{Subject: c.Subject, Mailbox: a.Mailbox, At: t.s.p.Now(), What: "standing",
			Outcome: "stale: " + flow.TakenBack, Network: flow.Network(ctx)}
		a.Reason = flow.TakenBack
		if err := t.rows().Doubt(ctx, a, step); err != nil {
			return err
		}
		if err := t.recheck(ctx, c.Subject, a.Address, a.Locale); err != nil {
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
