package illumicode

import (
	"context"
	"database/sql"
	"errors"
	"strconv"
	"time"

	"github.com/illumicode/illumicode/core/challenge"
	"github.com/illumicode/illumicode/core/message"
	"github.com/illumicode/illumicode/store"
)

// SignIn sends a code to who holds an address, so that they can sign in with it.
//
// The answer is the same, after the same statements, whether anybody has an account under the
// address: where nobody has, a decoy is begun, whose code nothing fits and whose letter is not sent
// (or, with Config.TellOwner, says that there is no account). The letter goes to the address as it
// was confirmed, not as it was typed.
//
// A stranger who knows the address can make letters go out to it, but not lock its owner out: at
// most [challenge.MaxOpen] challenges of unknown browsers are open for an address at a time, none of
// them is ended by another, and a browser that has signed in before (Request.Browser) has as many
// of its own. With Request.Ticket a browser's new challenge takes the place of its earlier one, after
// the wait that a resend has: it is one more letter. Pending shows the address as it was typed. The
// error matches [message.ErrAddress] or [ErrTooSoon], which says when there is room for another.
func (s *Service) SignIn(ctx context.Context, r Request) (Pending, error) {
	r.Purpose = challenge.SignIn
	var p Pending
	err := s.admitted(ctx, r, func(ctx context.Context, t Tx, a Admission) error {
		now, mailbox := s.now(), a.address.Mailbox()
		browser := s.knownBrowser(r.Browser, mailbox)
		earlier := ""
		if r.Ticket != "" {
			earlier = digest(r.Ticket)
		}
		// The row of its failures is what all sign-ins of an address wait for, one after another.
		failures, err := t.rows.BeginByFailures(ctx, "address:"+mailbox, now)
		if err != nil {
			return err
		}
		st := start{purpose: challenge.SignIn, browser: browser, typed: a.address.String()}
		others, err := t.beside(ctx, mailbox, browser, earlier, &st)
		if err != nil {
			return err
		}
		if ok, at := challenge.Room(others, now); !ok {
			return &TooSoonError{At: at}
		}
		if browser == "" {
			st.tries = s.purposes[challenge.SignIn].Policy.TriesAfter(failures.Count(now))
		}
		owner, err := t.rows.Owner(ctx, mailbox)
		stored := owner.Address
		if errors.Is(err, store.ErrNotFound) {
			st.decoy, st.letter, stored = true, unknownLetter, st.typed
		} else if err != nil {
			return err
		}
		st.subject = owner.Subject
		to := a
		if to.address, err = message.ParseRecipient(stored); err != nil {
			return err
		}
		to.address.Name = a.address.Name
		if r.Locale == "" {
			to.locale = s.Locale(owner.Locale)
		}
		p, err = t.begin(ctx, to, st)
		return err
	})
	if err != nil {
		return Pending{}, err
	}
	return p, nil
}

// beside returns the sign-ins that a new one has to fit beside: those of the same known browser, or
// all of unknown ones. The open one of the earlier ticket is called off, and st goes on where it was on
// the ladder of resends.
func (t Tx) beside(ctx context.Context, mailbox, browser, earlier string, st *start) ([]challenge.Challenge, error) {
	now := t.s.now()
	all, err := t.rows.Lately(ctx, mailbox, challenge.SignIn, now)
	if err != nil {
		return nil, err
	}
	var others []challenge.Challenge
	for _, c := range all {
		switch {
		case c.Ticket == earlier && c.State == challenge.Open:
			if now.Before(c.ResendAfter) {
				return nil, &TooSoonError{At: c.ResendAfter}
			}
			if _, err := t.callOff(ctx, c, challenge.Superseded); err != nil {
				return nil, err
			}
			st.resends = c.Resends + 1
		case c.Browser == browser:
			others = append(others, c.Challenge)
		}
	}
	return others, nil
}

// A SignedIn is what an accepted sign-in gives the application.
type SignedIn struct {
	Subject string
	Address string

	// Browser makes this browser known: keep it in a cookie of its own for [KnownFor], and give it
	// to later sign-ins in Request.Browser. It signs nobody in.
	Browser string
}

// KnownFor is how long a browser stays known after a sign-in.
const KnownFor = 180 * 24 * time.Hour

// sealBrowser is what the value that makes a browser known is sealed for.
const sealBrowser = "browser"

// knownBrowser returns the id of the browser that a value makes known for a mailbox, or "".
func (s *Service) knownBrowser(sealed, mailbox string) string {
	if sealed == "" {
		return ""
	}
	values, err := s.keys.Unseal(sealBrowser, sealed, s.now())
	if err != nil || len(values) != 3 || values[1] != mailbox {
		return ""
	}
	seconds, err := strconv.ParseInt(values[2], 10, 64)
	if err != nil || s.now().After(time.Unix(seconds, 0).Add(KnownFor)) {
		return ""
	}
	return values[0]
}

// AcceptSignIn is [Tx.Accept] for sign-ins: of all callers with proofs of one challenge exactly one
// may make a session. The error matches [ErrUsed], [ErrCalledOff], [ErrExpired], [ErrOtherBrowser], or
// [ErrPurpose] for a proof of anything else.
func (t Tx) AcceptSignIn(ctx context.Context, p Proof) (SignedIn, error) {
	switch {
	case p.purpose != challenge.SignIn:
		return SignedIn{}, ErrPurpose
	case !p.here:
		return SignedIn{}, ErrOtherBrowser
	}
	if err := t.accept(ctx, p); err != nil {
		return SignedIn{}, err
	}
	now := t.s.now()
	if err := t.confirm(ctx, p, now); err != nil {
		return SignedIn{}, err
	}
	browser := t.s.keys.Active().Seal(sealBrowser, newID(), p.address.Mailbox(), strconv.FormatInt(now.Unix(), 10))
	return SignedIn{Subject: p.subject, Address: p.Address(), Browser: browser}, nil
}

// SignInCode proves a code and accepts the sign-in in one call. apply, which may be nil, makes the
// application's own writes, such as its session, in the same commit; it runs for the one caller that
// wins. Whatever happens afterwards, the try is spent. Errors are those of [Service.Prove],
// [Tx.AcceptSignIn] and apply.
func (s *Service) SignInCode(ctx context.Context, ticket, code string, apply func(tx *sql.Tx, who SignedIn) error) (SignedIn, error) {
	p, err := s.Prove(ctx, ticket, code)
	if err != nil {
		return SignedIn{}, err
	}
	return s.signInTx(ctx, p, apply)
}

// SignInLink is SignInCode for a link, opened in the browser that began and has the ticket; in every
// other the error is [ErrOtherBrowser].
func (s *Service) SignInLink(ctx context.Context, ticket, link string, apply func(tx *sql.Tx, who SignedIn) error) (SignedIn, error) {
	p, err := s.ProveLinkFrom(ctx, ticket, link)
	if err != nil {
		return SignedIn{}, err
	}
	return s.signInTx(ctx, p, apply)
}

func (s *Service) signInTx(ctx context.Context, p Proof, apply func(tx *sql.Tx, who SignedIn) error) (who SignedIn, err error) {
	err = s.inTx(ctx, func(tx *sql.Tx) error {
		if who, err = s.In(tx).AcceptSignIn(ctx, p); err != nil || apply == nil {
			return err
		}
		return apply(tx, who)
	})
	if err != nil {
		return SignedIn{}, err
	}
	return who, nil
}
