package illumicode

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/outbox"
	rows "github.com/illumicode/illumicode/internal/store"
)

// proofLife bounds the time between proving and accepting.
const proofLife = 15 * time.Minute

// win marks a proof's challenge accepted, for the one caller that wins, and returns it.
func (t Tx) win(ctx context.Context, p Proof) (rows.Challenge, error) {
	var none rows.Challenge
	if err := t.ok(); err != nil {
		return none, err
	}
	now := t.s.p.Now()
	if p.challenge == "" || now.Sub(p.at) > proofLife {
		return none, ErrExpired
	}
	won, err := t.rows().Accept(ctx, p.challenge, p.action, now)
	if err == nil {
		_, err = t.s.p.ChallengeKey(won)
		return won, unusable(err)
	}
	if !errors.Is(err, rows.ErrNotFound) {
		return none, err
	}
	c, err := t.rows().ChallengeOf(ctx, p.challenge)
	switch {
	case errors.Is(err, rows.ErrNotFound):
		err = ErrExpired
	case err == nil && c.State == proof.Accepted:
		err = ErrUsed
	case err == nil: // ended since it was proven, or its account is frozen
		err = ErrCalledOff
	}
	return none, err
}

// accepted returns the line of the trail that says so.
func (p Proof) accepted(ctx context.Context, now time.Time) rows.Step {
	return rows.Step{
		Challenge: p.challenge, Subject: p.subject, Mailbox: p.address.Mailbox(), At: now, What: "accepted",
		Outcome: p.purpose, Network: flow.Network(ctx),
	}
}

// Accept makes a proof effective in the application's transaction: the challenge is accepted and the address confirmed
// for its subject. Of all callers with proofs of one challenge exactly one succeeds; the others get [ErrUsed], or
// [ErrCalledOff] if it was ended since. After a rollback Accept may be called again with the same proof. [ErrTaken],
// [ErrExpired] and [ErrInvalid], of a challenge that somebody else has written to, mean: roll back. A change of
// address is then made, and its old address confirms nothing any more.
//
// counts tells whether the address is confirmed now. It is false while the account is frozen, because a change of its
// address was taken back. The proof then counts when somebody decides who keeps the account. Commit in either case, and
// make writes of your own only if counts is true.
//
// It refuses with [ErrPurpose] what has an own call: sign-ins ([Tx.AcceptSignIn]), proofs that are good for one action
// only ([Tx.AcceptAction]), and signups whose account is still to be made ([Tx.AcceptRegistration]).
func (t Tx) Accept(ctx context.Context, p Proof) (counts bool, err error) {
	if p.purpose == challenge.SignIn || p.action != "" || p.sealed || p.challenge != "" && p.subject == "" {
		return false, ErrPurpose
	}
	won, err := t.win(ctx, p)
	if err != nil {
		return false, err
	}
	now := t.s.p.Now()
	switch p.purpose {
	case challenge.Reverify:
		frozen, err := t.makeChange(ctx, won)
		if err != nil || frozen {
			return false, errors.Join(err, t.rows().Record(ctx, p.accepted(ctx, now)))
		}
	case challenge.Signup:
		one, err := t.rows().OnlyOne(ctx, p.subject, won.Ticket)
		if err != nil {
			return false, err
		}
		*p.contested = !one || !p.here
		if t.s.welcome {
			if err := t.addWelcome(ctx, won, now); err != nil {
				return false, err
			}
		}
	}
	err = t.confirm(ctx, p, now)
	return err == nil, err
}

// addWelcome adds the letter that follows a confirmed signup.
func (t Tx) addWelcome(ctx context.Context, c rows.Challenge, now time.Time) error {
	data, err := json.Marshal(map[string]string{"name": c.Name})
	if err != nil {
		return err
	}
	return t.rows().InsertDelivery(ctx, rows.Delivery{
		ID: flow.NewID(), Letter: flow.WelcomeLetter, Locale: c.Locale, Address: c.Address, Name: c.Name,
		Data: string(data), Lane: rows.Normal, Created: now, Due: now, Trace: outbox.Trace(ctx),
	})
}

// confirm records the address of an accepted proof as confirmed.
func (t Tx) confirm(ctx context.Context, p Proof, now time.Time) error {
	taking, err := t.rows().Confirm(ctx, p.address.String(), t.s.p.Thumbs(p.address.Mailbox()), p.accepted(ctx, now))
	switch {
	case err != nil:
		return err
	case taking == rows.Others:
		return ErrTaken
	case taking == rows.Had && p.purpose == challenge.Signup: // by another browser that has registered it
		return ErrUsed
	}
	return nil
}

// Confirm proves a link and accepts it in one call, for signups, changes of address and purposes of the application's
// own: apply, which may be nil, makes the application's own writes, in the same commit. It runs for the one caller that
// wins, and not while the account is frozen (see [Tx.Accept]). Errors are those of [Service.ProveLink], [Tx.Accept] and
// apply, after any of which nothing has changed.
func (s *Service) Confirm(ctx context.Context, link Link, apply func(ctx context.Context, tx Tx, p Proof) error) error {
	p, err := s.ProveLink(ctx, link)
	if err != nil {
		return err
	}
	return s.acceptInTx(ctx, p, apply)
}

// ConfirmFrom is Confirm for a browser that has a ticket, so that apply can tell whether it is the one that began
// ([Proof.SameBrowser]).
func (s *Service) ConfirmFrom(ctx context.Context, ticket Ticket, link Link,
	apply func(ctx context.Context, tx Tx, p Proof) error) error {
	p, err := s.ProveLinkFrom(ctx, ticket, link)
	if err != nil {
		return err
	}
	return s.acceptInTx(ctx, p, apply)
}

// ConfirmCode is Confirm for a code. The try stays spent after every outcome.
func (s *Service) ConfirmCode(ctx context.Context, ticket Ticket, code string,
	apply func(ctx context.Context, tx Tx, p Proof) error) error {
	p, err := s.Prove(ctx, ticket, code)
	if err != nil {
		return err
	}
	return s.acceptInTx(ctx, p, apply)
}

func (s *Service) acceptInTx(ctx context.Context, p Proof,
	apply func(ctx context.Context, tx Tx, p Proof) error) error {
	return s.Transact(ctx, func(ctx context.Context, tx Tx) error {
		counts, err := tx.Accept(ctx, p)
		if err != nil || !counts || apply == nil {
			return err
		}
		return apply(ctx, tx, p)
	})
}

// Confirmed reports whether the subject has a confirmed address, or one that is asked again and has its time of grace,
// and is not frozen. A sign-in asks this.
func (s *Service) Confirmed(ctx context.Context, subject string) (bool, error) {
	address, err := s.Address(ctx, subject)
	return address != "", err
}

// Address returns the subject's confirmed address, the latest where there are several, or one that is asked again and
// has its time of grace. It is "" if there is none, and while the account is frozen.
func (s *Service) Address(ctx context.Context, subject string) (string, error) {
	address, err := s.p.Store.ReliedAddress(ctx, subject, s.p.Now())
	if errors.Is(err, rows.ErrNotFound) {
		return "", nil
	}
	return address, err
}
