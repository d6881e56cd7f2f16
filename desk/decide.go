package desk

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/message"
)

// Confirm records an address as confirmed without a proof, on somebody's responsibility: why says whose. The error is
// [illumicode.ErrTaken] if another subject holds it.
func (d *Desk) Confirm(ctx context.Context, of illumicode.Holding, why Reason) error {
	to, err := flow.KnownRecipient(of.Address)
	if err != nil {
		return err
	}
	if of.Subject == "" || why == "" {
		return errors.New("desk: a confirmation without a proof needs a subject, and a reason that says on whose word")
	}
	return d.p.Store.Write(ctx, func(t store.Tx) error {
		return confirm(ctx, t, d.p, to, store.Step{Subject: of.Subject, Outcome: "confirmed by an operator: " +
			string(why)})
	})
}

// confirm makes an address confirmed, with a line of the trail.
func confirm(ctx context.Context, t store.Tx, p *flow.Parts, to message.Address, step store.Step) error {
	step.Mailbox, step.At, step.What, step.Network, step.Actor = to.Mailbox(), p.Now(), "standing", flow.Network(ctx),
		operator
	taking, err := t.Confirm(ctx, to.String(), p.Thumbs(to.Mailbox()), step)
	if err == nil && taking == store.Others {
		err = illumicode.ErrTaken
	}
	return err
}

// A Decision is which address an account keeps that was frozen: a change of its address was taken back after it was
// made.
type Decision struct {
	Change string // its id, as [Story] tells it
	Keep   string // the address that stays with the subject
	Reason Reason // for the trail
}

// Decide settles a frozen account: every other address that is in doubt, by this change or a later one, is taken from
// it, and it is frozen no longer. Keep must have been proven since the change was taken back: else the error is
// [illumicode.ErrNotConfirmed]; it is [illumicode.ErrNothingPending] if nothing is frozen. The proof alone must not
// decide, as either side may be the impostor: the application, or its people, must know more.
//
// apply, which may be nil, makes the application's own writes in the same commit, such as opening the account again.
func (d *Desk) Decide(ctx context.Context, what Decision,
	apply func(ctx context.Context, tx illumicode.Tx) error) error {
	return d.svc.Transact(ctx, func(ctx context.Context, tx illumicode.Tx) error {
		if err := d.decide(ctx, flow.Rows(tx), what); err != nil || apply == nil {
			return err
		}
		return apply(ctx, tx)
	})
}

func (d *Desk) decide(ctx context.Context, t store.Tx, what Decision) error {
	keep, err := flow.KnownRecipient(what.Keep)
	if err != nil {
		return err
	}
	changes, err := t.EndChanges(ctx, what.Change)
	if err != nil {
		return err
	}
	if len(changes) == 0 {
		return illumicode.ErrNothingPending
	}
	subject := changes[0].Subject
	if err := t.SettleStopped(ctx, subject); err != nil { // a link acts once, and no earlier one after this
		return err
	}
	doubtful, err := t.AddressesOf(ctx, subject)
	if err != nil {
		return err
	}
	doubtful = slices.DeleteFunc(doubtful, func(a store.Address) bool { return a.Reason != flow.TakenBack })
	var frozen time.Time // last
	var challenge string
	for _, c := range changes {
		doubtful = append(doubtful, store.Address{Address: c.Old, Mailbox: c.OldMailbox},
			store.Address{Address: c.New, Mailbox: c.NewMailbox})
		if c.Frozen.After(frozen) {
			frozen, challenge = c.Frozen, c.Challenge
		}
	}
	at := slices.IndexFunc(doubtful, func(a store.Address) bool { return a.Mailbox == keep.Mailbox() })
	if at < 0 {
		return illumicode.ErrNotConfirmed
	}
	kept := doubtful[at]
	switch proven, err := t.ProvenSince(ctx, subject, kept.Mailbox, frozen); {
	case err != nil:
		return err
	case !proven:
		return illumicode.ErrNotConfirmed
	}
	// What the others have begun meanwhile, or were asked, must not bring them back.
	if err := d.p.CallOffOpen(ctx, t, flow.Opened{Subject: subject, Why: proof.Undone}); err != nil {
		return err
	}
	if err := takeAway(ctx, t, subject, doubtful, kept); err != nil {
		return err
	}
	to, err := message.ParseRecipient(kept.Address)
	if err != nil {
		return err
	}
	outcome := "confirmed: the change was settled: " + cmp.Or(string(what.Reason), "no reason given")
	if err := confirm(ctx, t, d.p, to, store.Step{Challenge: challenge, Subject: subject,
		Outcome: outcome}); err != nil {
		return err
	}
	return t.Thaw(ctx, subject)
}

// takeAway takes addresses from a subject, but for the one that it keeps.
func takeAway(ctx context.Context, t store.Tx, subject string, doubtful []store.Address, kept store.Address) error {
	for _, a := range doubtful {
		if a.Address == kept.Address {
			continue
		}
		if err := t.RemoveAddress(ctx, subject, a.Address); err != nil {
			return err
		}
		if a.Mailbox != kept.Mailbox {
			if err := t.ReleaseMailbox(ctx, subject, a.Mailbox); err != nil {
				return err
			}
		}
	}
	return nil
}
