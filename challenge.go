package illumicode

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/keyring"
	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/outbox"
	rows "github.com/illumicode/illumicode/internal/store"
)

// A start is what begins a challenge, beside the admitted request.
type start struct {
	purpose string
	subject string
	letter  string // empty for the purpose's own
	data    string // JSON for the letter; empty for none
	action  string // digest
	decoy   bool
	forms   challenge.Forms // empty for the policy's
	browser string          // id of a known browser
	device  string          // what it calls itself
	locale  string          // that was asked for; empty for the account's own
	typed   string          // the address, where the admitted one was put in its place
	tries   int             // 0 for the policy's
	resends int             // that count already
	ticket  Ticket          // empty for a new one
	origin  string          // the challenge whose letter let it begin

	registration *Registration // what an account will be made of; nil where it is there
}

// good returns why an admission cannot begin a challenge for a purpose; nil if it can.
func (t Tx) good(a Admission, purpose string) error {
	switch {
	case a.purpose != "" && a.purpose != purpose:
		return fmt.Errorf("illumicode: the admission is for %s, and this begins a challenge for %s; "+
			"set Request.Purpose for Admit", a.purpose, purpose)
	case !a.until.IsZero() && !t.s.p.Now().Before(a.until):
		return fmt.Errorf("%w: the admission is older than a minute; admit the request again", ErrExpired)
	}
	return nil
}

// begin adds a challenge and its letter.
func (t Tx) begin(ctx context.Context, a Admission, st start) (Pending, error) {
	if err := t.good(a, st.purpose); err != nil {
		return Pending{}, err
	}
	now := t.s.p.Now()
	if st.ticket == "" {
		st.ticket = Ticket(flow.NewTicket())
	}
	c := t.s.newChallenge(a, st, now)
	c.Ticket = flow.Digest(string(st.ticket))
	flow.BindChallenge(t.s.p.Keys.Active(), &c)
	if st.registration != nil {
		c.Sealed = seal(t.s.p.Keys.Active(), c, *st.registration)
	}
	newAddress := (st.purpose == challenge.Signup || st.purpose == challenge.Reverify) &&
		st.letter != flow.RecheckLetter && st.registration == nil
	begun, err := t.rows().Begin(ctx, rows.NewChallenge{
		Challenge: c, Letter: t.s.letterFor(ctx, c, now), NewAddress: newAddress,
		Network: cmp.Or(flow.Network(ctx), a.network),
	})
	switch {
	case err != nil:
		return Pending{}, err
	case !begun:
		return Pending{}, ErrAdmissionUsed
	}
	pending := pendingOf(c.Challenge)
	pending.Ticket = st.ticket
	return pending, nil
}

// newChallenge returns the row of a challenge that begins at now, without its ticket, and not bound yet.
func (s *Service) newChallenge(a Admission, st start, now time.Time) rows.Challenge {
	p := s.p.Purposes[st.purpose]
	now = now.Truncate(time.Millisecond) // as the row keeps it
	c := rows.Challenge{
		Challenge: proof.Begin(p.Policy, now),
		Name:      flow.Greeted(a.address.Name), Locale: a.locale, Letter: cmp.Or(st.letter, p.Letter),
		Data: cmp.Or(st.data, "{}"), Mailbox: a.address.Mailbox(), Browser: st.browser,
		Device: deviceName(st.device), Heard: s.lapsed != nil, Origin: st.origin,
	}
	c.ID, c.Purpose, c.Subject = cmp.Or(a.id, flow.NewID()), st.purpose, st.subject
	c.Address, c.Typed, c.Decoy, c.Action = a.address.String(), st.typed, st.decoy, st.action
	c.TriesAllowed, c.Forms = cmp.Or(st.tries, c.TriesAllowed), cmp.Or(st.forms, c.Forms)
	if link, _ := s.p.Letters.OffersSMS(c.Letter); a.address.IsPhone() && !link && c.Forms == challenge.Both {
		c.Forms = challenge.CodeOnly // what the text message carries
	}
	if st.resends > 0 {
		c.Resends, c.ResendAfter = st.resends, now.Add(proof.Rung(p.Policy, st.resends))
	}
	return c
}

