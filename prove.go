package illumicode

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/illumicode/illumicode/core/challenge"
	"github.com/illumicode/illumicode/core/message"
	"github.com/illumicode/illumicode/core/otp"
	"github.com/illumicode/illumicode/core/token"
	"github.com/illumicode/illumicode/outbox"
	"github.com/illumicode/illumicode/store"
)

// A Proof says that somebody has shown control of an address. It is made by [Service.Prove],
// [Service.ProveLink] and [Service.ProveLinkFrom] only, and becomes effective within a quarter of an
// hour: by [Tx.Accept], [Tx.AcceptSignIn] or [Tx.AcceptAction], as its purpose wants.
type Proof struct {
	challenge string
	purpose   string
	subject   string
	address   message.Address
	action    string
	by        challenge.Form
	here      bool
	at        time.Time
}

// Purpose returns what the challenge was for.
func (p Proof) Purpose() string { return p.purpose }

// Subject returns the application's identifier of the account.
func (p Proof) Subject() string { return p.subject }

// Address returns the proven address, as it was given at the beginning.
func (p Proof) Address() string { return p.address.String() }

// By returns the form of the proof.
func (p Proof) By() challenge.Form { return p.by }

// SameBrowser reports whether the proof came from the browser that began. A code always does; a link
// may be opened anywhere, and then nobody may be signed in there.
func (p Proof) SameBrowser() bool { return p.here }

// proofLife bounds the time between proving and accepting.
const proofLife = 15 * time.Minute

// Prove checks a code as a person typed it, against the challenge of a ticket.
//
// A try is spent, in a transaction of its own, before the comparison, which takes constant time;
// nothing gives it back. The error matches [ErrNotACode] (no try spent), [ErrWrongCode] (get the
// tries left with errors.AsType[*WrongCodeError]), [ErrNoTries], [ErrTooSoon] (no try spent: after
// many wrong codes at the address or from the network, a challenge's tries are some seconds apart),
// [ErrExpired], [ErrUsed], [ErrCalledOff], [ErrInvalid] for an unknown ticket, or [ErrStuck]. A code
// proven again before it is accepted costs another try.
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
	if err := s.mayTry(ctx, c); err != nil {
		return Proof{}, err
	}
	spent := c.Tries
	err = s.own(ctx, func(ctx context.Context) error {
		c, err = s.store.SpendTry(ctx, digest(ticket), spent, s.now())
		return err
	})
	if errors.Is(err, store.ErrNotFound) { // accepted meanwhile, no try left, or another was faster
		if c, err = s.byTicket(ctx, ticket); err != nil {
			return Proof{}, err
		}
		switch {
		case c.State != challenge.Open:
			return Proof{}, outcomeError(c.Judge(challenge.Code, s.now()))
		case c.Tries != spent && c.Tries < c.TriesAllowed:
			return s.Prove(ctx, ticket, code)
		}
		return Proof{}, ErrNoTries
	}
	if err != nil {
		return Proof{}, err
	}
	now := s.now()
	key, err := s.keys.Key(c.Kid, now)
	if err != nil {
		return Proof{}, ErrExpired // its key was retired; a new challenge helps
	}
	fits := false
	for _, g := range c.Generations(now) {
		fits = otp.Equal(otp.Derive(key.CodeKey(), c.ID, g, c.Digits), typed) || fits
	}
	if !fits || c.Decoy {
		if err := s.failed(ctx, c); err != nil {
			return Proof{}, err
		}
		return Proof{}, &WrongCodeError{TriesLeft: c.TriesAllowed - c.Tries}
	}
	return s.proven(ctx, c, challenge.Code, true)
}

// names returns under what a challenge's wrong codes are remembered: the address, or the known
// browser instead, which no stranger can slow down, and the network.
func names(ctx context.Context, c store.Challenge) []string {
	who := "address:" + c.Mailbox
	if c.Known {
		who = "browser:" + c.Browser
	}
	if from := network(ctx); from != "" {
		return []string{who, "network:" + from}
	}
	return []string{who}
}

// networkAllowance is how many times more wrong codes come from a network than from one person:
// many people share one.
const networkAllowance = 4

// mayTry refuses a try that comes too soon after the last one of the same challenge.
func (s *Service) mayTry(ctx context.Context, c store.Challenge) error {
	if c.Tried.IsZero() {
		return nil
	}
	now := s.now()
	for i, name := range names(ctx, c) {
		r, err := s.store.Failures(ctx, name)
		if err != nil {
			return err
		}
		count := r.Count(now)
		if i > 0 {
			count /= networkAllowance
		}
		if at := c.Tried.Add(challenge.Pause(count)); now.Before(at) {
			return &TooSoonError{At: at}
		}
	}
	return nil
}

