package illumicode

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/limits"
	rows "github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/limit"
	"github.com/illumicode/illumicode/message"
)

// A Ticket belongs to the browser that began a challenge, and to nobody else: a code counts only together with it. Keep
// it in a cookie.
type Ticket string

// A Link is the token of a link in a letter: the value of its URL's parameter t.
type Link string

// A Request is what a person asks for.
type Request struct {
	Address string // as typed: a mail address, or a phone number with its country code
	Name    string // display name for the letter; may be empty

	// Locale is BCP 47 tags or an Accept-Language value; empty means that of the account's last proof, if it is known,
	// else the fallback.
	Locale string
	Zone   string // the reader's time zone, such as Europe/Oslo; empty means UTC

	// Client is where it came from, as web.Pages.Request fills in; the zero Addr means what [FromNetwork] has said.
	// Without either, rules by network do not hold, which is logged once.
	Client netip.Addr

	// Purpose is what [Service.Admit] admits it for: the limits have rules for each. Empty means signup. The one-call
	// forms know theirs.
	Purpose string
	Subject string // who asks, where the application knows, for limits that count by it

	// Vouched says that the application vouches for who asks, by a password just checked or a puzzle solved: what
	// rules for everybody reserve is for such requests, and for known browsers and sessions.
	Vouched bool

	// Ticket is what the browser has from an earlier challenge of the same purpose: a sign-in takes the place of that
	// one, and a signup goes on with it. Browser is what [Tx.AcceptSignIn] gave it at an earlier sign-in. Both may be
	// empty, and either is ignored if it is not ours. Device is what the browser calls itself, such as "Firefox on
	// Linux", for the list of known ones; it is cut after 60 characters.
	Ticket  Ticket
	Browser string
	Device  string
}

// FromNetwork returns a context that says where a request came from: the address of the client, as the application
// knows it behind the proxies that it trusts. Calls with such a context write it to the trail, and wrong codes from one
// network (an IPv4 address, an IPv6 /64) slow it down.
func FromNetwork(ctx context.Context, client netip.Addr) context.Context {
	return flow.FromNetwork(ctx, client)
}

// An Admission is a request that was checked and may begin one challenge. It is made by [Service.Admit] only. The
// transaction that uses it may be rolled back and tried again. A second committed use is refused with
// [ErrAdmissionUsed], and one after a minute, when it may have been refunded, with [ErrExpired].
type Admission struct {
	id      string    // of the challenge that it may begin
	purpose string    // that it is for; empty for any
	network string    // that it came from
	until   time.Time // when it is good no longer; zero for one of the service's own
	spent   limits.Charge
	few     bool // the network has had few letters at an address where strangers have used up the others
	address message.Address
	locale  string
	zone    string
	browser rows.Browser // a known one that asks
	ticket  Ticket       // that the browser has from an earlier challenge
	subject string       // of a notice that goes to whatever address it has
}

// Address returns the admitted address as it will be stored.
func (a Admission) Address() string { return a.address.String() }

// Admit checks a request: a letter can be sent to its address and name, Config.Admit has nothing against the address,
// and the limits have room. Call it before your transaction: no rollback returns what it spends. Unused admissions are
// refunded after one minute, except by network and global rules. It is for one challenge of Request.Purpose. The error
// matches [message.ErrAddress], and says what is wrong in words that may be shown, or [ErrTooSoon], with the rule that
// refused and when to come back.
func (s *Service) Admit(ctx context.Context, r Request) (Admission, error) {
	a, err := s.admitFor(ctx, r)
	if err == nil {
		a.until = s.p.Now().Add(limits.UnusedAfter)
		s.p.Limits.Keep(a.spent)
	}
	return a, err
}

// admitFor is Admit for a caller that refunds what it did not use.
func (s *Service) admitFor(ctx context.Context, r Request) (Admission, error) {
	s.p.Here(ctx)
	ctx = r.from(ctx)
	a, ask, err := s.admissible(ctx, r)
	if err != nil {
		return Admission{}, err
	}
	a.spent, a.few, err = s.spend(ctx, spending{ask, a.address, a.id, limits.ByPerson})
	return a, err
}

// A spending is a request as the limits look at it, and what it is for.
type spending struct {
	ask judge.Request
	to  message.Address
	id  string // of the challenge
	by  limits.Asker
}

// spend judges a request and debits its rules. few says that only those which strangers do not share had room. The
// error is a [*TooSoonError].
func (s *Service) spend(ctx context.Context, what spending) (spent limits.Charge, few bool, err error) {
	err = flow.Own(ctx, func(ctx context.Context) (err error) {
		spent, err = s.p.Limits.Spend(ctx, what.ask, what.id, what.by)
		if !what.ofStrangers(err) {
			return err
		}
		refused := err
		if few, err = s.few(ctx, s.p.Store, what.to.Mailbox(), flow.Network(ctx)); err != nil || !few {
			return cmp.Or(err, refused)
		}
		spent, err = s.p.Limits.Spend(ctx, what.shared(), what.id, what.by)
		return err
	})
	return spent, few, tooSoon(err)
}

// fairDay is how long what a network has had counts against it at an address.
const fairDay = 24 * time.Hour

// few reports whether a network has had fewer letters at a mailbox than others, so that it has a place of its own.
func (s *Service) few(ctx context.Context, from interface {
	LettersByNetwork(ctx context.Context, mailbox string, since time.Time) (map[string]int, error)
}, mailbox, network string) (bool, error) {
	had, err := from.LettersByNetwork(ctx, mailbox, s.p.Now().Add(-fairDay))
	return err == nil && judge.Fair(judge.FairPlaces, had, network), err
}

