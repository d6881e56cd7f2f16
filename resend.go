package illumicode

import (
	"context"
	"errors"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/limits"
	rows "github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/limit"
	"github.com/illumicode/illumicode/message"
)

// ResendForBrowser sends the letter of a ticket's challenge again, with the same proof while that has a useful life
// left, and with a fresh one until the hard cap. A letter that still waits gives way to the new one. Once the tries of
// a code are used up, a new challenge begins instead, and Pending has its ticket; for a change of address only the link
// is left then, and the error is [ErrNoTries]. The limits hold: [TooSoonError] says when it will do. The error matches
// [ErrTooSoon], [ErrNoTries], [ErrUsed], [ErrCalledOff], [ErrExpired] or [ErrInvalid].
func (s *Service) ResendForBrowser(ctx context.Context, ticket Ticket) (Pending, error) {
	c, err := s.byTicket(ctx, ticket)
	if err != nil {
		return Pending{}, err
	}
	if c.Burnt() && c.State == proof.Open && s.p.Now().Before(c.Ends) {
		return s.anew(ctx, c, ticket)
	}
	p, err := s.resend(ctx, c, limits.ByPerson)
	p.Ticket = ticket
	return p, err
}

// ResendForReader is ResendForBrowser for somebody who has a link from the letter, such as one whose life is over: the
// letter goes to the same address. It has no code once the tries are used up. After the hard cap the error is
// [ErrExpired].
func (s *Service) ResendForReader(ctx context.Context, link Link) (Pending, error) {
	c, err := s.byLink(ctx, link)
	if err != nil && (!errors.Is(err, ErrExpired) || c.ID == "") {
		return Pending{}, err
	}
	return s.resend(ctx, c, limits.ByPerson)
}

// ResendForSubject is ResendForBrowser for a subject whom the application knows by other means, such as a password just
// checked. After the hard cap a new signup begins, and only then Pending has a ticket, for the browser that asked. The
// error matches [ErrNothingPending], [ErrTooSoon], [ErrNoTries] or [ErrUsed].
func (s *Service) ResendForSubject(ctx context.Context, subject string) (Pending, error) {
	var c rows.Challenge
	err := flow.Own(ctx, func(ctx context.Context) (err error) {
		c, err = s.p.Store.OpenChallenge(ctx, subject, challenge.Signup)
		return err
	})
	if err := s.waits(c, err); err != nil {
		return Pending{}, err
	}
	if s.p.Now().Before(c.Ends) { // of the browser that began, which goes on
		return s.resend(ctx, c, limits.ByApplication)
	}
	r := Request{Address: c.Address, Name: c.Name, Locale: c.Locale, Subject: subject}
	admission, err := s.admitFor(ctx, r)
	if err != nil {
		return Pending{}, err
	}
	var p Pending
	err = s.Transact(ctx, func(ctx context.Context, tx Tx) (err error) {
		p, err = tx.BeginSignup(ctx, admission, subject)
		return err
	})
	if err != nil {
		s.p.Limits.Refund(ctx, admission.spent)
	}
	return p, err
}

// ResendForOwner is ResendForBrowser for an operator whom the owner of an address asked for help: the letter of the
// latest challenge that waits there goes out again. The limits refuse it nothing; the challenge's own wait holds, as it
// keeps two letters from crossing. The error matches [ErrNothingPending], or those of ResendForBrowser.
func (s *Service) ResendForOwner(ctx context.Context, address string) (Pending, error) {
	to, err := flow.KnownRecipient(address)
	if err != nil {
		return Pending{}, err
	}
	c, err := s.p.Store.OpenAt(ctx, to.Mailbox(), s.p.Now())
	if err := s.waits(c, err); err != nil {
		return Pending{}, err
	}
	return s.resend(ctx, c, limits.ByOperator)
}

// waits returns [ErrNothingPending] for a challenge that was not found, or that cannot be used: its key was retired, or
// somebody has written to its row. Other errors of looking for it are returned as they are.
func (s *Service) waits(c rows.Challenge, err error) error {
	switch {
	case errors.Is(err, rows.ErrNotFound):
		return ErrNothingPending
	case err != nil:
		return err
	}
	if _, err := s.p.ChallengeKey(c); err != nil {
		return ErrNothingPending
	}
	return nil
}

// resend decides and writes. If another resend of the same challenge comes in between, the decision is taken again on
// the new row, and is then to wait. What it spends does not depend on what became of letters: that would tell whether
// any are sent.
func (s *Service) resend(ctx context.Context, c rows.Challenge, by limits.Asker) (Pending, error) {
	r := c.Resend(s.p.Purposes[c.Purpose].Policy, s.p.Now())
	switch {
	case c.State == proof.Accepted:
		return pendingOf(c.Challenge), ErrUsed
	case c.State == proof.Ended && c.Why != proof.Lapsed:
		return pendingOf(c.Challenge), ErrCalledOff
	case !r.Allowed && r.At.IsZero():
		return pendingOf(c.Challenge), ErrExpired
	case c.Burnt() && !c.Forms.Has(challenge.Link):
		return pendingOf(c.Challenge), ErrNoTries
	case !r.Allowed:
		return pendingOf(c.Challenge), &TooSoonError{At: r.At}
	}
	to, err := message.ParseRecipient(c.Address)
	if err != nil {
		return Pending{}, err
	}
	began, err := s.began(ctx, c)
	if err != nil {
		return Pending{}, err
	}
	known, err := s.counted(ctx, began)
	if err != nil {
		return Pending{}, err
	}
	asking := flow.LimitRequest{To: to, Purpose: c.Purpose, Subject: c.Subject, Known: known, Stage: limit.Again}
	spent, _, err := s.spend(ctx, spending{s.p.Keyed(ctx, asking), to, c.ID, by})
	if err != nil {
		return pendingOf(c.Challenge), err
	}
	written, err := s.writeResend(ctx, c, again{r.Next, by})
	if err != nil || !written {
		s.p.Limits.Refund(ctx, spent)
	}
	if err != nil {
		return Pending{}, err
	}
	if !written {
		if c, err = s.p.Store.Challenge(ctx, c.ID); err != nil {
			return Pending{}, err
		}
		return s.resend(ctx, c, by)
	}
	s.Wake()
	return pendingOf(r.Next), nil
}

// An again is a resend that was decided.
type again struct {
	next proof.Challenge
	by   limits.Asker
}

// writeResend writes a resend, in a transaction of its own, and reports whether it did.
func (s *Service) writeResend(ctx context.Context, c rows.Challenge, what again) (written bool, err error) {
	err = flow.Own(ctx, func(ctx context.Context) error {
		return s.p.Store.Write(ctx, func(t rows.Tx) (err error) {
			written, err = s.sendAgain(ctx, t, c, what)
			return err
		})
	})
	return written, err
}

// sendAgain writes a resend, and reports whether it did: not if another was faster. An earlier letter that still waits
// gives way to the new one when its turn comes: so the same is written whether letters go out or not.
func (s *Service) sendAgain(ctx context.Context, t rows.Tx, c rows.Challenge, what again) (written bool, err error) {
	now := s.p.Now()
	if written, err = t.Resend(ctx, what.next); err != nil || !written {
		return written, err
	}
	if err := t.Record(ctx, c.StepOf("resent", "for the "+string(what.by), flow.Network(ctx), now)); err != nil {
		return false, err
	}
	c.Challenge = what.next
	letter := s.letterFor(ctx, c, now)
	letter.AskedBy = rows.SentAgain + string(what.by)
	return true, t.InsertDelivery(ctx, letter)
}