// failed remembers a wrong code.
func (s *Service) failed(ctx context.Context, c store.Challenge) error {
	now := s.now()
	return s.own(ctx, func(ctx context.Context) error {
		return s.store.Write(ctx, func(t store.Tx) error {
			for _, name := range names(ctx, c) {
				r, err := t.LockFailures(ctx, name, now)
				if err == nil {
					err = t.SetFailures(ctx, name, r.Failed(now))
				}
				if err != nil {
					return err
				}
			}
			return t.Record(ctx, c.StepOf("tried", "wrong code", network(ctx), now))
		})
	})
}

// ProveLink checks the token of a link, opened in whatever browser. It costs no try: a signature
// cannot be guessed. It changes nothing that a second call would notice, so a mail scanner may
// follow the link; only accepting acts. The error matches [ErrInvalid], [ErrExpired], [ErrUsed],
// [ErrFrozen], [ErrCalledOff], [ErrStuck], or [ErrOtherBrowser] for a link that signs in.
func (s *Service) ProveLink(ctx context.Context, link string) (Proof, error) {
	return s.ProveLinkFrom(ctx, "", link)
}

// ProveLinkFrom is ProveLink for a browser that has a ticket, as its cookie said; "" for none. The
// ticket of another challenge counts as none.
func (s *Service) ProveLinkFrom(ctx context.Context, ticket, link string) (Proof, error) {
	c, err := s.byLink(ctx, link)
	if err != nil {
		return Proof{}, err
	}
	here := digest(ticket) == c.Ticket
	if c.Purpose == challenge.SignIn && !here {
		return Proof{}, ErrOtherBrowser
	}
	return s.proven(ctx, c, challenge.Link, here)
}

// Inspect returns what a link would confirm, for the page that asks before it acts. Its errors
// are those of [Service.ProveLink]; with [ErrExpired], [ErrUsed] and [ErrOtherBrowser] the Pending is
// filled in.
func (s *Service) Inspect(ctx context.Context, ticket, link string) (Pending, error) {
	c, err := s.byLink(ctx, link)
	if err == nil && c.Purpose == challenge.SignIn && digest(ticket) != c.Ticket {
		err = ErrOtherBrowser
	}
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
	if err != nil || c.Decoy || c.Kid != claims.KeyID() || key.Thumbprint(c.Address) != claims.Address ||
		c.Purpose != claims.Purpose || c.Action != claims.Action {
		return store.Challenge{}, ErrInvalid // the challenge is not the one that the link was sent for
	}
	err = outcomeError(c.Judge(challenge.Link, now))
	switch {
	case errors.Is(err, ErrUsed) && c.Purpose == challenge.Reverify:
		frozen, lookErr := s.store.AnyFrozen(ctx, c.Subject)
		if lookErr != nil {
			return c, lookErr
		}
		if frozen {
			return c, ErrFrozen
		}
	case err == nil && tokenErr != nil:
		return c, ErrExpired
	}
	return c, err
}

// proven records that a proof was seen and returns it.
func (s *Service) proven(ctx context.Context, c store.Challenge, by challenge.Form, here bool) (Proof, error) {
	now := s.now()
	err := s.own(ctx, func(ctx context.Context) error {
		return s.store.Write(ctx, func(t store.Tx) error {
			return t.MarkProved(ctx, c.ID, by, c.StepOf("proved", string(by), network(ctx), now))
		})
	})
	if err != nil {
		return Proof{}, err
	}
	address, err := message.ParseRecipient(c.Address)
	if err != nil {
		return Proof{}, err
	}
	return Proof{challenge: c.ID, purpose: c.Purpose, subject: c.Subject, address: address, action: c.Action, by: by, here: here, at: now}, nil
}

func outcomeError(o challenge.Outcome) error {
	switch o {
	case challenge.AlreadyDone:
		return ErrUsed
	case challenge.CalledOff:
		return ErrCalledOff
	case challenge.Expired:
		return ErrExpired
	case challenge.NotOffered:
		return ErrInvalid
	}
	return nil
}

// accept marks a proof's challenge accepted, for the one caller that wins.
func (t Tx) accept(ctx context.Context, p Proof) error {
	now := t.s.now()
	if p.challenge == "" || now.Sub(p.at) > proofLife {
		return ErrExpired
	}
	won, err := t.rows.Accept(ctx, p.challenge, p.action, now)
	if err != nil || won {
		return err
	}
	c, err := t.rows.ChallengeOf(ctx, p.challenge)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return ErrExpired
	case err == nil && c.State == challenge.Accepted:
		return ErrUsed
	case err == nil: // ended since it was proven, or its account is frozen
		return ErrCalledOff
	}
	return err
}

// accepted returns the line of the trail that says so.
func (p Proof) accepted(ctx context.Context, now time.Time) store.Step {
	return store.Step{Challenge: p.challenge, Subject: p.subject, Mailbox: p.address.Mailbox(), At: now, What: "accepted", Outcome: p.purpose, Network: network(ctx)}
}

