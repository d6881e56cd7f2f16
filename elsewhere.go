package illumicode

import (
	"context"
	"errors"
	"time"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/internal/flow"
	rows "github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/message"
)

// How long the letter of a sign-in lets other browsers begin, and how many.
const (
	wayInFor = time.Hour
	mostWays = 2
)

// SignInElsewhere begins a sign-in for a browser that has the link of a sign-in's letter and not its ticket: whoever
// reads the letter holds the mailbox, whoever has asked for it. So no stranger who uses up what an address has locks
// its owner out on a new browser. Call it for a POST, on a page that says where the code goes and that it is for who is
// signing in there now.
//
// The new challenge has its own ticket and letter, and nothing that strangers share. It can begin for an hour from the
// beginning of the first, even where that was superseded, has expired or has no tries left, in two browsers; its own
// letter lets nobody else begin. With Request.Ticket of such a challenge a browser goes on with that. Of r the rest is
// Locale, Client and Device. The error matches [ErrOtherBrowser] if two have begun, [ErrExpired] after the hour, and
// [ErrUsed], [ErrCalledOff] or [ErrInvalid] as that of [Service.ProveLink].
func (s *Service) SignInElsewhere(ctx context.Context, link Link, r Request) (Pending, error) {
	ctx = r.from(ctx)
	c, err := s.wayIn(ctx, link)
	if err != nil {
		return Pending{}, err
	}
	var p Pending
	err = flow.Own(ctx, func(ctx context.Context) error {
		return s.p.Store.Write(ctx, func(side rows.Tx) (err error) {
			p, err = s.tx(side, side).beginElsewhere(ctx, c, r)
			return err
		})
	})
	if err == nil {
		s.Wake()
	}
	return p, err
}

// wayIn returns the sign-in whose letter has a link, if it lets another browser begin.
func (s *Service) wayIn(ctx context.Context, link Link) (rows.Challenge, error) {
	c, err := s.byLink(ctx, link)
	if c.ID == "" {
		return c, err
	}
	return c, s.opensWay(c)
}

// opensWay returns why the letter of a challenge lets no other browser begin; nil if it does.
func (s *Service) opensWay(c rows.Challenge) error {
	switch {
	case c.Purpose != challenge.SignIn || c.Origin != "" || c.Decoy:
		return ErrInvalid
	case c.State == proof.Accepted:
		return ErrUsed
	case c.State == proof.Ended && c.Why != proof.Superseded && c.Why != proof.Lapsed:
		return ErrCalledOff
	case !s.p.Now().Before(c.Created.Add(wayInFor)):
		return ErrExpired
	}
	return nil
}

func (t Tx) beginElsewhere(ctx context.Context, first rows.Challenge, r Request) (Pending, error) {
	// as every sign-in at the address does: two calls do not both find room for one
	if _, err := t.rows().BeginByFailures(ctx, "address:"+first.Mailbox, t.s.p.Now()); err != nil {
		return Pending{}, err
	}
	owner, err := t.rows().Owner(ctx, first.Mailbox)
	if errors.Is(err, rows.ErrNotFound) || err == nil && owner.Subject != first.Subject { // released, or frozen
		return Pending{}, ErrCalledOff
	}
	if err != nil {
		return Pending{}, err
	}
	others, err := t.rows().BegunBy(ctx, first.ID)
	if err != nil {
		return Pending{}, err
	}
	for _, one := range others {
		if r.Ticket != "" && one.Ticket == flow.Digest(string(r.Ticket)) && one.State == proof.Open {
			p := pendingOf(one.Challenge)
			p.Ticket = r.Ticket
			return p, nil
		}
	}
	if len(others) >= mostWays {
		return Pending{}, ErrOtherBrowser
	}
	to, err := message.ParseRecipient(owner.Address)
	if err != nil {
		return Pending{}, err
	}
	to.Name = first.Name
	a := Admission{address: to, locale: t.s.Locale(first.Locale), network: flow.Network(ctx)}
	if r.Locale != "" {
		a.locale = t.s.Locale(r.Locale)
	}
	return t.begin(ctx, a, start{purpose: challenge.SignIn, subject: first.Subject, device: r.Device,
		origin: first.ID})
}
