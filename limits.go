package illumicode

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/nyaruka/phonenumbers"

	"github.com/illumicode/illumicode/core/challenge"
	"github.com/illumicode/illumicode/core/limit"
	"github.com/illumicode/illumicode/core/message"
	"github.com/illumicode/illumicode/store"
)

// DefaultLimits returns the rules that hold where Config.Limits is nil. They bear with somebody who
// mistypes and presses every button, and with an office behind one network address; a form that
// strangers use as a mail cannon they stop. `illumicode limits report` shows what they let through.
func DefaultLimits() []limit.Rule {
	const day, hour = 24 * time.Hour, time.Hour
	return []limit.Rule{
		// Nobody holds back an owner for long: a browser that has signed in before has all of this to
		// itself, and for any other some of it comes back every hour.
		{Name: "address-again", By: limit.Address, Stage: limit.Again, Ladder: limit.Ladder{Rungs: []time.Duration{30 * time.Second, time.Minute, 5 * time.Minute, 15 * time.Minute}, Decay: hour}},
		{Name: "address-hour", By: limit.Address, Rate: limit.Rate{Times: 12, Per: hour, Burst: 8}},
		{Name: "address-day", By: limit.Address, Rate: limit.Rate{Times: 24, Per: day, Burst: 24}},
		// No more guesses than 100 a day at the codes of one account.
		{Name: "signin-day", By: limit.Address, On: []string{challenge.SignIn}, Stage: limit.First, Rate: limit.Rate{Times: 10, Per: day, Burst: 10}},
		{Name: "network-hour", By: limit.Network, Rate: limit.Rate{Times: 120, Per: hour, Burst: 60}},
		{Name: "network-day", By: limit.Network, Quota: limit.Quota{Times: 1000, Window: limit.Day}},
		// What a form can be made to send to people who never heard of the service, by any number of
		// strangers.
		{Name: "new-addresses", By: limit.All, New: true, Rate: limit.Rate{Times: 2000, Per: hour, Burst: 1000}},
		{Name: "new-addresses-day", By: limit.All, New: true, Quota: limit.Quota{Times: 20000, Window: limit.Day}},
		// Texts cost money, and some countries' numbers pay whoever is called.
		{Name: "sms-country", By: limit.Domain, Medium: limit.SMS, Quota: limit.Quota{Times: 200, Window: limit.Day}},
		{Name: "sms-day", By: limit.All, Medium: limit.SMS, Quota: limit.Quota{Times: 1000, Window: limit.Day}},
	}
}

// A LimitWatcher is told of every judgement, where Config.Outbox.Observer is one: of the rule that
// refused, of one that only observes and would have (noted), or of none, when a request was admitted.
// It is called by many goroutines and must return at once.
type LimitWatcher interface {
	Judged(rule string, refused, noted bool)
}

// An Asker is who asks for a letter to be sent again.
type Asker string

// The askers. The limits hold for the first two. An operator knows why, and is never refused; what
// operators send is counted.
const (
	ByPerson      Asker = "person"
	ByApplication Asker = "application"
	ByOperator    Asker = "operator"
)

// A charge is what an admitted request has spent.
type charge struct {
	id    string // of the challenge that it is for
	bound []limit.Bound
	at    time.Time
}

// unusedAfter is how long an admission may wait for its challenge before what it has spent is given
// back.
const unusedAfter = time.Minute

// The limits of a service: its rules, and the admissions of which it is not known yet whether a
// challenge came of them.
type limits struct {
	clerk *clerk
	set   *limit.Set
	watch LimitWatcher // nil for none

	byNetwork bool      // a rule counts by it
	unknown   sync.Once // a network was missing

	mu   sync.Mutex // guards open
	open []charge   // oldest first
}

// spend judges a request and spends from its rules. The error is a [*TooSoonError].
func (s *Service) spend(ctx context.Context, a limit.Ask, id string, by Asker) (charge, error) {
	return s.spendBy(a, id, by, func(bound []limit.Bound) (d limit.Decision, err error) {
		err = s.own(ctx, func(ctx context.Context) (err error) {
			d, err = s.limits.clerk.ask(ctx, bound)
			return err
		})
		return d, err
	})
}

// spendIn is spend in a transaction that has the whole database, so that one of its own would be one more
// that everybody waits for.
func (s *Service) spendIn(ctx context.Context, t store.Tx, a limit.Ask, id string, by Asker) (charge, error) {
	return s.spendBy(a, id, by, func(bound []limit.Bound) (limit.Decision, error) { return s.limits.clerk.askIn(ctx, t, bound) })
}

