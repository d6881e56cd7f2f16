package illumicode

import (
	"cmp"
	"context"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/flow"
	rows "github.com/illumicode/illumicode/internal/store"
)

// anew begins a challenge beside one whose tries are used up, for the browser that has its ticket: a letter sent again
// would carry a code that nothing accepts. It is judged as a first request, goes on where the other was on the ladder
// of waits, and has its own ticket. The other's link stays good. The change of an address has one challenge: its link
// is what is left.
func (s *Service) anew(ctx context.Context, c rows.Challenge, ticket Ticket) (Pending, error) {
	switch {
	case c.Purpose == challenge.Reverify:
		return pendingOf(c.Challenge), ErrNoTries
	case s.p.Now().Before(c.ResendAfter):
		return pendingOf(c.Challenge), &TooSoonError{At: c.ResendAfter}
	}
	browser, err := s.began(ctx, c)
	if err != nil {
		return Pending{}, err
	}
	r := Request{Address: cmp.Or(c.Typed, c.Address), Name: c.Name, Locale: c.Locale, Purpose: c.Purpose,
		Subject: c.Subject, Ticket: ticket, Device: c.Device}
	if browser.ID != "" {
		r.Browser = s.p.SealBrowser(browser)
	}
	var p Pending
	err = s.admitted(ctx, r, func(ctx context.Context, t Tx, a Admission) (err error) {
		p, err = t.again(ctx, a, c)
		return err
	})
	if err != nil {
		p = pendingOf(c.Challenge)
		p.Ticket = ticket
	}
	return p, err
}

// stillOpen locks a challenge and returns why it cannot be proven any more; nil if it can.
func (t Tx) stillOpen(ctx context.Context, c rows.Challenge) error {
	now := t.s.p.Now()
	if _, err := t.rows().LockFailures(ctx, "address:"+c.Mailbox, now); err != nil { // a write first, for SQLite
		return err
	}
	c, err := t.rows().ByTicket(ctx, c.Ticket)
	return cmp.Or(err, outcomeError(c.Asked(challenge.Link, now)))
}

// again begins a challenge for what an earlier one is for.
func (t Tx) again(ctx context.Context, a Admission, c rows.Challenge) (Pending, error) {
	st := start{purpose: c.Purpose, subject: c.Subject, data: c.Data, action: c.Action, forms: c.Forms,
		resends: c.Resends + 1, ticket: Ticket(flow.NewTicket())}
	if c.Purpose == challenge.Signup { // its link may be what confirms it at this moment
		if err := t.stillOpen(ctx, c); err != nil {
			return Pending{}, err
		}
	}
	switch {
	case c.Purpose == challenge.SignIn:
		return t.beginSignIn(ctx, a, start{device: c.Device, locale: c.Locale, resends: st.resends, ticket: st.ticket})
	case c.Sealed != "":
		if err := t.takeAlong(ctx, c, a, &st); err != nil {
			return Pending{}, err
		}
	case c.Decoy:
		st.decoy, st.letter = true, flow.ExistsLetter
	case c.Purpose == challenge.Signup:
		held, err := t.registered(ctx, a, st)
		if err != nil {
			return Pending{}, err
		}
		if held { // confirmed by another browser since
			st.subject, st.decoy, st.letter = "", true, flow.ExistsLetter
		}
	}
	return t.begin(ctx, a, st)
}
