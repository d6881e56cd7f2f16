package illumicode

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/nyaruka/phonenumbers"

	"github.com/illumicode/illumicode/core/challenge"
	"github.com/illumicode/illumicode/core/message"
	"github.com/illumicode/illumicode/store"
)

// A Request is what a person asks for.
type Request struct {
	Address string // as typed: a mail address, or a phone number with its country code
	Name    string // display name for the letter; may be empty
	Locale  string // BCP 47 tags or an Accept-Language value; empty means the fallback
	Zone    string // the reader's time zone, such as Europe/Oslo; empty means UTC
}

// An Admission is a request that was checked and may begin. It is made by [Service.Admit] only.
type Admission struct {
	address message.Address
	locale  string
	zone    string
}

// Address returns the admitted address as it will be stored.
func (a Admission) Address() string { return a.address.String() }

// Admit checks a request: the address and the name must be such that a letter can be sent to
// them. Call it before your transaction. The error matches [message.ErrAddress] and says what is
// wrong in words that may be shown.
func (s *Service) Admit(_ context.Context, r Request) (Admission, error) {
	address, err := s.recipient(r.Address)
	if err != nil {
		return Admission{}, err
	}
	if address, err = address.WithName(r.Name); err != nil {
		return Admission{}, err
	}
	if _, err := s.zones.load(r.Zone); err != nil {
		return Admission{}, err
	}
	return Admission{address: address, locale: s.Locale(r.Locale), zone: r.Zone}, nil
}

// recipient reads an address or a phone number as people type them. A number is refused if a
// provider for SMS is missing, or if the numbering plan of its country has no such number.
func (s *Service) recipient(typed string) (message.Address, error) {
	typed = strings.TrimSpace(typed)
	if !strings.HasPrefix(typed, "+") || strings.Contains(typed, "@") {
		return message.ParseAddress(typed)
	}
	if !s.sms {
		return message.Address{}, fmt.Errorf("%w: it is a phone number, and no provider carries SMS", message.ErrAddress)
	}
	number, err := phonenumbers.Parse(typed, "")
	if err != nil || !phonenumbers.IsPossibleNumber(number) {
		return message.Address{}, fmt.Errorf("%w: it is no phone number with a country code, such as +47 900 12 345", message.ErrAddress)
	}
	return message.Phone(phonenumbers.Format(number, phonenumbers.E164))
}

// A Pending is a signup that waits for its proof.
type Pending struct {
	// Ticket belongs to the browser that began, and to nobody else: a code counts only together
	// with it. Keep it in a cookie. It is empty where the caller is not that browser.
	Ticket string

	Address     string
	ResendAfter time.Time // when the letter may be sent again
	Ends        time.Time // when neither link nor code can work any more
	Confirmed   bool      // it has been accepted
}

// Signup begins a signup in one call: it admits the request, opens a transaction, runs create,
// which inserts the account and returns its subject, adds challenge and letter in the same
// commit, and wakes the worker.
//
// If create returns [ErrOccupied], its transaction is rolled back and a decoy is begun instead:
// the answer is the same, and no letter goes out. Any other error of create is returned as it
// is, and nothing has happened.
func (s *Service) Signup(ctx context.Context, r Request, create func(tx *sql.Tx) (subject string, err error)) (Pending, error) {
	admission, err := s.Admit(ctx, r)
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
			pending, err = s.In(tx).begin(ctx, admission, "", true)
			return err
		})
	}
	if err != nil {
		return Pending{}, err
	}
	s.Wake()
	return pending, nil
}