// letterFor returns the delivery of a challenge's letter. It holds no secret and no data: both are made from the
// challenge when the letter is composed.
func (s *Service) letterFor(ctx context.Context, c rows.Challenge, now time.Time) rows.Delivery {
	return rows.Delivery{
		ID: flow.NewID(), Challenge: c.ID, Generation: c.Generation, Letter: c.Letter, Locale: c.Locale,
		Address: c.Address,
		Name:    c.Name, Data: "{}", Lane: rows.Urgent, Created: now, Due: now, DeliverBefore: c.Ends,
		Trace: outbox.Trace(ctx),
	}
}

// A Custom is a challenge for a purpose of the application's own; see Config.Purposes.
type Custom struct {
	Purpose string
	Subject string
	Data    any // values for its letter: a struct or a map; nil for none
}

// Begin begins a challenge of a purpose of the application's own, in the application's transaction. Once accepted, the
// address counts as confirmed for the subject; all else is the application's business.
//
// The admission must be for the same purpose (Request.Purpose).
func (t Tx) Begin(ctx context.Context, a Admission, what Custom) (Pending, error) {
	if err := t.ok(); err != nil {
		return Pending{}, err
	}
	if _, own := t.s.p.Purposes[what.Purpose]; !own || builtIn(what.Purpose) {
		return Pending{},
			fmt.Errorf("illumicode: %q is no purpose of the application's own; Config.Purposes names them",
				what.Purpose)
	}
	if a.address.String() == "" || what.Subject == "" {
		return Pending{}, errors.New("illumicode: Begin needs an admission from Admit and a subject")
	}
	data := ""
	if what.Data != nil {
		raw, err := json.Marshal(what.Data)
		if err != nil {
			return Pending{}, fmt.Errorf("illumicode: the values for the letter of %q: %w", what.Purpose, err)
		}
		data = string(raw)
	}
	return t.begin(ctx, a, start{purpose: what.Purpose, subject: what.Subject, data: data})
}

// builtIn reports whether a purpose has a flow of its own.
func builtIn(purpose string) bool {
	switch purpose {
	case challenge.Signup, challenge.Reverify, challenge.SignIn, challenge.StepUp:
		return true
	}
	return false
}

func pendingOf(c proof.Challenge) Pending {
	return Pending{
		id: c.ID, Purpose: c.Purpose, Address: cmp.Or(c.Typed, c.Address), Forms: c.Forms, ResendAfter: c.ResendAfter,
		Ends: c.Ends, TriesLeft: c.TriesAllowed - c.Tries, Confirmed: c.State == proof.Accepted,
	}
}

// Pending returns the challenge that a ticket belongs to, for the page on which a person waits. The error matches
// [ErrInvalid] if there is none; [ErrCalledOff] if it was ended, as by "this was not me"; and [ErrExpired] if its time
// is over, or its key was retired.
func (s *Service) Pending(ctx context.Context, ticket Ticket) (Pending, error) {
	c, err := s.byTicket(ctx, ticket)
	if err != nil {
		return Pending{}, err
	}
	p := pendingOf(c.Challenge)
	p.Ticket, p.Registered = ticket, c.Sealed != ""
	switch {
	case c.State == proof.Ended && c.Why != proof.Lapsed:
		return p, ErrCalledOff
	case c.State != proof.Accepted && !s.p.Now().Before(c.Ends):
		return p, ErrExpired
	}
	return p, nil
}

// byTicket returns the challenge of a ticket.
func (s *Service) byTicket(ctx context.Context, ticket Ticket) (c rows.Challenge, err error) {
	s.p.Here(ctx)
	err = flow.Own(ctx, func(ctx context.Context) error {
		c, err = s.p.Store.ChallengeByTicket(ctx, flow.Digest(string(ticket)))
		return err
	})
	if errors.Is(err, rows.ErrNotFound) {
		err = ErrInvalid
	}
	if err == nil {
		_, err = s.p.ChallengeKey(c)
		err = unusable(err)
	}
	return c, err
}

// unusable returns why a row cannot be used whose key was not returned: its key was retired, and a new challenge helps;
// or somebody has written to it, and it is as if there was none.
func unusable(err error) error {
	switch {
	case errors.Is(err, keyring.ErrUnknownKey):
		return ErrExpired
	case err != nil:
		return ErrInvalid
	}
	return nil
}
