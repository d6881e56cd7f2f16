package illumicode

import (
	"cmp"
	"context"
	"errors"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/limits"
	rows "github.com/illumicode/illumicode/internal/store"
)

// Signup begins a signup in one call: it admits the request, opens a transaction, runs create, adds challenge and
// letter in the same commit, and wakes the worker. create inserts the account, unless there is one with the address,
// and returns the subject of whichever has it, without changing one that is there. See [Tx.BeginSignup] for what
// follows.
//
// If create returns [ErrOccupied], because an account has the address that this service has not confirmed, its
// transaction is rolled back and a decoy is begun instead. Any other error of create is returned as it is, and nothing
// has happened.
func (s *Service) Signup(ctx context.Context, r Request, create func(ctx context.Context, tx Tx) (subject string,
	err error)) (Pending, error) {
	if create == nil {
		return Pending{},
			errors.New("illumicode: Signup needs create, which inserts the account; see Subject for one that exists")
	}
	r.Purpose = challenge.Signup
	admission, err := s.admitFor(ctx, r)
	if err != nil {
		return Pending{}, err
	}
	var pending Pending
	err = s.Transact(ctx, func(ctx context.Context, tx Tx) error {
		subject, err := create(ctx, tx)
		if err != nil {
			return err
		}
		pending, err = tx.BeginSignup(ctx, admission, subject)
		return err
	})
	if errors.Is(err, ErrOccupied) {
		err = s.Transact(ctx, func(ctx context.Context, tx Tx) (err error) {
			pending, err = tx.BeginDecoy(ctx, admission)
			return err
		})
	}
	if err != nil {
		s.p.Limits.Refund(ctx, admission.spent)
		return Pending{}, err
	}
	return pending, nil
}

// BeginSignup adds the challenge that confirms the admitted address for subject, and its letter. No statement fails on
// a conflict.
//
// If an account holds the address, a decoy is begun instead: the answer is the same, and no letter goes out, unless
// Config.TellOwner lets one tell the owner. If the browser has a challenge for the same account and address that waits
// (Request.Ticket), it goes on with that: same ticket, same code, and a letter again once a resend may go. Any other
// browser gets a challenge of its own, beside those that wait; see [Proof.Contested].
//
// The error is [ErrAdmissionUsed] if another transaction has committed with the admission, and matches [ErrExpired] if
// that is older than a minute.
func (t Tx) BeginSignup(ctx context.Context, a Admission, subject string) (Pending, error) {
	if err := t.ok(); err != nil {
		return Pending{}, err
	}
	if a.address.String() == "" || subject == "" {
		return Pending{}, errors.New("illumicode: BeginSignup needs an admission from Admit and a subject")
	}
	if err := t.good(a, challenge.Signup); err != nil {
		return Pending{}, err
	}
	earlier, err := t.waiting(ctx, a, subject)
	if err != nil {
		return Pending{}, err
	}
	st := start{purpose: challenge.Signup, subject: subject, ticket: a.ticket}
	if earlier.ID == "" {
		st.ticket = Ticket(flow.NewTicket())
	}
	held, err := t.registered(ctx, a, st)
	if err != nil {
		return Pending{}, err
	}
	if earlier.ID != "" && earlier.Decoy == held {
		return t.goOn(ctx, a, earlier)
	}
	if earlier.ID != "" { // confirmed, or set free, since it began
		st.ticket = Ticket(flow.NewTicket())
		if held, err = t.registered(ctx, a, st); err != nil {
			return Pending{}, err
		}
	}
	if held {
		st.subject, st.decoy, st.letter = "", true, flow.ExistsLetter
	}
	return t.begin(ctx, a, st)
}

// registered notes that a browser has registered an account, and reports whether one holds its address.
func (t Tx) registered(ctx context.Context, a Admission, st start) (held bool, err error) {
	r := rows.Registration{Subject: st.subject, Ticket: flow.Digest(string(st.ticket)), Mailbox: a.address.Mailbox()}
	if a.ticket != "" {
		r.Earlier = flow.Digest(string(a.ticket))
	}
	holder, err := t.rows().Register(ctx, r, t.s.p.Now())
	return holder != "", err
}

