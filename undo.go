package illumicode

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"slices"
	"time"

	"github.com/illumicode/illumicode/core/challenge"
	"github.com/illumicode/illumicode/core/message"
	"github.com/illumicode/illumicode/store"
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

// InspectUndo returns the change that a link from the letter to the old address would take back.
// The error matches [ErrInvalid], [ErrExpired], or [ErrUsed] if it was taken back already.
func (s *Service) InspectUndo(ctx context.Context, link string) (Change, error) {
	c, err := s.byUndoLink(ctx, link)
	return changeOf(c), err
}

func changeOf(c store.Change) Change {
	return Change{ID: c.ID, Subject: c.Subject, Old: c.Old, New: c.New, Made: c.State == store.Made || c.State == store.Frozen, Ends: c.UndoEnds}
}

func (s *Service) byUndoLink(ctx context.Context, link string) (store.Change, error) {
	claims, err := s.readLink(link, LinkUndo)
	if err != nil {
		return store.Change{}, err
	}
	c, err := s.store.Change(ctx, claims.Challenge)
	if errors.Is(err, store.ErrNotFound) {
		return c, ErrInvalid
	}
	if err != nil {
		return c, err
	}
	key, err := s.keys.Key(claims.KeyID(), s.now())
	switch {
	case err != nil || c.Kid != claims.KeyID() || key.Thumbprint(c.Old) != claims.Address:
		return store.Change{}, ErrInvalid
	case c.State == store.Settled || !s.now().Before(c.UndoEnds):
		return c, ErrExpired
	case c.State == store.Frozen || c.State == store.Stopped:
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
//     anew. Then the application decides, by what else it knows, which one stays: [Tx.Settle].
//
// apply, which may be nil, makes the application's own writes in the same commit, such as ending the
// account's sessions. Of several callers one succeeds; the error matches those of
// [Service.InspectUndo].
func (s *Service) Undo(ctx context.Context, link string, apply func(tx *sql.Tx, c Change) error) (Change, error) {
	for {
		c, err := s.byUndoLink(ctx, link)
		if err != nil {
			return Change{}, err
		}
		told := changeOf(c)
		err = s.inTx(ctx, func(tx *sql.Tx) error {
			if err := s.In(tx).undo(ctx, c); err != nil || apply == nil {
				return err
			}
			return apply(tx, told)
		})
		if errors.Is(err, errMoved) { // it was made, or taken back, since it was read
			continue
		}
		s.Wake()
		return told, err
	}
}

// errMoved means that a change is not in the state any more in which it was read.
var errMoved = errors.New("illumicode: the change has moved on")

func (t Tx) undo(ctx context.Context, c store.Change) error {
	if c.State == store.Made {
		return t.freeze(ctx, c)
	}
	if err := t.callOffChanging(ctx, c.Subject, challenge.Undone); err != nil {
		return err
	}
	if err := t.move(ctx, c, store.Stopped); err != nil {
		return err
	}
	return t.rows.RemoveUnconfirmed(ctx, c.Subject, c.New)
}

func (t Tx) move(ctx context.Context, c store.Change, to store.ChangeState) error {
	moved, err := t.rows.MoveChange(ctx, c, to, t.s.now())
	if err == nil && !moved {
		err = errMoved
	}
	return err
}

// takenBack is the reason for which addresses of a frozen account are stale.
const takenBack = "the change of address was taken back"

// freeze makes an account's addresses doubtful: the two of a change, and what was confirmed after it, by
// further changes for one.
func (t Tx) freeze(ctx context.Context, c store.Change) error {
	if err := t.move(ctx, c, store.Frozen); err != nil {
		return err
	}
	// What was begun before, by whichever side, must not end in a session.
	if err := t.callOffOpen(ctx, c.Subject, "", challenge.Undone); err != nil {
		return err
	}
	proving, err := t.rows.ChallengeOf(ctx, c.Challenge)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	all, err := t.rows.AddressesOf(ctx, c.Subject)
	if err != nil {
		return err
	}
	doubtful := []store.Address{{Address: c.Old, Mailbox: c.OldMailbox, Locale: c.Locale}, {Address: c.New, Mailbox: c.NewMailbox, Locale: proving.Locale}}
	for _, a := range all {
		if a.Standing.Held() && !a.Since.Before(c.Made) && a.Mailbox != c.OldMailbox && a.Mailbox != c.NewMailbox {
			doubtful = append(doubtful, a)
		}
	}
	for _, a := range doubtful {
		step := store.Step{Subject: c.Subject, Mailbox: a.Mailbox, At: t.s.now(), What: "standing", Outcome: "stale: " + takenBack, Network: network(ctx)}
		if err := t.rows.Doubt(ctx, c.Subject, a.Address, a.Mailbox, takenBack, step); err != nil {
			return err
		}
		if err := t.ask(ctx, c.Subject, a.Address, a.Locale); err != nil {
			return err
		}
	}
	return nil
}

// ask begins the challenge by which an address is proven anew. No browser has begun it, so that there
// is none to type a code into. An empty locale means the fallback.
func (t Tx) ask(ctx context.Context, subject, address, locale string) error {
	to, err := message.ParseRecipient(address)
	if err != nil {
		return err
	}
	_, err = t.begin(ctx, Admission{address: to, locale: t.s.Locale(locale)}, start{purpose: challenge.Reverify, subject: subject, letter: recheckLetter, forms: challenge.LinkOnly})
	return err
}

// Settle decides about an account of which a change of address was taken back after it was made: keep
// is the address that stays with the subject. All others that are in doubt, by this change and by later
// ones, are taken from it, and it is frozen no longer. keep must have been proven since the change was
// taken back: else the error is [ErrNotConfirmed]; it is [ErrNothingPending] if nothing is frozen. After
// any error roll back. The proof alone must not decide, as either side may be the impostor: the
// application, or its people, must know more, and reason says for the trail what.
func (t Tx) Settle(ctx context.Context, id, keep, reason string) error {
	now := t.s.now()
	to, err := message.ParseRecipient(keep)
	if err != nil {
		return err
	}
	changes, err := t.rows.SettleChanges(ctx, id)
	if err != nil {
		return err
	}
	if len(changes) == 0 {
		return ErrNothingPending
	}
	subject := changes[0].Subject
	doubtful, err := t.rows.AddressesOf(ctx, subject)
	if err != nil {
		return err
	}
	doubtful = slices.DeleteFunc(doubtful, func(a store.Address) bool { return a.Reason != takenBack })
	var frozen time.Time // last
	var proof string
	for _, c := range changes {
		doubtful = append(doubtful, store.Address{Address: c.Old, Mailbox: c.OldMailbox}, store.Address{Address: c.New, Mailbox: c.NewMailbox})
		if c.Frozen.After(frozen) {
			frozen, proof = c.Frozen, c.Challenge
		}
	}
	at := slices.IndexFunc(doubtful, func(a store.Address) bool { return a.Mailbox == to.Mailbox() })
	if at < 0 {
		return ErrNotConfirmed
	}
	kept := doubtful[at]
	proven, err := t.rows.ProvenSince(ctx, subject, kept.Mailbox, frozen)
	switch {
	case err != nil:
		return err
	case !proven:
		return ErrNotConfirmed
	}
	// What the others have begun meanwhile, or were asked, must not bring them back.
	if err := t.callOffOpen(ctx, subject, "", challenge.Undone); err != nil {
		return err
	}
	for _, a := range doubtful {
		if a.Address == kept.Address {
			continue
		}
		if err := t.rows.RemoveAddress(ctx, subject, a.Address); err != nil {
			return err
		}
		if a.Mailbox != kept.Mailbox {
			if err := t.rows.ReleaseMailbox(ctx, subject, a.Mailbox); err != nil {
				return err
			}
		}
	}
	step := store.Step{Challenge: proof, Subject: subject, Mailbox: kept.Mailbox, At: now, What: "standing", Outcome: "confirmed: the change was settled: " + cmp.Or(reason, "no reason given"), Network: network(ctx)}
	held, err := t.rows.Confirm(ctx, kept.Address, t.s.thumbs(kept.Mailbox), step)
	if err == nil && !held {
		err = ErrHeld
	}
	return err
}

// Settle is [Tx.Settle] in one call. apply, which may be nil, makes the application's own writes in the
// same commit, such as opening the account again.
func (s *Service) Settle(ctx context.Context, id, keep, reason string, apply func(tx *sql.Tx) error) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		if err := s.In(tx).Settle(ctx, id, keep, reason); err != nil || apply == nil {
			return err
		}
		return apply(tx)
	})
}