func (s *Service) spendBy(a limit.Ask, id string, by Asker, judge func([]limit.Bound) (limit.Decision, error)) (charge, error) {
	if a.Network == "" && by == ByPerson && s.limits.byNetwork {
		s.limits.unknown.Do(func() {
			s.log.Warn("a request came without its network, so that rules by network do not hold for it; take it from pages.Request, or say it with FromNetwork or, over JSON, in the Forwarded field")
		})
	}
	bound := s.limits.set.Bind(a)
	if len(bound) == 0 {
		return charge{}, nil
	}
	d, err := judge(bound)
	if err != nil {
		return charge{}, err
	}
	if d.Noted != nil {
		s.log.Info("a rule that observes would have refused", "rule", d.Noted.Name, "purpose", a.Purpose)
	}
	s.limits.tell(d)
	switch {
	case d.Allowed:
		return charge{id: id, bound: bound, at: s.now()}, nil
	case by == ByOperator:
		return charge{}, nil
	}
	s.log.Info("a limit refused a request", "rule", d.Refuser.Name, "purpose", a.Purpose, "stage", a.Stage, "again", d.At)
	return charge{}, &TooSoonError{At: d.At, Rule: d.Refuser.Name, Limit: d.Refuser.String(), rule: d.Refuser}
}

func (l *limits) tell(d limit.Decision) {
	if l.watch == nil {
		return
	}
	if d.Noted != nil {
		l.watch.Judged(d.Noted.Name, false, true)
	}
	if d.Allowed {
		l.watch.Judged("", false, false)
	} else {
		l.watch.Judged(d.Refuser.Name, true, false)
	}
}

// giveBack returns what a request has spent that came to nothing. What strangers can ask for as often
// as they like stays spent: by network, and in all.
func (s *Service) giveBack(ctx context.Context, c charge) {
	_, bound := c.split()
	if len(bound) == 0 {
		return
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), patience)
	defer cancel()
	if err := s.limits.clerk.giveBack(ctx, bound); err != nil {
		s.log.Warn("what an unused admission had spent could not be given back", "error", err)
	}
}

// split parts what strangers can ask for as often as they like from the rest.
func (c charge) split() (strangers, rest []limit.Bound) {
	for _, b := range c.bound {
		if b.Rule.By == limit.Network || b.Rule.By == limit.All {
			strangers = append(strangers, b)
		} else {
			rest = append(rest, b)
		}
	}
	return strangers, rest
}

// spendAgain is giveBack after a rollback that has taken everything back.
func (s *Service) spendAgain(ctx context.Context, c charge) {
	bound, _ := c.split()
	if len(bound) == 0 {
		return
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), patience)
	defer cancel()
	if _, err := s.limits.clerk.ask(ctx, bound); err != nil {
		s.log.Warn("what a request by a stranger has spent could not be kept", "error", err)
	}
}

