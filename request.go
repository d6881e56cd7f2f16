package illumicode

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"github.com/nyaruka/phonenumbers"

	"github.com/illumicode/illumicode/core/challenge"
	"github.com/illumicode/illumicode/core/limit"
	"github.com/illumicode/illumicode/core/message"
	"github.com/illumicode/illumicode/store"
)

// A Request is what a person asks for.
type Request struct {
	Address string // as typed: a mail address, or a phone number with its country code
	Name    string // display name for the letter; may be empty
	Locale  string // BCP 47 tags or an Accept-Language value; empty means that of the account's last proof, if it is known, else the fallback
	Zone    string // the reader's time zone, such as Europe/Oslo; empty means UTC

	// Client is where it came from, as web.Pages.Request fills in; the zero Addr means what
	// [FromNetwork] has said. Without either, rules by network do not hold, which is logged once.
	Client netip.Addr

	// Purpose is what [Service.Admit] admits it for: the limits have rules for each. Empty means
	// signup. The one-call forms know theirs.
	Purpose string
	// Subject is who asks, where the application knows, for limits that count by it.
	Subject string

	// Ticket is what the browser has from an earlier challenge of the same purpose, which the new
	// one then takes the place of; Browser is what [Service.AcceptSignIn] gave it at an earlier
	// sign-in. Both may be empty, and either is ignored if it is not ours. Only [Service.SignIn]
	// looks at them.
	Ticket, Browser string
}

// An Admission is a request that was checked and may begin. It is made by [Service.Admit] only.
type Admission struct {
	id      string // of the challenge that it may begin
	purpose string // that it is for; empty for any
	network string // that it came from
	spent   charge
	address message.Address
	locale  string
	zone    string
}

// Address returns the admitted address as it will be stored.
func (a Admission) Address() string { return a.address.String() }

// Admit checks a request: the address and the name must be such that a letter can be sent to
// them, Config.Admit must have nothing against the address, and the limits must have room. Call it
// before your transaction, as what it spends no rollback returns; an admission of which no challenge
// came is credited after a minute, but not by network and in all. It is for one challenge of
// Request.Purpose. The error matches [message.ErrAddress], and says what is wrong in words that may be
// shown, or [ErrTooSoon], with the rule that refused and when to come back.
func (s *Service) Admit(ctx context.Context, r Request) (Admission, error) {
	a, err := s.admitFor(ctx, r)
	if err == nil {
		s.limits.keep(a.spent)
	}
	return a, err
}

// admitFor is Admit for a caller that gives back what it did not use.
func (s *Service) admitFor(ctx context.Context, r Request) (Admission, error) {
	ctx = r.from(ctx)
	a, ask, err := s.admissible(ctx, r)
	if err != nil {
		return Admission{}, err
	}
	a.spent, err = s.spend(ctx, ask, a.id, ByPerson)
	return a, err
}

// admitted admits a request and runs begin, which begins its challenge, in one transaction of the service's
// own; what was spent and came to nothing is given back. Where there is one writer the limits are judged in
// that transaction, which has the whole file anyway; else in a short one before, so that nobody waits long
// for a key that everybody needs.
func (s *Service) admitted(ctx context.Context, r Request, begin func(context.Context, Tx, Admission) error) error {
	ctx = r.from(ctx)
	a, ask, err := s.admissible(ctx, r)
	inside := s.store.OneWriter()
	if err == nil && !inside {
		a.spent, err = s.spend(ctx, ask, a.id, ByPerson)
	}
	if err != nil {
		return err
	}
	err = s.own(ctx, func(ctx context.Context) error {
		return s.store.Write(ctx, func(rows store.Tx) (err error) {
			if inside {
				if a.spent, err = s.spendIn(ctx, rows, ask, a.id, ByPerson); err != nil {
					return err
				}
			}
			return begin(ctx, s.On(rows), a)
		})
	})
	switch {
	case err == nil:
		s.Wake()
	case inside:
		s.spendAgain(ctx, a.spent)
	default:
		s.giveBack(ctx, a.spent)
	}
	return err
}

// admissible checks all of a request but the limits, and returns how these look at it. ctx says where it
// came from.
func (s *Service) admissible(ctx context.Context, r Request) (a Admission, ask limit.Ask, err error) {
	purpose, err := s.purposeOf(r)
	if err != nil {
		return a, ask, err
	}
	if a, err = s.addressed(ctx, r); err != nil {
		return a, ask, err
	}
	if err := s.settleUnused(ctx); err != nil {
		return a, ask, err
	}
	a.id, a.purpose, a.network = newID(), purpose, network(ctx)
	return a, s.ask(ctx, a.address, purpose, r.Subject, s.knownBrowser(r.Browser, a.address.Mailbox()), limit.First), nil
}

// from returns a context that says where a request came from, if the caller's does not.
func (r Request) from(ctx context.Context) context.Context {
	if network(ctx) == "" && r.Client.IsValid() {
		return FromNetwork(ctx, r.Client)
	}
	return ctx
}

// addressed checks whom a request is to write to, in which language. It spends nothing.
func (s *Service) addressed(ctx context.Context, r Request) (Admission, error) {
	address, err := s.recipient(r.Address)
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
	if _, err := s.zones.load(r.Zone); err != nil {
		return Admission{}, err
	}
	return Admission{address: address, locale: s.Locale(r.Locale), zone: r.Zone}, nil
}

// recipient reads an address or a phone number as people type them. A number is refused if a
// provider for SMS is missing, or if the numbering plan of its country has no such number.
func (s *Service) recipient(typed string) (message.Address, error) {
	typed = strings.TrimSpace(typed)
	digits := typed != "" && strings.Trim(typed, "+0123456789 ()/.-") == ""
	if strings.Contains(typed, "@") || !strings.HasPrefix(typed, "+") && !(digits && s.sms) {
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

// A Pending is a challenge that waits for its proof.
type Pending struct {
	// Ticket belongs to the browser that began, and to nobody else: a code counts only together
	// with it. Keep it in a cookie. It is empty where the caller is not that browser.
	Ticket string

	Purpose     string
	Address     string
	Forms       challenge.Forms // what the letter carries
	ResendAfter time.Time       // when the letter may be sent again
	Ends        time.Time       // when neither link nor code can work any more
	TriesLeft   int             // of a code
	Confirmed   bool            // it has been accepted

	id string
}
