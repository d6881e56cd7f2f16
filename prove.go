package illumicode

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/keyring"
	"github.com/illumicode/illumicode/internal/core/otp"
	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/internal/flow"
	rows "github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/limit"
	"github.com/illumicode/illumicode/message"
)

// A Proof says that somebody has shown control of an address. It is made by [Service.Prove], [Service.ProveLink] and
// [Service.ProveLinkFrom] only, and becomes effective within a quarter of an hour: by [Tx.Accept], [Tx.AcceptSignIn] or
// [Tx.AcceptAction], as its purpose wants.
type Proof struct {
	challenge string
	purpose   string
	subject   string
	address   message.Address
	action    string
	here      bool
	sealed    bool // its account is still to be made
	at        time.Time

	contested *bool // of a signup that was accepted
}

// Purpose returns what the challenge was for.
func (p Proof) Purpose() string { return p.purpose }

// Subject returns the application's identifier of the account.
func (p Proof) Subject() string { return p.subject }

// Address returns the proven address, as it was given at the beginning.
func (p Proof) Address() string { return p.address.String() }

// SameBrowser reports whether the proof came from the browser that began. A code always does; a link may be opened
// anywhere, and then nobody may be signed in there.
func (p Proof) SameBrowser() bool { return p.here }

// Contested reports whether somebody else may have registered the account of a signup, and may know its password: it is
// true unless every registration of the account came from the browser that has proven the address. So it is where the
// link was opened in another browser. It is known once the proof is accepted, and true before. Void the account's
// password and sessions where it is true: whoever registers somebody else's address first must own nothing.
func (p Proof) Contested() bool { return p.contested == nil || *p.contested }

// Prove checks a code as a person typed it, against the challenge of a ticket.
//
// A try is spent, in a transaction of its own, before the comparison, which takes constant time; nothing returns it.
// The error matches [ErrNotACode] (no try spent), [ErrWrongCode] (get the tries left with
// errors.AsType[*WrongCodeError]), [ErrNoTries], [ErrTooSoon] (no try spent: after many wrong codes at the address or
// from the network, a challenge's tries are some seconds apart), [ErrExpired] (after the hard cap; before it for a code
// that was right and is late, and that costs a try), [ErrUsed], [ErrCalledOff], [ErrInvalid] for an unknown ticket, or
// [ErrStuck]. A code proven again before it is accepted costs another try.
func (s *Service) Prove(ctx context.Context, ticket Ticket, code string) (Proof, error) {
	c, err := s.byTicket(ctx, ticket)
	if err != nil {
		return Proof{}, err
	}
	if err := outcomeError(c.Asked(challenge.Code, s.p.Now())); err != nil {
		return Proof{}, err
	}
	typed, err := otp.Parse(code, c.Digits)
	if err != nil {
		return Proof{}, ErrNotACode
	}
	if c.Burnt() { // whatever else it has to wait for
		return Proof{}, ErrNoTries
	}
	known, err := s.mayTry(ctx, c)
	switch {
	case errors.Is(err, ErrTooSoon) && s.movedOn(ctx, c, ticket): // what it waits for may have used up its tries
		return s.Prove(ctx, ticket, code)
	case err != nil:
		return Proof{}, err
	}
	right, err := s.guess(ctx, c, known)
	if err != nil {
		return Proof{}, err
	}
	spent := c.Tries
	err = flow.Own(ctx, func(ctx context.Context) error {
		c, err = s.p.Store.SpendTry(ctx, c.Ticket, spent, s.p.Now())
		return err
	})
	if errors.Is(err, rows.ErrNotFound) { // accepted meanwhile, no try left, or another was faster
		right(ctx) // no code was looked at
		return s.tryAgain(ctx, ticket, code, spent)
	}
	if err != nil {
		return Proof{}, err
	}
	switch fits, late, err := s.fits(c, typed); {
	case err != nil:
		return Proof{}, err
	case late:
		return Proof{}, ErrExpired
	case !fits:
		if err := s.failed(ctx, c, known); err != nil {
			return Proof{}, err
		}
		return Proof{}, &WrongCodeError{TriesLeft: c.TriesAllowed - c.Tries}
	}
	right(ctx)
	return s.proven(ctx, c, challenge.Code, true)
}

// tryAgain proves a code whose try could not be spent, where another came in between and some are left.
func (s *Service) tryAgain(ctx context.Context, ticket Ticket, code string, spent int) (Proof, error) {
	c, err := s.byTicket(ctx, ticket)
	switch {
	case err != nil:
		return Proof{}, err
	case c.State != proof.Open:
		return Proof{}, outcomeError(c.Asked(challenge.Code, s.p.Now()))
	case c.Tries != spent && c.Tries < c.TriesAllowed:
		return s.Prove(ctx, ticket, code)
	}
	return Proof{}, ErrNoTries
}