// inTx runs fn in a transaction on the service's database, as the application would.
func (s *Service) inTx(ctx context.Context, fn func(tx *sql.Tx) error) error {
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
// It only inserts: three rows, no reads, nothing that can conflict.
func (t Tx) BeginSignup(ctx context.Context, a Admission, subject string) (Pending, error) {
	if a.address.String() == "" || subject == "" {
		return Pending{}, errors.New("illumicode: BeginSignup needs an admission from Admit and a subject")
	}
	return t.begin(ctx, a, subject, false)
}

func (t Tx) begin(ctx context.Context, a Admission, subject string, decoy bool) (Pending, error) {
	now := t.s.now()
	ticket, digest := newTicket()
	c := store.Challenge{
		Challenge: challenge.Begin(t.s.policy, now),
		Name:      a.address.Name, Locale: a.locale, Kid: t.s.keys.Active().ID(), Ticket: digest,
	}
	c.ID, c.Purpose, c.Subject, c.Address, c.Decoy = newID(), challenge.Signup, subject, a.address.String(), decoy
	if err := t.rows.InsertChallenge(ctx, c); err != nil {
		return Pending{}, err
	}
	if err := t.rows.AddAddress(ctx, subject, c.Address, now); err != nil {
		return Pending{}, err
	}
	if err := t.rows.InsertDelivery(ctx, t.s.letterFor(c.Challenge, c.Name, c.Locale, now)); err != nil {
		return Pending{}, err
	}
	p := pendingOf(c.Challenge)
	p.Ticket = ticket
	return p, nil
}

// letterFor returns the delivery of a challenge's letter. It holds no secret and no data: both
// are made from the challenge when the letter is composed.
func (s *Service) letterFor(c challenge.Challenge, name, locale string, now time.Time) store.Delivery {
	return store.Delivery{
		ID: newID(), Challenge: c.ID, Generation: c.Generation, Letter: confirmLetter, Locale: locale,
		Address: c.Address, Name: name, Data: "{}", Lane: store.Urgent, Created: now, Due: now, DeliverBefore: c.Ends,
	}
}

func pendingOf(c challenge.Challenge) Pending {
	return Pending{Address: c.Address, ResendAfter: c.ResendAfter, Ends: c.Ends, Confirmed: c.State == challenge.Accepted}
}

// Pending returns the signup that a ticket belongs to, for the page on which a person waits. The
// error matches [ErrInvalid] if there is none.
func (s *Service) Pending(ctx context.Context, ticket string) (Pending, error) {
	c, err := s.byTicket(ctx, ticket)
	if err != nil {
		return Pending{}, err
	}
	p := pendingOf(c.Challenge)
	p.Ticket = ticket
	return p, nil
}

// byTicket returns the challenge of a ticket.
func (s *Service) byTicket(ctx context.Context, ticket string) (c store.Challenge, err error) {
	err = s.own(ctx, func(ctx context.Context) error {
		c, err = s.store.ChallengeByTicket(ctx, digest(ticket))
		return err
	})
	if errors.Is(err, store.ErrNotFound) {
		err = ErrInvalid
	}
	return c, err
}

// Resend sends the letter of a ticket's signup again, with the same proof while that has a
// useful life left. One that still waits is brought forward instead of doubled. The error
// matches [ErrTooSoon], [ErrUsed], [ErrExpired] or [ErrInvalid].
func (s *Service) Resend(ctx context.Context, ticket string) (Pending, error) {
	c, err := s.byTicket(ctx, ticket)
	if err != nil {
		return Pending{}, err
	}
	p, err := s.resend(ctx, c)
	p.Ticket = ticket
	return p, err
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
	if c.Judge(challenge.Link, s.now()) != challenge.Expired {
		return s.resend(ctx, c)
	}
	admission, err := s.Admit(ctx, Request{Address: c.Address, Name: c.Name, Locale: c.Locale})
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
	s.Wake()
	return p, err
}

// resend decides and writes. If another resend of the same challenge comes in between, the
// decision is taken again on the new row, and is then to wait.
func (s *Service) resend(ctx context.Context, c store.Challenge) (Pending, error) {
	now := s.now()
	switch c.Judge(challenge.Link, now) {
	case challenge.AlreadyDone:
		return pendingOf(c.Challenge), ErrUsed
	case challenge.Expired:
		return pendingOf(c.Challenge), ErrExpired
	}
	r := c.Resend(s.policy, now)
	if !r.Allowed {
		return pendingOf(c.Challenge), &TooSoonError{At: r.At}
	}
	written := false
	err := s.own(ctx, func(ctx context.Context) error {
		return s.store.Write(ctx, func(t store.Tx) (err error) {
			if written, err = t.Resend(ctx, r.Next); err != nil || !written {
				return err
			}
			if waits, err := t.BringForward(ctx, c.ID, r.Next.Generation, now); err != nil || waits {
				return err
			}
			return t.InsertDelivery(ctx, s.letterFor(r.Next, c.Name, c.Locale, now))
		})
	})
	if err != nil {
		return Pending{}, err
	}
	if !written {
		if c, err = s.store.Challenge(ctx, c.ID); err != nil {
			return Pending{}, err
		}
		return s.resend(ctx, c)
	}
	s.Wake()
	return pendingOf(r.Next), nil
}

// newTicket returns 256 random bits and the digest under which they are stored.
func newTicket() (ticket, stored string) {
	var b [32]byte
	rand.Read(b[:]) // never fails
	ticket = base64.RawURLEncoding.EncodeToString(b[:])
	return ticket, digest(ticket)
}

// digest needs no key and no salt: a ticket is random, so its digest cannot be searched.
func digest(ticket string) string {
	sum := sha256.Sum256([]byte(ticket))
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

// newID returns an identifier that sorts by time of making (RFC 9562 §5.7).
func newID() string { return uuid.Must(uuid.NewV7()).String() }

// Subject is the callback of [Service.Signup] for an account that exists already, or lives in
// another database.
func Subject(subject string) func(*sql.Tx) (string, error) {
	return func(*sql.Tx) (string, error) { return subject, nil }
}
