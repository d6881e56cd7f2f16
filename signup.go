package illumicode

import (
	"cmp"
	"context"
	"database/sql"
	"errors"

	"github.com/illumicode/illumicode/core/challenge"
	"github.com/illumicode/illumicode/store"
)

// Signup begins a signup in one call: it admits the request, opens a transaction, runs create,
// which inserts the account and returns its subject, adds challenge and letter in the same
// commit, and wakes the worker.
//
// If create returns [ErrOccupied], its transaction is rolled back and a decoy is begun instead:
// the answer is the same, and no letter goes out, unless [Config.TellOwner] lets one tell the
// owner. Any other error of create is returned as it is, and nothing has happened.
func (s *Service) Signup(ctx context.Context, r Request, create func(tx *sql.Tx) (subject string, err error)) (Pending, error) {
	r.Purpose = challenge.Signup
	admission, err := s.admitFor(ctx, r)
	if err != nil {
		return Pending{}, err
	}
	var pending Pending
	err = s.inTx(ctx, func(tx *sql.Tx) error {
		subject, err := create(tx)
		if err != nil {
			return err
		}
		pending, err = s.In(tx).BeginSignup(ctx, admission, subject)
		return err
	})
	if errors.Is(err, ErrOccupied) {
		err = s.inTx(ctx, func(tx *sql.Tx) error {
			var err error
			pending, err = s.In(tx).begin(ctx, admission, start{purpose: challenge.Signup, decoy: true, letter: existsLetter})
			return err
		})
	}
	if err != nil {
		s.giveBack(ctx, admission.spent)
		return Pending{}, err
	}
	s.Wake()
	return pending, nil
}

// inTx runs fn in a transaction on the service's database, as the application would.
func (s *Service) inTx(ctx context.Context, fn func(tx *sql.Tx) error) error {
	end := func() {}
	if err := s.own(ctx, func(ctx context.Context) (err error) {
		end, err = s.store.Turn(ctx)
		return err
	}); err != nil {
		return err
	}
	defer end()
	tx, err := s.store.DB().BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() // after a commit it does nothing; after a panic it is what is wanted
	if err := fn(tx); err != nil {
		return err
	}
	return tx.Commit()
}

// BeginSignup adds the challenge that confirms the admitted address for subject, and its letter.
// It only inserts: no reads, nothing that can conflict.
func (t Tx) BeginSignup(ctx context.Context, a Admission, subject string) (Pending, error) {
	if a.address.String() == "" || subject == "" {
		return Pending{}, errors.New("illumicode: BeginSignup needs an admission from Admit and a subject")
	}
	return t.begin(ctx, a, start{purpose: challenge.Signup, subject: subject})
}

// maxCorrections is how often the address of one signup can be mistyped.
const maxCorrections = 5

// Correct puts another address in the place of one that was mistyped, for the browser that began
// and has not proven it yet: the old letter's proof is void, and a new letter goes out. It works at
// once the first time; then it has to wait as a resend does. The new letter greets by the name of
// the first, in its language, if r has none. It is for signups and for changes of address. apply,
// which may be nil, makes the application's own writes for a signup in the same commit; if it
// returns [ErrOccupied], the answer is the same and no letter goes out, as with [Service.Signup]. A
// change of address is corrected without it: nothing of it is in effect.
// The error matches [message.ErrAddress], [ErrTooSoon], [ErrUsed], [ErrExpired] or [ErrInvalid].
func (s *Service) Correct(ctx context.Context, ticket string, r Request, apply func(tx *sql.Tx, subject string) error) (Pending, error) {
	c, err := s.byTicket(ctx, ticket)
	if err != nil {
		return Pending{}, err
	}
	now := s.now()
	switch {
	case c.Purpose != challenge.Signup && c.Purpose != challenge.Reverify:
		return Pending{}, ErrInvalid
	case !c.Alive(now):
		return pendingOf(c.Challenge), outcomeError(c.Verdict(now))
	case c.Resends >= maxCorrections:
		return pendingOf(c.Challenge), &TooSoonError{At: c.Ends}
	case c.Resends > 0 && now.Before(c.ResendAfter):
		return pendingOf(c.Challenge), &TooSoonError{At: c.ResendAfter}
	}
	r.Purpose, r.Subject, r.Name, r.Locale = c.Purpose, c.Subject, cmp.Or(r.Name, c.Name), cmp.Or(r.Locale, c.Locale)
	admission, err := s.admitFor(ctx, r)
	if err != nil {
		return Pending{}, err
	}
	var p Pending
	correct := func(decoy bool) error {
		return s.inTx(ctx, func(tx *sql.Tx) error {
			t := s.In(tx)
			ended, err := t.callOff(ctx, c, challenge.Corrected)
			switch {
			case err != nil:
				return err
			case !ended: // proven or corrected in between
				return ErrUsed
			}
			if !decoy && apply != nil && c.Purpose == challenge.Signup && c.Subject != "" {
				if err := apply(tx, c.Subject); err != nil {
					return err
				}
			}
			if err := t.rows.RemoveUnconfirmed(ctx, c.Subject, c.Address); err != nil {
				return err
			}
			next := start{purpose: c.Purpose, subject: c.Subject, data: c.Data, decoy: decoy || c.Subject == "", resends: c.Resends + 1}
			if next.decoy {
				next.letter = existsLetter
			}
			if p, err = t.begin(ctx, admission, next); err != nil || c.Purpose != challenge.Reverify {
				return err
			}
			return t.correctChange(ctx, c.ID, p.id, admission)
		})
	}
	if err = correct(false); errors.Is(err, ErrOccupied) {
		err = correct(true)
	}
	if err != nil {
		s.giveBack(ctx, admission.spent)
		return Pending{}, err
	}
	s.Wake()
	return p, nil
}

// ResendTo is Resend for a subject whom the application knows by other means, such as a password
// just checked. If the pending signup has expired, a new one begins, and only then Pending has a
// ticket, for the browser that asked. The error matches [ErrNothingPending], [ErrTooSoon] or
// [ErrUsed].
func (s *Service) ResendTo(ctx context.Context, subject string) (Pending, error) {
	var c store.Challenge
	err := s.own(ctx, func(ctx context.Context) (err error) {
		c, err = s.store.OpenChallenge(ctx, subject, challenge.Signup)
		return err
	})
	if errors.Is(err, store.ErrNotFound) {
		return Pending{}, ErrNothingPending
	}
	if err != nil {
		return Pending{}, err
	}
	if c.Alive(s.now()) {
		return s.resend(ctx, c, ByApplication)
	}
	admission, err := s.admitFor(ctx, Request{Address: c.Address, Name: c.Name, Locale: c.Locale, Subject: subject})
	if err != nil {
		return Pending{}, err
	}
	var p Pending
	err = s.own(ctx, func(ctx context.Context) error {
		return s.inTx(ctx, func(tx *sql.Tx) (err error) {
			p, err = s.In(tx).BeginSignup(ctx, admission, subject)
			return err
		})
	})
	if err != nil {
		s.giveBack(ctx, admission.spent)
	}
	s.Wake()
	return p, err
}

// Subject is the callback of [Service.Signup] for an account that exists already, or lives in
// another database.
func Subject(subject string) func(*sql.Tx) (string, error) {
	return func(*sql.Tx) (string, error) { return subject, nil }
}
