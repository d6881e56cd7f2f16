package illumicode

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"github.com/google/uuid"

	"github.com/illumicode/illumicode/core/challenge"
	"github.com/illumicode/illumicode/core/limit"
	"github.com/illumicode/illumicode/core/message"
	"github.com/illumicode/illumicode/outbox"
	"github.com/illumicode/illumicode/store"
)

// A Purpose is what challenges of one kind are for, and how they live.
type Purpose struct {
	Letter string // what carries the proof
	Policy challenge.Policy
}

// The letters of the flows.
const (
	confirmLetter  = "confirm"
	reverifyLetter = "reverify"
	signInLetter   = "signin"
	stepUpLetter   = "stepup"
	welcomeLetter  = "welcome"
	changeLetter   = "address-change" // tells the old address, which can take the change back
	existsLetter   = "account-exists" // instead of a signup's, to the owner of the account
	unknownLetter  = "no-account"     // instead of a sign-in's, where there is no account
)

// networkKey is the context key of where a request came from.
type networkKey struct{}

// FromNetwork returns a context that says where a request came from: the address of the client, as
// the application knows it behind whatever proxies it trusts. Calls with such a context write it to
// the trail, and wrong codes from one network (an IPv4 address, an IPv6 /64) slow it down.
func FromNetwork(ctx context.Context, client netip.Addr) context.Context {
	client = client.Unmap().WithZone("")
	name := client.String()
	if client.Is6() {
		if p, err := client.Prefix(64); err == nil {
			name = p.String()
		}
	}
	return context.WithValue(ctx, networkKey{}, name)
}

// network returns what FromNetwork has said, or "".
func network(ctx context.Context) string {
	name, _ := ctx.Value(networkKey{}).(string)
	return name
}

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
	typed   string          // the address, where the admitted one was put in its place
	tries   int             // 0 for the policy's
	resends int             // that count already
}

func (t Tx) begin(ctx context.Context, a Admission, st start) (Pending, error) {
	if a.purpose != "" && a.purpose != st.purpose {
		return Pending{}, fmt.Errorf("illumicode: the admission is for %s, and this begins a challenge for %s; set Request.Purpose for Admit", a.purpose, st.purpose)
	}
	now := t.s.now()
	ticket, digest := newTicket()
	p := t.s.purposes[st.purpose]
	c := store.Challenge{
		Challenge: challenge.Begin(p.Policy, now),
		Name:      a.address.Name, Locale: a.locale, Kid: t.s.keys.Active().ID(), Ticket: digest,
		Letter: cmp.Or(st.letter, p.Letter), Data: cmp.Or(st.data, "{}"), Mailbox: a.address.Mailbox(), Browser: st.browser,
	}
	c.ID, c.Purpose, c.Subject, c.Address, c.Decoy = cmp.Or(a.id, newID()), st.purpose, st.subject, a.address.String(), st.decoy
	c.Typed, c.Action, c.TriesAllowed, c.Forms = st.typed, st.action, cmp.Or(st.tries, c.TriesAllowed), cmp.Or(st.forms, c.Forms)
	if st.resends > 0 {
		c.Resends, c.ResendAfter = st.resends, now.Add(p.Policy.Rung(st.resends))
	}
	isNew := (st.purpose == challenge.Signup || st.purpose == challenge.Reverify) && st.letter != recheckLetter
	if err := t.rows.Begin(ctx, c, t.s.letterFor(ctx, c, now), isNew, cmp.Or(network(ctx), a.network)); err != nil {
		return Pending{}, err
	}
	pending := pendingOf(c.Challenge)
	pending.Ticket = ticket
	return pending, nil
}

// callOff ends an open challenge, with the change of address that it is for, and reports whether it
// did. Letters of it that still wait are dropped when their turn comes.
func (t Tx) callOff(ctx context.Context, c store.Challenge, why string) (bool, error) {
	ended, err := t.rows.CallOff(ctx, c.ID, why)
	if err != nil || !ended {
		return false, err
	}
	if c.Purpose == challenge.Reverify && why != challenge.Corrected {
		if err := t.rows.StopChangeOf(ctx, c.ID); err != nil {
			return false, err
		}
	}
	return true, t.rows.Record(ctx, c.StepOf("ended", why, network(ctx), t.s.now()))
}

// callOffChanging calls off what proves the pending changes of a subject's address. The changes themselves are
// stopped after it: who accepts a proof locks both in this order.
func (t Tx) callOffChanging(ctx context.Context, subject, why string) error {
	ended, err := t.rows.CallOffChanging(ctx, subject, why)
	if err != nil {
		return err
	}
	for _, c := range ended {
		if err := t.rows.Record(ctx, c.StepOf("ended", why, network(ctx), t.s.now())); err != nil {
			return err
		}
	}
	return nil
}

// callOffOpen calls off what is open of a subject: all of it, or at one mailbox.
func (t Tx) callOffOpen(ctx context.Context, subject, mailbox, why string) error {
	open, err := t.rows.OpenOf(ctx, subject)
	if err != nil {
		return err
	}
	for _, one := range open {
		if mailbox != "" && one.Mailbox != mailbox {
			continue
		}
		if _, err := t.callOff(ctx, one, why); err != nil {
			return err
		}
	}
	return nil
}