// waiting returns the challenge of the browser that asks, if it is for the same account and address, or a decoy for
// that address, and waits; else the zero Challenge.
func (t Tx) waiting(ctx context.Context, a Admission, subject string) (none rows.Challenge, err error) {
	if a.ticket == "" {
		return none, nil
	}
	c, err := t.rows().ByTicket(ctx, flow.Digest(string(a.ticket)))
	switch {
	case errors.Is(err, rows.ErrNotFound):
		return none, nil
	case err != nil:
		return none, err
	}
	_, keyErr := t.s.p.ChallengeKey(c)
	if keyErr != nil || c.Purpose != challenge.Signup || c.Mailbox != a.address.Mailbox() || c.State != proof.Open ||
		c.Burnt() || !t.s.p.Now().Before(c.Ends) || !c.Decoy && c.Subject != subject {
		return none, nil
	}
	return c, nil
}

// goOn sends the letter of a challenge again, if its wait is over, and returns the challenge.
func (t Tx) goOn(ctx context.Context, a Admission, c rows.Challenge) (Pending, error) {
	t.s.p.Limits.Used(a.id)
	r := c.Resend(t.s.p.Purposes[c.Purpose].Policy, t.s.p.Now())
	if r.Allowed {
		if _, err := t.s.sendAgain(ctx, t.rows(), c, again{r.Next, limits.ByPerson}); err != nil {
			return Pending{}, err
		}
		c.Challenge = r.Next
	}
	p := pendingOf(c.Challenge)
	p.Ticket = a.ticket
	return p, nil
}

// BeginDecoy is BeginSignup for an address that has an account: after the application's own transaction was rolled
// back, the same admission begins a challenge that nothing proves, in a new one. Its answer is that of a real signup,
// so that the requester does not learn of the account. No letter goes out, unless Config.TellOwner lets one tell the
// owner.
func (t Tx) BeginDecoy(ctx context.Context, a Admission) (Pending, error) {
	if err := t.ok(); err != nil {
		return Pending{}, err
	}
	if a.address.String() == "" {
		return Pending{}, errors.New("illumicode: BeginDecoy needs an admission from Admit")
	}
	return t.begin(ctx, a, start{purpose: challenge.Signup, decoy: true, letter: flow.ExistsLetter})
}

// Subject is the callback of [Service.Signup] for an account that exists already, or lives in another database.
func Subject(subject string) func(context.Context, Tx) (string, error) {
	return func(context.Context, Tx) (string, error) { return subject, nil }
}

// maxCorrections is how often the address of one signup can be mistyped.
const maxCorrections = 5

// Correct puts another address in the place of one that was mistyped, for the browser that began and has not proven it
// yet: the old letter's proof is void, and a new letter goes out. It works at once the first time; then it has to wait
// as a resend does. The new letter greets by the name of the first, in its language, if r has none. It is for signups
// and for changes of address. apply, which may be nil, makes the application's own writes for a signup in the same
// commit; if it returns [ErrOccupied], the answer is the same and no letter goes out, as with [Service.Signup]. A
// change of address is corrected without it: nothing of it is in effect. The error matches [message.ErrAddress],
// [ErrTooSoon], [ErrUsed], [ErrCalledOff], [ErrExpired] or [ErrInvalid].
func (s *Service) Correct(ctx context.Context, ticket Ticket, r Request,
	apply func(ctx context.Context, tx Tx, subject string) error) (Pending, error) {
	c, err := s.byTicket(ctx, ticket)
	if err != nil {
		return Pending{}, err
	}
	if err := s.correctable(c); err != nil {
		return pendingOf(c.Challenge), err
	}
	r.Purpose, r.Subject, r.Name, r.Locale = c.Purpose, c.Subject, cmp.Or(r.Name, c.Name), cmp.Or(r.Locale, c.Locale)
	r.Ticket = ticket
	admission, err := s.admitFor(ctx, r)
	if err != nil {
		return Pending{}, err
	}
	var p Pending
	correct := func(decoy bool) error {
		return s.Transact(ctx, func(ctx context.Context, tx Tx) (err error) {
			if decoy || c.Purpose != challenge.Signup || c.Subject == "" {
				apply = nil
			}
			p, err = tx.correct(ctx, correction{old: c, to: admission, apply: apply,
				decoy: decoy || c.Subject == "" && (c.Sealed == "" || c.Decoy)})
			return err
		})
	}
	if err = correct(false); errors.Is(err, ErrOccupied) {
		err = correct(true)
	}
	if err != nil {
		s.p.Limits.Refund(ctx, admission.spent)
		return Pending{}, err
	}
	return p, nil
}

