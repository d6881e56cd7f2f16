package illumicode

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"github.com/illumicode/illumicode/core/challenge"
	"github.com/illumicode/illumicode/core/message"
	"github.com/illumicode/illumicode/core/otp"
	"github.com/illumicode/illumicode/core/token"
	"github.com/illumicode/illumicode/store"
)

// A Proof says that somebody has shown control of an address. It is made by [Service.Prove] and
// [Service.ProveLink] only, and becomes effective by [Tx.Accept] within a quarter of an hour.
type Proof struct {
	challenge string
	subject   string
	address   message.Address
	by        challenge.Form
	at        time.Time
}

// Subject returns the application's identifier of the account.
func (p Proof) Subject() string { return p.subject }

// Address returns the proven address, as it was given at the signup.
func (p Proof) Address() string { return p.address.String() }

// By returns the form of the proof: a code proves the browser that began, a link any browser.
func (p Proof) By() challenge.Form { return p.by }

// proofLife bounds the time between proving and accepting.
const proofLife = 15 * time.Minute

// Prove checks a code as a person typed it, against the challenge of a ticket.
//
// A try is spent, in a transaction of its own, before the comparison, which takes constant time;
// nothing gives it back. The error matches [ErrNotACode] (no try spent), [ErrWrongCode] (get the
// tries left with errors.AsType[*WrongCodeError]), [ErrNoTries], [ErrExpired], [ErrUsed],
// [ErrInvalid] for an unknown ticket, or [ErrStuck]. A code proven again before it is accepted
// costs another try.
func (s *Service) Prove(ctx context.Context, ticket, code string) (Proof, error) {
	c, err := s.byTicket(ctx, ticket)
	if err != nil {
		return Proof{}, err
	}
	if err := outcomeError(c.Judge(challenge.Code, s.now())); err != nil {
		return Proof{}, err
	}
	typed, err := otp.Parse(code, c.Digits)
	if err != nil {
		return Proof{}, ErrNotACode
	}
	err = s.own(ctx, func(ctx context.Context) error {
		c, err = s.store.SpendTry(ctx, digest(ticket))
		return err
	})
	if errors.Is(err, store.ErrNotFound) { // accepted meanwhile, or no try left
		if c, err = s.byTicket(ctx, ticket); err == nil && c.State == challenge.Accepted {
			return Proof{}, ErrUsed
		}
		return Proof{}, ErrNoTries
	}
	if err != nil {
		return Proof{}, err
	}
	now := s.now()
	key, err := s.keys.Key(c.Kid, now)
	if err != nil {
		return Proof{}, ErrExpired // its key was retired; a new signup helps
	}
	fits := false
	for _, g := range c.Generations(now) {
		fits = otp.Equal(otp.Derive(key.CodeKey(), c.ID, g, c.Digits), typed) || fits
	}
	if !fits || c.Decoy {
		return Proof{}, &WrongCodeError{TriesLeft: c.TriesAllowed - c.Tries}
	}
	return s.proven(ctx, c, challenge.Code)
}

// ProveLink checks the token of a link. It costs no try: a signature cannot be guessed. It
// changes nothing that a second call would notice, so a mail scanner may follow the link; only
// [Tx.Accept] acts. The error matches [ErrInvalid], [ErrExpired], [ErrUsed] or [ErrStuck].
func (s *Service) ProveLink(ctx context.Context, link string) (Proof, error) {
	c, err := s.byLink(ctx, link)
	if err != nil {
		return Proof{}, err
	}
	return s.proven(ctx, c, challenge.Link)
}

// Inspect returns what a link would confirm, for the page that asks before it acts. Its errors
// are those of [Service.ProveLink]; with [ErrExpired] and [ErrUsed] the Pending is filled in.
func (s *Service) Inspect(ctx context.Context, link string) (Pending, error) {
	c, err := s.byLink(ctx, link)
	return pendingOf(c.Challenge), err
}