// letterFor returns the delivery of a challenge's letter. It holds no secret and no data: both
// are made from the challenge when the letter is composed.
func (s *Service) letterFor(ctx context.Context, c store.Challenge, now time.Time) store.Delivery {
	return store.Delivery{
		ID: newID(), Challenge: c.ID, Generation: c.Generation, Letter: c.Letter, Locale: c.Locale,
		Address: c.Address, Name: c.Name, Data: "{}", Lane: store.Urgent, Created: now, Due: now, DeliverBefore: c.Ends, Trace: outbox.Trace(ctx),
	}
}

func pendingOf(c challenge.Challenge) Pending {
	return Pending{id: c.ID, Purpose: c.Purpose, Address: cmp.Or(c.Typed, c.Address), Forms: c.Forms, ResendAfter: c.ResendAfter, Ends: c.Ends, TriesLeft: c.TriesAllowed - c.Tries, Confirmed: c.State == challenge.Accepted}
}

// Pending returns the challenge that a ticket belongs to, for the page on which a person waits. The
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

// Resend sends the letter of a ticket's challenge again, with the same proof while that has a
// useful life left, and with a fresh one until the hard cap. One that still waits is brought forward
// instead of doubled. The limits hold for it: [TooSoonError] says when it will do. The error matches
// [ErrTooSoon], [ErrUsed], [ErrCalledOff], [ErrExpired] or [ErrInvalid].
func (s *Service) Resend(ctx context.Context, ticket string) (Pending, error) {
	c, err := s.byTicket(ctx, ticket)
	if err != nil {
		return Pending{}, err
	}
	p, err := s.resend(ctx, c, ByPerson)
	p.Ticket = ticket
	return p, err
}

// ResendLink is Resend for whoever has a link from the letter, such as one whose life is over: the
// letter goes to the same address. After the hard cap the error is [ErrExpired].
func (s *Service) ResendLink(ctx context.Context, link string) (Pending, error) {
	c, err := s.byLink(ctx, link)
	if err != nil && (!errors.Is(err, ErrExpired) || c.ID == "") {
		return Pending{}, err
	}
	return s.resend(ctx, c, ByPerson)
}

// ResendFor is Resend for an operator who was asked for help: the letter of the latest challenge that
// waits at an address goes out again. The limits refuse it nothing; the challenge's own wait holds, as
// it keeps two letters from crossing. The error matches [ErrNothingPending], or those of Resend.
func (s *Service) ResendFor(ctx context.Context, address string) (Pending, error) {
	to, err := s.anyRecipient(address)
	if err != nil {
		return Pending{}, err
	}
	c, err := s.store.OpenAt(ctx, to.Mailbox(), s.now())
	if errors.Is(err, store.ErrNotFound) {
		return Pending{}, ErrNothingPending
	}
	if err != nil {
		return Pending{}, err
	}
	return s.resend(ctx, c, ByOperator)
}

// resend decides and writes. If another resend of the same challenge comes in between, the
// decision is taken again on the new row, and is then to wait. A letter that only comes forward costs
// nothing.
func (s *Service) resend(ctx context.Context, c store.Challenge, by Asker) (Pending, error) {
	now := s.now()
	r := c.Resend(s.purposes[c.Purpose].Policy, now)
	switch {
	case c.State == challenge.Accepted:
		return pendingOf(c.Challenge), ErrUsed
	case c.State == challenge.Ended && c.Why != challenge.Lapsed:
		return pendingOf(c.Challenge), ErrCalledOff
	case !r.Allowed && r.At.IsZero():
		return pendingOf(c.Challenge), ErrExpired
	case !r.Allowed:
		return pendingOf(c.Challenge), &TooSoonError{At: r.At}
	}
	to, err := message.ParseRecipient(c.Address)
	if err != nil {
		return Pending{}, err
	}
	spent, err := s.spend(ctx, s.ask(ctx, to, c.Purpose, c.Subject, c.Browser, limit.Again), c.ID, by)
	if err != nil {
		return pendingOf(c.Challenge), err
	}
	written, waits := false, false
	err = s.own(ctx, func(ctx context.Context) error {
		return s.store.Write(ctx, func(t store.Tx) (err error) {
			if written, err = t.Resend(ctx, r.Next); err != nil || !written {
				return err
			}
			if err := t.Record(ctx, c.StepOf("resent", "for the "+string(by), network(ctx), now)); err != nil {
				return err
			}
			if waits, err = t.BringForward(ctx, c.ID, r.Next.Generation, now); err != nil || waits {
				return err
			}
			next := c
			next.Challenge = r.Next
			again := s.letterFor(ctx, next, now)
			again.AskedBy = store.SentAgain + string(by)
			return t.InsertDelivery(ctx, again)
		})
	})
	if err != nil || !written || waits {
		s.giveBack(ctx, spent)
	}
	if err != nil {
		return Pending{}, err
	}
	if !written {
		if c, err = s.store.Challenge(ctx, c.ID); err != nil {
			return Pending{}, err
		}
		return s.resend(ctx, c, by)
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
