package illumicode

import (
	"cmp"
	"context"
	"errors"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/internal/flow"
	rows "github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/message"
)

// SignIn sends a code to the holder of an address, so that they can sign in with it.
//
// The answer is the same, after the same statements, whether anybody has an account under the address: where nobody
// has, a decoy is begun, which no code fits and whose letter is not sent (or, with Config.TellOwner, says that there is
// no account). The letter goes to the address as it was confirmed, not as it was typed.
//
// A stranger who knows the address can make letters go out to it, but not lock its owner out: at most three challenges
// of unknown browsers are open for an address at a time, none of them is ended by another, and a browser that has
// signed in before (Request.Browser) has as many of its own. With Request.Ticket a browser's new challenge takes the
// place of its earlier one, after the wait that a resend has: it is one more letter. Pending shows the address as it
// was typed. The error matches [message.ErrAddress] or [ErrTooSoon], which says when there is room for another.
func (s *Service) SignIn(ctx context.Context, r Request) (Pending, error) {
	r.Purpose = challenge.SignIn
	var p Pending
	err := s.admitted(ctx, r, func(ctx context.Context, t Tx, a Admission) (err error) {
		p, err = t.beginSignIn(ctx, a, start{device: r.Device, locale: r.Locale})
		return err
	})
	if err != nil {
		return Pending{}, err
	}
	return p, nil
}

// beginSignIn begins a sign-in. st says which browser asks, and how often it has before: with a ticket of its own,
// beside the challenge of the admission's, and else in its place.
func (t Tx) beginSignIn(ctx context.Context, a Admission, st start) (Pending, error) {
	now, mailbox := t.s.p.Now(), a.address.Mailbox()
	// The row of its failures is what all sign-ins of an address wait for, one after another.
	failures, err := t.rows().BeginByFailures(ctx, "address:"+mailbox, now)
	if err != nil {
		return Pending{}, err
	}
	owner, err := t.rows().Owner(ctx, mailbox)
	if err != nil && !errors.Is(err, rows.ErrNotFound) {
		return Pending{}, err
	}
	st.purpose, st.typed, st.subject = challenge.SignIn, a.address.String(), owner.Subject
	if owner.Subject != "" && a.browser.Subject == owner.Subject { // the mailbox has not gone to somebody else
		st.browser = a.browser.ID
	}
	earlier := a.ticket
	if st.ticket != "" {
		earlier = ""
	}
	others, err := t.neighbours(ctx, mailbox, earlier, &st)
	if err != nil {
		return Pending{}, err
	}
	few := a.few
	if ok, at := proof.Room(others, now); !ok {
		if st.browser == "" {
			if few, err = t.s.few(ctx, t.rows(), mailbox, cmp.Or(flow.Network(ctx), a.network)); err != nil {
				return Pending{}, err
			}
		}
		if !few {
			return Pending{}, &TooSoonError{At: at}
		}
	}
	if st.browser == "" {
		st.tries = proof.TriesAfter(t.s.p.Purposes[challenge.SignIn].Policy, failures.Count(now))
		if few { // however many networks there are, guesses stay few: the link of the letter costs none
			st.tries = 1
		}
	}
	stored := owner.Address
	if owner.Subject == "" {
		st.decoy, st.letter, stored = true, flow.UnknownLetter, st.typed
	}
	to := a
	if to.address, err = message.ParseRecipient(stored); err != nil {
		return Pending{}, err
	}
	to.address.Name = a.address.Name
	if st.locale == "" {
		to.locale = t.s.Locale(owner.Locale)
	}
	return t.begin(ctx, to, st)
}