// byLink returns the challenge that a link names, if the link may still be used for it. With
// [ErrExpired] and [ErrUsed] the challenge is returned too, if it is still known.
func (s *Service) byLink(ctx context.Context, link string) (c store.Challenge, err error) {
	now := s.now()
	claims, tokenErr := s.links.Verify(link, now)
	if tokenErr != nil && !errors.Is(tokenErr, token.ErrExpired) {
		return c, fmt.Errorf("%w: %w", ErrInvalid, tokenErr)
	}
	err = s.own(ctx, func(ctx context.Context) error {
		c, err = s.store.Challenge(ctx, claims.Challenge)
		return err
	})
	if errors.Is(err, store.ErrNotFound) {
		return c, ErrInvalid
	}
	if err != nil {
		return c, err
	}
	key, err := s.keys.Key(claims.KeyID(), now)
	if err != nil || c.Decoy || c.Kid != claims.KeyID() || key.Thumbprint(c.Address) != claims.Address {
		return store.Challenge{}, ErrInvalid // the address of the challenge is not the one the link was sent to
	}
	if err := outcomeError(c.Judge(challenge.Link, now)); err != nil {
		return c, err
	}
	if tokenErr != nil {
		return c, ErrExpired
	}
	return c, nil
}

// proven records that a proof was seen and returns it.
func (s *Service) proven(ctx context.Context, c store.Challenge, by challenge.Form) (Proof, error) {
	now := s.now()
	err := s.own(ctx, func(ctx context.Context) error { return s.store.MarkProved(ctx, c.ID, by, now) })
	if err != nil {
		return Proof{}, err
	}
	address, err := message.ParseRecipient(c.Address)
	if err != nil {
		return Proof{}, err
	}
	return Proof{challenge: c.ID, subject: c.Subject, address: address, by: by, at: now}, nil
}

func outcomeError(o challenge.Outcome) error {
	switch o {
	case challenge.AlreadyDone:
		return ErrUsed
	case challenge.Expired:
		return ErrExpired
	}
	return nil
}

// Accept makes a proof effective in the application's transaction: the challenge is accepted and
// the address confirmed for its subject. Of all callers with proofs of one challenge exactly one
// succeeds; the others get [ErrUsed]. After a rollback Accept may be called again with the same
// proof. [ErrHeld] and [ErrExpired] mean: roll back.
func (t Tx) Accept(ctx context.Context, p Proof) error {
	now := t.s.now()
	if p.challenge == "" || now.Sub(p.at) > proofLife {
		return ErrExpired
	}
	won, err := t.rows.Accept(ctx, p.challenge, now)
	if err != nil {
		return err
	}
	if !won {
		return ErrUsed
	}
	held, err := t.rows.Confirm(ctx, p.subject, p.address.String(), p.address.Mailbox(), now)
	if err != nil {
		return err
	}
	if !held {
		return ErrHeld
	}
	return nil
}

// Confirm proves a link and accepts it in one call: apply, which may be nil, makes the
// application's own writes, in the same commit. It runs for the one caller that wins. Errors
// are those of [Service.ProveLink], [Tx.Accept] and apply, after any of which nothing has
// changed.
func (s *Service) Confirm(ctx context.Context, link string, apply func(tx *sql.Tx, p Proof) error) error {
	p, err := s.ProveLink(ctx, link)
	if err != nil {
		return err
	}
	return s.acceptInTx(ctx, p, apply)
}

// ConfirmCode is Confirm for a code. Whatever happens afterwards, the try is spent.
func (s *Service) ConfirmCode(ctx context.Context, ticket, code string, apply func(tx *sql.Tx, p Proof) error) error {
	p, err := s.Prove(ctx, ticket, code)
	if err != nil {
		return err
	}
	return s.acceptInTx(ctx, p, apply)
}

func (s *Service) acceptInTx(ctx context.Context, p Proof, apply func(tx *sql.Tx, p Proof) error) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		if err := s.In(tx).Accept(ctx, p); err != nil || apply == nil {
			return err
		}
		return apply(tx, p)
	})
}

// Confirmed reports whether the subject has a confirmed address. It is the question of a sign-in.
func (s *Service) Confirmed(ctx context.Context, subject string) (bool, error) {
	addresses, err := s.store.Addresses(ctx, subject)
	for _, a := range addresses {
		if a.Standing == store.Confirmed {
			return true, err
		}
	}
	return false, err
}