// ofStrangers reports whether a refusal is by a rule on the address, which strangers may have used up: then a network
// that has had fewer letters than others gets some of its own.
func (w spending) ofStrangers(err error) bool {
	refused, ok := errors.AsType[*limits.RefusedError](err)
	return ok && w.by == limits.ByPerson && w.ask.Browser == "" && w.ask.Subject == "" &&
		(refused.Rule.By == limit.Address || refused.Rule.By == limit.Subject)
}

// shared returns the request without what strangers share.
func (w spending) shared() judge.Request {
	w.ask.Address = ""
	return w.ask
}

// admitted admits a request and runs begin, which begins its challenge, in one transaction of the service's own; what
// was spent for nothing is refunded. Where there is one writer the limits are judged in that transaction, which has the
// whole file anyway; else in a short one before, so that nobody waits long for a key that everybody needs.
func (s *Service) admitted(ctx context.Context, r Request, begin func(context.Context, Tx, Admission) error) error {
	ctx = r.from(ctx)
	a, ask, err := s.admissible(ctx, r)
	what := spending{ask, a.address, a.id, limits.ByPerson}
	inside := s.p.Store.OneWriter()
	if err == nil && !inside {
		a.spent, a.few, err = s.spend(ctx, what)
	}
	if err != nil {
		return err
	}
	err = flow.Own(ctx, func(ctx context.Context) error {
		return s.p.Store.Write(ctx, func(side rows.Tx) (err error) {
			if inside {
				if a.spent, a.few, err = s.spendInside(ctx, side, what); err != nil {
					return tooSoon(err)
				}
			}
			return begin(ctx, s.tx(side, side), a)
		})
	})
	switch {
	case err == nil:
		s.Wake()
	case inside:
		s.p.Limits.SpendAgain(ctx, a.spent)
	default:
		s.p.Limits.Refund(ctx, a.spent)
	}
	return err
}

// spendInside is spend in a transaction that has the whole database.
func (s *Service) spendInside(ctx context.Context, side rows.Tx, what spending) (spent limits.Charge, few bool,
	err error) {
	spent, err = s.p.Limits.SpendInside(ctx, side, what.ask, what.id)
	if !what.ofStrangers(err) {
		return spent, false, err
	}
	few, lookErr := s.few(ctx, side, what.to.Mailbox(), flow.Network(ctx))
	if lookErr != nil || !few {
		return spent, false, cmp.Or(lookErr, err)
	}
	spent, err = s.p.Limits.SpendInside(ctx, side, what.shared(), what.id)
	return spent, true, err
}

// admissible checks all of a request but the limits, and returns how these look at it. ctx says where it came from.
func (s *Service) admissible(ctx context.Context, r Request) (a Admission, ask judge.Request, err error) {
	purpose, err := s.p.PurposeOf(r.Purpose)
	if err != nil {
		return a, ask, err
	}
	if a, err = s.addressed(ctx, r); err != nil {
		return a, ask, err
	}
	a.id, a.purpose, a.network, a.ticket = flow.NewID(), purpose, flow.Network(ctx), r.Ticket
	if a.browser, err = s.p.KnownBrowser(ctx, r.Browser, a.address.Mailbox()); err != nil {
		return a, ask, err
	}
	known, err := s.counted(ctx, a.browser)
	if err != nil {
		return a, ask, err
	}
	return a, s.p.Keyed(ctx, flow.LimitRequest{To: a.address, Purpose: purpose, Subject: r.Subject, Known: known,
		Stage: limit.First, Vouched: r.Vouched}), nil
}

// from returns a context that says where a request came from, if the caller's does not.
func (r Request) from(ctx context.Context) context.Context {
	if flow.Network(ctx) == "" && r.Client.IsValid() {
		return FromNetwork(ctx, r.Client)
	}
	return ctx
}

// addressed checks whom a request is to write to, in which language. It spends nothing.
func (s *Service) addressed(ctx context.Context, r Request) (Admission, error) {
	address, err := s.p.Recipient(r.Address)
	if err != nil {
		return Admission{}, err
	}
	if address, err = address.WithName(r.Name); err != nil {
		return Admission{}, err
	}
	if s.admit != nil {
		if err := s.admit(ctx, address); err != nil {
			return Admission{}, fmt.Errorf("%w: %w", message.ErrAddress, err)
		}
	}
	if _, err := s.p.Zones.Load(r.Zone); err != nil {
		return Admission{}, err
	}
	return Admission{address: address, locale: s.Locale(r.Locale), zone: r.Zone}, nil
}

// A Pending is a challenge that waits for its proof.
type Pending struct {
	Ticket Ticket // empty where the caller is not the browser that began

	Purpose     string
	Address     string
	Forms       challenge.Forms // what the letter carries
	ResendAfter time.Time       // when the letter may be sent again
	Ends        time.Time       // when neither link nor code can work any more
	TriesLeft   int             // of a code
	Confirmed   bool            // it has been accepted
	// its account is made when it is proven: [Service.RegisterCode], as Pending and Inspect tell
	Registered bool

	id string
}

// tooSoon returns a refusal of the limits as applications see it, and any other error as it is.
func tooSoon(err error) error {
	refused, ok := errors.AsType[*limits.RefusedError](err)
	if !ok {
		return err
	}
	e := &TooSoonError{At: refused.At, Rule: refused.Rule.Name, Limit: refused.Rule.String(), Vouch: refused.Vouch}
	switch rate, quota := refused.Rule.Rate, refused.Rule.Quota; {
	case rate.Times > 0:
		e.Times, e.Window = rate.Times, rate.Per
	case quota.Times > 0:
		const day = 24 * time.Hour
		windows := map[limit.Window]time.Duration{limit.Hour: time.Hour, limit.Day: day, limit.Month: 30 * day}
		e.Times, e.Window = quota.Times, windows[quota.Window]
	}
	return e
}