// movedOn reports whether a challenge is not any more as it was read: another try came in between.
func (s *Service) movedOn(ctx context.Context, c rows.Challenge, ticket Ticket) bool {
	now, err := s.byTicket(ctx, ticket)
	return err == nil && (now.Tries != c.Tries || now.State != c.State)
}

// guess debits the rules on wrong codes, for a browser that is not known. right gives it back.
func (s *Service) guess(ctx context.Context, c rows.Challenge, known bool) (right func(context.Context), err error) {
	if known {
		return func(context.Context) {}, nil
	}
	to, err := message.ParseRecipient(c.Address)
	if err != nil {
		return nil, err
	}
	ask := s.p.Keyed(ctx, flow.LimitRequest{To: to, Purpose: c.Purpose, Stage: limit.Wrong})
	err = flow.Own(ctx, func(ctx context.Context) (err error) {
		right, err = s.p.Limits.Guess(ctx, ask)
		return err
	})
	return right, tooSoon(err)
}

// fits reports whether a typed code is one of those that are good now, or one that was, of any generation that was
// sent. It compares all of them, each in constant time; no code fits a decoy.
func (s *Service) fits(c rows.Challenge, typed string) (fits, late bool, err error) {
	key, err := s.p.ChallengeKey(c)
	if err != nil {
		return false, false, unusable(err)
	}
	good := c.Generations(s.p.Now())
	for g := 1; g <= c.Generation; g++ {
		equal := otp.Equal(otp.Derive(key.CodeKey(), c.Bound, g, c.Digits), typed) && !c.Decoy
		fits = equal && slices.Contains(good, g) || fits
		late = equal || late
	}
	return fits, late && !fits, nil
}

// networkAllowance is how many times more wrong codes come from a network than from one person: many people share one.
const networkAllowance = 4

// mayTry refuses a try that comes too soon after the last one of the same challenge. known says that a known browser
// has spent one of its tries: then wrong codes at the address, which may be a stranger's, do not make it wait.
func (s *Service) mayTry(ctx context.Context, c rows.Challenge) (known bool, err error) {
	if c.Browser != "" {
		err := flow.Own(ctx, func(ctx context.Context) (err error) {
			known, err = s.p.Store.SpendKnownTry(ctx, c.Browser, budget, s.p.Now())
			return err
		})
		if err != nil || known {
			return known, err
		}
	}
	if from := flow.Network(ctx); from != "" {
		if err := s.paused(ctx, c, "network:"+from, networkAllowance); err != nil {
			return false, err
		}
	}
	return false, s.paused(ctx, c, "address:"+c.Mailbox, 1)
}

// paused returns a [*TooSoonError] while wrong codes under a name, each counting one over allowance, make a challenge's
// next try wait.
func (s *Service) paused(ctx context.Context, c rows.Challenge, name string, allowance float64) error {
	if c.Tried.IsZero() {
		return nil
	}
	r, err := s.p.Store.Failures(ctx, name)
	if err != nil {
		return err
	}
	now := s.p.Now()
	if at := c.Tried.Add(proof.Pause(r.Count(now) / allowance)); now.Before(at) {
		return &TooSoonError{At: at}
	}
	return nil
}

// failed remembers a wrong code.
func (s *Service) failed(ctx context.Context, c rows.Challenge, known bool) error {
	now := s.p.Now()
	var names []string
	if !known {
		names = append(names, "address:"+c.Mailbox)
	}
	if from := flow.Network(ctx); from != "" {
		names = append(names, "network:"+from)
	}
	return flow.Own(ctx, func(ctx context.Context) error {
		return s.p.Store.Write(ctx, func(t rows.Tx) error {
			for _, name := range names {
				r, err := t.LockFailures(ctx, name, now)
				if err == nil {
					err = t.SetFailures(ctx, name, r.Failed(now))
				}
				if err != nil {
					return err
				}
			}
			return t.Record(ctx, c.StepOf("tried", "wrong code", flow.Network(ctx), now))
		})
	})
}

// ProveLink checks the token of a link, opened in any browser. It costs no try: a signature cannot be guessed. It
// changes nothing that a second call would notice, so a mail scanner may follow the link; only accepting acts. The
// error matches [ErrInvalid], [ErrExpired], [ErrUsed], [ErrFrozen], [ErrCalledOff], [ErrStuck], or [ErrOtherBrowser]
// for a link that signs in.
func (s *Service) ProveLink(ctx context.Context, link Link) (Proof, error) {
	return s.ProveLinkFrom(ctx, "", link)
}