// Accept makes a proof effective in the application's transaction: the challenge is accepted and
// the address confirmed for its subject. Of all callers with proofs of one challenge exactly one
// succeeds; the others get [ErrUsed], or [ErrCalledOff] if it was ended since or its account is frozen.
// After a rollback Accept may be called again with the same proof. [ErrHeld] and [ErrExpired] mean:
// roll back. A change of address is then made, and what was its old address confirms nothing any more. See
// [Tx.Frozen] before writes of your own.
//
// It refuses with [ErrPurpose] what has an own call: sign-ins ([Tx.AcceptSignIn]) and proofs that
// are good for one action only ([Tx.AcceptAction]).
func (t Tx) Accept(ctx context.Context, p Proof) error {
	if p.purpose == challenge.SignIn || p.action != "" {
		return ErrPurpose
	}
	if err := t.accept(ctx, p); err != nil {
		return err
	}
	now := t.s.now()
	switch p.purpose {
	case challenge.Reverify:
		frozen, err := t.makeChange(ctx, p)
		if err != nil || frozen {
			return errors.Join(err, t.rows.Record(ctx, p.accepted(ctx, now)))
		}
	case challenge.Signup:
		if t.s.welcome {
			if err := t.addWelcome(ctx, p, now); err != nil {
				return err
			}
		}
	}
	return t.confirm(ctx, p, now)
}

// Frozen reports whether an accepted proof confirms nothing yet, as a change of its account's address was
// taken back: it counts for [Tx.Settle] alone. Whoever calls [Tx.Accept] asks before writes of their own; the
// calls that take apply do so themselves.
func (t Tx) Frozen(ctx context.Context, p Proof) (bool, error) {
	if p.purpose != challenge.Reverify { // no other is accepted then
		return false, nil
	}
	return t.rows.AnyFrozen(ctx, p.subject)
}

// addWelcome adds the letter that follows a confirmed signup.
func (t Tx) addWelcome(ctx context.Context, p Proof, now time.Time) error {
	c, err := t.rows.ChallengeOf(ctx, p.challenge)
	if err != nil {
		return err
	}
	data, err := json.Marshal(map[string]string{"name": c.Name})
	if err != nil {
		return err
	}
	return t.rows.InsertDelivery(ctx, store.Delivery{ID: newID(), Letter: welcomeLetter, Locale: c.Locale, Address: c.Address, Name: c.Name,
		Data: string(data), Lane: store.Normal, Created: now, Due: now, Trace: outbox.Trace(ctx)})
}

// confirm records the address of an accepted proof as confirmed.
func (t Tx) confirm(ctx context.Context, p Proof, now time.Time) error {
	held, err := t.rows.Confirm(ctx, p.address.String(), t.s.thumbs(p.address.Mailbox()), p.accepted(ctx, now))
	if err != nil {
		return err
	}
	if !held {
		return ErrHeld
	}
	return nil
}

// Confirm proves a link and accepts it in one call, for signups, changes of address and purposes of
// the application's own: apply, which may be nil, makes the application's own writes, in the same
// commit. It runs for the one caller that wins, and not while the account is frozen ([Tx.Frozen]). Errors
// are those of [Service.ProveLink], [Tx.Accept] and apply, after any of which nothing has changed.
func (s *Service) Confirm(ctx context.Context, link string, apply func(tx *sql.Tx, p Proof) error) error {
	p, err := s.ProveLink(ctx, link)
	if err != nil {
		return err
	}
	return s.acceptInTx(ctx, p, apply)
}

// ConfirmFrom is Confirm for a browser that has a ticket, so that apply can tell whether it is the
// one that began ([Proof.SameBrowser]).
func (s *Service) ConfirmFrom(ctx context.Context, ticket, link string, apply func(tx *sql.Tx, p Proof) error) error {
	p, err := s.ProveLinkFrom(ctx, ticket, link)
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
	defer s.Wake() // a letter may have been written beside
	return s.inTx(ctx, func(tx *sql.Tx) error {
		t := s.In(tx)
		if err := t.Accept(ctx, p); err != nil || apply == nil {
			return err
		}
		if frozen, err := t.Frozen(ctx, p); err != nil || frozen {
			return err
		}
		return apply(tx, p)
	})
}

// Confirmed reports whether the subject has a confirmed address, or one that is asked again and has
// its time of grace, and is not frozen. It is the question of a sign-in.
func (s *Service) Confirmed(ctx context.Context, subject string) (bool, error) {
	address, err := s.Address(ctx, subject)
	return address != "", err
}

// Address returns the subject's confirmed address, the latest where there are several, or one that
// is asked again and has its time of grace; "" if there is none, or as long as a change of address that was
// taken back is not settled.
func (s *Service) Address(ctx context.Context, subject string) (string, error) {
	address, err := s.store.ReliedAddress(ctx, subject, s.now())
	if errors.Is(err, store.ErrNotFound) {
		return "", nil
	}
	return address, err
}