// neighbours returns the sign-ins that a new one has to fit beside: those of the same known browser, or all of unknown
// ones. The open one of the earlier ticket is called off, and st goes on where it was on the ladder of resends.
func (t Tx) neighbours(ctx context.Context, mailbox string, earlier Ticket, st *start) ([]proof.Challenge, error) {
	stored := ""
	if earlier != "" {
		stored = flow.Digest(string(earlier))
	}
	now := t.s.p.Now()
	all, err := t.rows().Lately(ctx, mailbox, challenge.SignIn, now)
	if err != nil {
		return nil, err
	}
	var others []proof.Challenge
	for _, c := range all {
		switch {
		case c.Ticket == stored && c.State == proof.Open:
			if now.Before(c.ResendAfter) {
				return nil, &TooSoonError{At: c.ResendAfter}
			}
			if _, err := t.s.p.CallOff(ctx, t.rows(), c, proof.Superseded); err != nil {
				return nil, err
			}
			st.resends = c.Resends + 1
		case c.Origin != "": // has places of its own
		case c.Browser == st.browser:
			others = append(others, c.Challenge)
		}
	}
	return others, nil
}

// A SignedIn is what an accepted sign-in gives the application.
type SignedIn struct {
	Subject string
	Address string

	// Browser makes this browser known: keep it in a cookie of its own for 180 days, and give it to later sign-ins in
	// Request.Browser. It signs nobody in, and counts until the browser is revoked; see [Service.Browsers].
	Browser string
}

// AcceptSignIn is [Tx.Accept] for sign-ins: of all callers with proofs of one challenge exactly one may make a session.
// The error matches [ErrUsed], [ErrCalledOff], [ErrExpired], [ErrOtherBrowser], or [ErrPurpose] for a proof of anything
// else.
func (t Tx) AcceptSignIn(ctx context.Context, p Proof) (SignedIn, error) {
	if err := t.ok(); err != nil {
		return SignedIn{}, err
	}
	switch {
	case p.purpose != challenge.SignIn:
		return SignedIn{}, ErrPurpose
	case !p.here:
		return SignedIn{}, ErrOtherBrowser
	}
	won, err := t.win(ctx, p)
	if err != nil {
		return SignedIn{}, err
	}
	known, err := t.keep(ctx, won)
	if err != nil {
		return SignedIn{}, err
	}
	now := t.s.p.Now()
	if err := t.confirm(ctx, p, now); err != nil {
		return SignedIn{}, err
	}
	return SignedIn{Subject: p.subject, Address: p.Address(), Browser: t.s.p.SealBrowser(known)}, nil
}

// SignInCode proves a code and accepts the sign-in in one call. apply, which may be nil, makes the application's own
// writes, such as its session, in the same commit; it runs for the one caller that wins. The try stays spent after
// every outcome. Errors are those of [Service.Prove], [Tx.AcceptSignIn] and apply.
func (s *Service) SignInCode(ctx context.Context, ticket Ticket, code string,
	apply func(ctx context.Context, tx Tx, who SignedIn) error) (SignedIn, error) {
	p, err := s.Prove(ctx, ticket, code)
	if err != nil {
		return SignedIn{}, err
	}
	return s.signInTx(ctx, p, apply)
}

// SignInLink is SignInCode for a link, opened in the browser that began and has the ticket; in every other the error is
// [ErrOtherBrowser].
func (s *Service) SignInLink(ctx context.Context, ticket Ticket, link Link,
	apply func(ctx context.Context, tx Tx, who SignedIn) error) (SignedIn, error) {
	p, err := s.ProveLinkFrom(ctx, ticket, link)
	if err != nil {
		return SignedIn{}, err
	}
	return s.signInTx(ctx, p, apply)
}

func (s *Service) signInTx(ctx context.Context, p Proof, apply func(ctx context.Context, tx Tx, who SignedIn) error) (
	who SignedIn, err error) {
	err = s.Transact(ctx, func(ctx context.Context, tx Tx) error {
		if who, err = tx.AcceptSignIn(ctx, p); err != nil || apply == nil {
			return err
		}
		return apply(ctx, tx, who)
	})
	if err != nil {
		return SignedIn{}, err
	}
	return who, nil
}