// ProveLinkFrom is ProveLink for a browser that has a ticket, as its cookie said; "" for none. The ticket of another
// challenge counts as none.
func (s *Service) ProveLinkFrom(ctx context.Context, ticket Ticket, link Link) (Proof, error) {
	c, err := s.byLink(ctx, link)
	if err != nil {
		return Proof{}, err
	}
	here := flow.Digest(string(ticket)) == c.Ticket
	if c.Purpose == challenge.SignIn && !here {
		return Proof{}, ErrOtherBrowser
	}
	return s.proven(ctx, c, challenge.Link, here)
}

// An Inspection is what a link is about, for the page that asks before it acts. The part that its purpose has is filled
// in.
type Inspection struct {
	// Purpose is that of the challenge, or [challenge.NotMe] or [challenge.Undo] for a link that takes something back;
	// empty for no link of this service.
	Purpose  string
	Pending  Pending  // of a link that proves
	Disowned Disowned // of "this was not me"
	Change   Change   // of "take it back"

	// Elsewhere says that the link cannot sign in here, and that a sign-in can begin here: [Service.SignInElsewhere].
	Elsewhere bool
}

// Inspect returns what a link would do, opened in the browser that has a ticket; "" for none. It changes nothing. Its
// errors are those of [Service.ProveLink], [Service.NotMe] and [Service.Undo]. With [ErrExpired], [ErrUsed] and
// [ErrOtherBrowser] the part that is known is filled in. Pending has the ticket if it is that of the browser that
// began.
func (s *Service) Inspect(ctx context.Context, ticket Ticket, link Link) (in Inspection, err error) {
	in.Purpose = s.p.LinkPurpose(string(link))
	switch in.Purpose {
	case challenge.NotMe:
		var c rows.Challenge
		c, err = s.byNotMeLink(ctx, link)
		in.Disowned = disowned(c)
	case challenge.Undo:
		_, in.Change, err = s.byUndoLink(ctx, link)
	default:
		var c rows.Challenge
		c, err = s.byLink(ctx, link)
		in.Pending = pendingOf(c.Challenge)
		in.Pending.Registered = c.Sealed != ""
		if c.ID != "" && flow.Digest(string(ticket)) == c.Ticket {
			in.Pending.Ticket = ticket
		} else if c.Purpose == challenge.SignIn {
			in.Elsewhere = s.opensWay(c) == nil
			if err == nil {
				err = ErrOtherBrowser
			}
		}
	}
	return in, err
}

// byLink returns the challenge that a link names, if the link may still be used for it. With [ErrExpired] and [ErrUsed]
// the challenge is returned too, if it is still known.
func (s *Service) byLink(ctx context.Context, link Link) (c rows.Challenge, err error) {
	s.p.Here(ctx)
	now := s.p.Now()
	claims, tokenErr := s.p.Links.Verify(string(link), now)
	if tokenErr != nil && !errors.Is(tokenErr, keyring.ErrExpired) {
		return c, fmt.Errorf("%w: %w", ErrInvalid, tokenErr)
	}
	err = flow.Own(ctx, func(ctx context.Context) error {
		c, err = s.p.Store.Challenge(ctx, claims.Challenge)
		return err
	})
	if errors.Is(err, rows.ErrNotFound) {
		return c, ErrInvalid
	}
	if err != nil {
		return c, err
	}
	if _, err := s.p.ChallengeKey(c); err != nil || c.Decoy || c.Kid != claims.KeyID() || c.Bound != claims.Bound ||
		c.Purpose != claims.Purpose || c.Action != claims.Action {
		return rows.Challenge{}, ErrInvalid // the challenge is not the one that the link was sent for
	}
	err = outcomeError(c.Judge(challenge.Link, now))
	switch {
	case errors.Is(err, ErrUsed) && c.Purpose == challenge.Reverify:
		frozen, lookErr := s.p.Store.AnyFrozen(ctx, c.Subject)
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
func (s *Service) proven(ctx context.Context, c rows.Challenge, by challenge.Form, here bool) (Proof, error) {
	now := s.p.Now()
	err := flow.Own(ctx, func(ctx context.Context) error {
		return s.p.Store.Write(ctx, func(t rows.Tx) error {
			return t.MarkProved(ctx, c.ID, by, c.StepOf("proved", string(by), flow.Network(ctx), now))
		})
	})
	if err != nil {
		return Proof{}, err
	}
	address, err := message.ParseRecipient(c.Address)
	if err != nil {
		return Proof{}, err
	}
	return Proof{
		challenge: c.ID, purpose: c.Purpose, subject: c.Subject, address: address, action: c.Action, here: here,
		sealed: c.Sealed != "",
		at:     now, contested: new(c.Purpose == challenge.Signup),
	}, nil
}

func outcomeError(o proof.Outcome) error {
	switch o {
	case proof.AlreadyDone:
		return ErrUsed
	case proof.CalledOff:
		return ErrCalledOff
	case proof.Expired:
		return ErrExpired
	case proof.NotOffered:
		return ErrInvalid
	}
	return nil
}