// keep remembers an admission until it is known whether a challenge came of it.
func (l *limits) keep(c charge) {
	if len(c.bound) == 0 {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.open = append(l.open, c)
}

// maxOpen bounds how many admissions one look settles.
const maxOpen = 256

// ripe takes the admissions that are older than a minute.
func (l *limits) ripe(now time.Time) []charge {
	l.mu.Lock()
	defer l.mu.Unlock()
	n := 0
	for n < len(l.open) && n < maxOpen && now.Sub(l.open[n].at) >= unusedAfter {
		n++
	}
	out := l.open[:n:n]
	l.open = l.open[n:]
	return out
}

// settleUnused gives back what admissions have spent of which no challenge has come within a minute:
// the application's transaction was rolled back. A process that dies before loses them; they stay
// spent.
func (s *Service) settleUnused(ctx context.Context) error {
	ripe := s.limits.ripe(s.now())
	if len(ripe) == 0 {
		return nil
	}
	ids := make([]string, len(ripe))
	for i, c := range ripe {
		ids[i] = c.id
	}
	begun, err := s.store.Begun(ctx, ids)
	if err != nil {
		s.limits.mu.Lock()
		defer s.limits.mu.Unlock()
		s.limits.open = slices.Concat(ripe, s.limits.open) // for the next look
		return err
	}
	for _, c := range ripe {
		if !begun[c.id] {
			s.giveBack(ctx, c)
		}
	}
	return nil
}

// ask returns how rules look at a request. Nothing in it can be read back: addresses, subjects and
// networks are keyed digests.
func (s *Service) ask(ctx context.Context, to message.Address, purpose, subject, browser string, stage limit.Stage) limit.Ask {
	key := s.keys.Index()[0]
	digest := func(what, value string) string {
		if value == "" {
			return ""
		}
		return key.Lookup(what + " " + value)
	}
	a := limit.Ask{
		Purpose: purpose, Stage: stage, Medium: limit.Mail, New: purpose != challenge.SignIn && purpose != challenge.StepUp,
		Address: digest("address", to.Canonical()), Network: digest("network", network(ctx)), Domain: to.Domain(), Browser: digest("browser", browser),
	}
	if to.IsPhone() {
		a.Medium, a.Domain = limit.SMS, countryCode(to)
	}
	// Before a proof nobody may be told apart by whether there is an account.
	if purpose == challenge.StepUp || purpose == challenge.Reverify {
		a.Subject = digest("subject", subject)
	}
	// Who is signed in, and asks at an address of theirs, is not to wait for what strangers have used up.
	if purpose == challenge.StepUp {
		a.Browser = a.Subject
	}
	return a
}

// countryCode returns what a phone number begins with: "+47".
func countryCode(to message.Address) string {
	number, err := phonenumbers.Parse(to.String(), "")
	if err != nil {
		return "+"
	}
	return "+" + strconv.Itoa(int(number.GetCountryCode()))
}

// braked reports whether a letter that nobody asked for by name, to an address of which nothing is
// known, has to stay: whoever asked is not told, as that would tell whether there is an account.
func (s *Service) braked(ctx context.Context, d store.Delivery) (bool, error) {
	if d.Attempts > 0 {
		return false, nil
	}
	var bound []limit.Bound
	for _, b := range s.limits.set.Bind(limit.Ask{Purpose: challenge.SignIn, Stage: limit.First, Medium: limit.Mail, New: true}) {
		if b.Rule.New {
			bound = append(bound, b)
		}
	}
	if len(bound) == 0 {
		return false, nil
	}
	decision, err := s.limits.clerk.ask(ctx, bound)
	return err == nil && !decision.Allowed, err
}

// An Answer is what the rules would say to one request after another.
type Answer struct {
	Rules []RuleAnswer

	Now       int       // how many would pass right now
	Hour      int       // how many within an hour, each asked as soon as it passes
	NextAfter time.Time // when the first after those of now would pass; zero if none would within the hour
	Refuser   string    // the rule that refuses it until then
}

// A RuleAnswer is one rule's part.
type RuleAnswer struct {
	Rule limit.Rule
	Left int       // how many would pass right now, as far as this rule is concerned
	At   time.Time // when one would, if none does now
}

// tryMost bounds how many requests TryLimits tries.
const tryMost = 10000

// TryLimits says what the rules would answer to a request, now and over the next hour, and spends
// nothing. again asks for a letter sent again instead of a first one. The network is FromNetwork's.
func (s *Service) TryLimits(ctx context.Context, r Request, again bool) (Answer, error) {
	to, err := s.recipient(r.Address)
	if err != nil {
		return Answer{}, err
	}
	stage := limit.First
	if again {
		stage = limit.Again
	}
	purpose, err := s.purposeOf(r)
	if err != nil {
		return Answer{}, err
	}
	bound := s.limits.set.Bind(s.ask(ctx, to, purpose, r.Subject, s.knownBrowser(r.Browser, to.Mailbox()), stage))
	states, err := s.limits.clerk.look(ctx, bound)
	if err != nil {
		return Answer{}, err
	}
	var out Answer
	now := s.now().Truncate(time.Microsecond) // as states are kept
	for i, b := range bound {
		st, _ := b.Rule.Look(b.Rule.Settle(states[i], now), 1, now)
		out.Rules = append(out.Rules, RuleAnswer{Rule: *b.Rule, Left: st.Left, At: st.At})
	}
	next := make([]limit.State, len(bound))
	for at := now; out.Hour < tryMost; {
		d := limit.Judge(bound, states, 1, at, next)
		copy(states, next)
		if d.Allowed {
			out.Hour++
			if at.Equal(now) {
				out.Now++
			}
			continue
		}
		if d.At.IsZero() || d.At.Sub(now) >= time.Hour {
			if out.Refuser == "" {
				out.Refuser = d.Refuser.Name
			}
			break
		}
		if out.NextAfter.IsZero() {
			out.NextAfter, out.Refuser = d.At, d.Refuser.Name
		}
		at = d.At
	}
	return out, nil
}

// purposeOf returns the purpose of a request, or an error if the service has none of the name.
func (s *Service) purposeOf(r Request) (string, error) {
	purpose := r.Purpose
	if purpose == "" {
		purpose = challenge.Signup
	}
	if _, known := s.purposes[purpose]; !known {
		return "", fmt.Errorf("illumicode: Request.Purpose is %q, which is no purpose of this service; Config.Purposes names the application's own", purpose)
	}
	return purpose, nil
}

// Limits returns the rules that hold.
func (s *Service) Limits() []limit.Rule { return s.limits.set.Rules() }