// correctable returns why the address of a challenge cannot be corrected now; nil if it can.
func (s *Service) correctable(c rows.Challenge) error {
	now := s.p.Now()
	switch {
	case c.Purpose != challenge.Signup && c.Purpose != challenge.Reverify:
		return ErrInvalid
	case c.State != proof.Open || !now.Before(c.Ends):
		return outcomeError(c.Verdict(now))
	case c.Resends >= maxCorrections:
		return &TooSoonError{At: c.Ends}
	case c.Resends > 0 && now.Before(c.ResendAfter):
		return &TooSoonError{At: c.ResendAfter}
	}
	return nil
}

// A correction puts an admitted address into the place of a challenge's.
type correction struct {
	old   rows.Challenge
	to    Admission
	decoy bool
	apply func(ctx context.Context, tx Tx, subject string) error // nil for none
}

// whyOver returns why a challenge is not open any more.
func (t Tx) whyOver(ctx context.Context, id string) error {
	c, err := t.rows().ChallengeOf(ctx, id)
	if errors.Is(err, rows.ErrNotFound) {
		return ErrExpired
	}
	return cmp.Or(err, outcomeError(c.Verdict(t.s.p.Now())), ErrCalledOff)
}

func (t Tx) correct(ctx context.Context, what correction) (Pending, error) {
	old := what.old
	if old.Purpose == challenge.Reverify { // as all that begins or ends changes of the account
		if _, err := t.rows().LockFailures(ctx, changing(old.Subject), t.s.p.Now()); err != nil {
			return Pending{}, err
		}
	}
	ended, err := t.s.p.CallOff(ctx, t.rows(), old, proof.Corrected)
	switch {
	case err != nil:
		return Pending{}, err
	case !ended: // proven or corrected in between
		return Pending{}, t.whyOver(ctx, old.ID)
	}
	switch now, err := t.rows().ChallengeOf(ctx, old.ID); {
	case err != nil:
		return Pending{}, err
	case now.Resends != old.Resends: // its letter was sent again in between, and has to be waited for
		return Pending{}, &TooSoonError{At: now.ResendAfter}
	}
	if what.apply != nil {
		if err := what.apply(ctx, t, old.Subject); err != nil {
			return Pending{}, err
		}
	}
	if err := t.rows().RemoveUnconfirmed(ctx, old.Subject, old.Address); err != nil {
		return Pending{}, err
	}
	next := start{purpose: old.Purpose, subject: old.Subject, data: old.Data, decoy: what.decoy,
		resends: old.Resends + 1, ticket: Ticket(flow.NewTicket())}
	switch {
	case old.Sealed != "":
		if err := t.takeAlong(ctx, old, what.to, &next); err != nil {
			return Pending{}, err
		}
	case next.decoy:
		next.letter = flow.ExistsLetter
	case old.Purpose == challenge.Signup:
		held, err := t.registered(ctx, what.to, next)
		if err == nil && held {
			err = ErrOccupied
		}
		if err != nil {
			return Pending{}, err
		}
	}
	p, err := t.begin(ctx, what.to, next)
	if err != nil || old.Purpose != challenge.Reverify {
		return p, err
	}
	return p, t.correctChange(ctx, old.ID, p.id, what.to)
}
