package illumicode

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"

	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/event"
	"github.com/illumicode/illumicode/internal/composer"
	"github.com/illumicode/illumicode/internal/core/events"
	"github.com/illumicode/illumicode/internal/core/near"
	"github.com/illumicode/illumicode/internal/flow"
	rows "github.com/illumicode/illumicode/internal/store"
)

// An EventRule says what an event leads to. Type, Letter and exactly one of To, Fixed and
// Recipients are required.
type EventRule struct {
	Type   string // of the events it is for; a "*" at its end stands for any rest
	Letter string // its values are the event's data

	// To is an RFC 6901 pointer into the event's data, to who gets the letter: an address, an object with address,
	// name, locale and zone, or an array of these. What else an object has, and the name, are values of its own letter,
	// over those of the event; an array itself is no value of any. It may also be missing there and follow the event
	// in lines ([Service.ReceiveList]).
	To    string
	Fixed []Request
	// Recipients are found by the application. On SQLite other writers wait while they are read; see
	// [Service.NotifyAll].
	Recipients func(ctx context.Context, e event.Event) iter.Seq2[Recipient, error]

	Lane   delivery.Lane // empty means the letter's own, or normal
	Delay  time.Duration // before it is due
	Key    string        // a pointer to the application's key, for Cancel and Move; empty for none
	Remind string        // a pointer to the moment to remind of, RFC 3339; empty for none
	Before time.Duration // how long before it; with Remind
	Gather time.Duration // how long notices to one address gather in one letter; 0 for not at all
	Topic  string        // a pointer to what gathered notices have in common; empty gathers all of the letter
}

// check says what is wrong with a rule.
func (r EventRule) check(s *Service) error {
	ways := 0
	for _, given := range []bool{r.To != "", len(r.Fixed) > 0, r.Recipients != nil} {
		if given {
			ways++
		}
	}
	switch {
	case r.Type == "":
		return errors.New("has no type")
	case ways != 1:
		return fmt.Errorf("for %q needs one of To, Fixed and Recipients, and has %d", r.Type, ways)
	case !s.p.Letters.Has(r.Letter):
		return fmt.Errorf("for %q: %w", r.Type, s.p.Letters.Missing(r.Letter))
	case s.p.Letters.CarriesProof(r.Letter):
		return fmt.Errorf("for %q names letter %q, which carries a proof and is no notice", r.Type, r.Letter)
	case (r.Remind == "") != (r.Before == 0) || r.Before < 0:
		return fmt.Errorf("for %q: Remind and a positive Before go together", r.Type)
	case r.Gather > 0 && r.Remind != "":
		return fmt.Errorf("for %q: a reminder cannot gather", r.Type)
	}
	for _, pointer := range []string{r.To, r.Key, r.Remind, r.Topic} {
		if pointer != "" && !strings.HasPrefix(pointer, "/") {
			return fmt.Errorf("for %q: %q is no pointer (RFC 6901); it begins with a slash", r.Type, pointer)
		}
	}
	for _, f := range r.Fixed {
		if _, err := s.p.Recipient(f.Address); err != nil {
			return fmt.Errorf("for %q: %w", r.Type, err)
		}
	}
	return nil
}

func (r EventRule) fits(kind string) bool {
	if stem, ok := strings.CutSuffix(r.Type, "*"); ok {
		return strings.HasPrefix(kind, stem)
	}
	return r.Type == kind
}

// Receive takes an event in the application's transaction: every rule for its type adds its
// notices. An event with the source and the id of an earlier one has no effect; if its contents
// differ, it is refused with [ErrDifferent]. The error matches [event.ErrNoRule] if no rule is for its
// type. After any error the transaction holds nothing of the event.
func (t Tx) Receive(ctx context.Context, e event.Event) error {
	if err := t.ok(); err != nil {
		return err
	}
	if err := events.Check(e); err != nil {
		return fmt.Errorf("%w: %w", event.ErrMalformed, err)
	}
	return t.rows().Nested(ctx, func() error { return t.receive(ctx, e) })
}

func (t Tx) receive(ctx context.Context, e event.Event) error {
	sum := sha256.Sum256([]byte(e.Type + "\x00" + string(e.Data)))
	first, err := t.firstOf(ctx, e, hex.EncodeToString(sum[:]))
	if err != nil || !first {
		return err
	}
	values, err := events.Values(e)
	if err != nil {
		return fmt.Errorf("%w: %w", event.ErrMalformed, err)
	}
	taken := false
	for _, r := range t.s.rules {
		if r.fits(e.Type) {
			taken = true
			if err := t.apply(ctx, r, e, values); err != nil {
				return err
			}
		}
	}
	if !taken {
		return t.s.noRule(e.Type)
	}
	return nil
}

// firstOf records an event under its source and id, and reports whether it is the first.
func (t Tx) firstOf(ctx context.Context, e event.Event, digest string) (first bool, err error) {
	first, stands, err := t.rows().Once(ctx, rows.Once{Name: eventName(e), Digest: digest, Made: t.s.p.Now()})
	if err == nil && !first && stands.Digest != digest {
		err = differs(e)
	}
	return first, err
}

func eventName(e event.Event) string { return fmt.Sprintf("event %q %q", e.Source, e.ID) }

func differs(e event.Event) error {
	return fmt.Errorf("%w: event %q of %q", ErrDifferent, e.ID, e.Source)
}

// noRule says that no rule is for a type of event.
func (s *Service) noRule(kind string) error {
	if len(s.rules) == 0 {
		return fmt.Errorf("%w: %q; this process has no rules for events at all", event.ErrNoRule, kind)
	}
	return fmt.Errorf("%w: %q; %s", event.ErrNoRule, kind, near.List(kind, s.eventTypes()))
}

// eventTypes returns what the rules are for.
func (s *Service) eventTypes() []string {
	types := make([]string, len(s.rules))
	for i, r := range s.rules {
		types[i] = r.Type
	}
	return slices.Compact(slices.Sorted(slices.Values(types)))
}

// apply adds the notices of one rule.
func (t Tx) apply(ctx context.Context, r EventRule, e event.Event, values map[string]any) error {
	ctx = askedByEvent(ctx, e)
	n, err := r.notice(values, t.s.p.Now())
	if err != nil {
		return err
	}
	people, rest := r.recipients(ctx, e, values)
	n.Data = rest
	if r.Gather == 0 {
		_, err := t.notifyAll(ctx, n, people)
		return err
	}
	by, err := text(values, r.Topic)
	if err != nil {
		return err
	}
	n.Gather = Gather{Topic: cmp.Or(by, "all"), For: r.Gather}
	told := make(toldAlready)
	for one, err := range people {
		if err != nil {
			return err
		}
		if one.Data == nil && len(one.own) == 0 && told.before(one.Address) {
			continue
		}
		if n.To, n.Data = one.Request, one.Data; n.Data == nil {
			n.Data = composer.Over(rest, one.own)
		}
		if _, err := t.Notify(ctx, n); err != nil {
			return err
		}
	}
	return nil
}

func askedByEvent(ctx context.Context, e event.Event) context.Context {
	return flow.AskedBy(ctx, "event "+e.ID+" of "+e.Source+", type "+e.Type)
}

// notice returns what a rule makes of an event's values, without its recipients.
func (r EventRule) notice(values map[string]any, now time.Time) (n Notice, err error) {
	n = Notice{Letter: r.Letter, Data: values, Lane: r.Lane}
	if r.Delay > 0 {
		n.At = now.Add(r.Delay)
	}
	if n.Key, err = text(values, r.Key); err != nil {
		return n, err
	}
	if r.Remind != "" {
		raw, err := text(values, r.Remind)
		if err != nil {
			return n, err
		}
		of, err := time.Parse(time.RFC3339, raw)
		if err != nil {
			return n, fmt.Errorf("%w: %s is %q; a moment is written as RFC 3339", event.ErrMalformed, r.Remind, raw)
		}
		n.Remind = Reminder{Of: of, Before: r.Before}
	}
	return n, nil
}

// recipients yields who gets the letter of a rule, and returns the values that all of them share: without the list of
// recipients, which is nobody's to read.
func (r EventRule) recipients(ctx context.Context, e event.Event,
	values map[string]any) (to iter.Seq2[addressee, error], rest map[string]any) {
	switch {
	case r.Recipients != nil:
		return func(yield func(addressee, error) bool) {
			for one, err := range r.Recipients(ctx, e) {
				if !yield(addressee{Recipient: one}, err) {
					return
				}
			}
		}, values
	case r.To == "":
		return func(yield func(addressee, error) bool) {
			for _, to := range r.Fixed {
				if !yield(addressee{Recipient: Recipient{Request: to}}, nil) {
					return
				}
			}
		}, values
	}
	at, rest, found := events.Cut(values, r.To)
	list, many := at.([]any)
	if !many {
		list = []any{at}
	}
	return func(yield func(addressee, error) bool) {
		if !found {
			yield(addressee{}, fmt.Errorf("%w: its data have nothing at %s, where the recipients should be",
				event.ErrMalformed, r.To))
			return
		}
		for i, one := range list {
			to, err := events.RecipientOf(one)
			if err != nil {
				err = fmt.Errorf("%w: recipient %d at %s %w", event.ErrMalformed, i+1, r.To, err)
			}
			if !yield(addresseeOf(to), err) || err != nil {
				return
			}
		}
	}, rest
}

func addresseeOf(r events.Recipient) addressee {
	return addressee{own: r.Own, Recipient: Recipient{Request: Request{Address: r.Address, Name: r.Name,
		Locale: r.Locale, Zone: r.Zone}}}
}

// text returns the text at a pointer; empty for an empty pointer.
func text(values map[string]any, pointer string) (string, error) {
	if pointer == "" {
		return "", nil
	}
	v, found := events.At(values, pointer)
	if !found || v == nil || v == "" {
		return "", fmt.Errorf("%w: its data have nothing at %s", event.ErrMalformed, pointer)
	}
	return fmt.Sprint(v), nil
}

// Receive is [Tx.Receive] for all of events, in one transaction of its own: all are taken or none.
// The error names the first that is not.
func (s *Service) Receive(ctx context.Context, events ...event.Event) error {
	return s.write(ctx, func(t Tx) error {
		for i, e := range events {
			if err := t.Receive(ctx, e); err != nil {
				if len(events) > 1 {
					err = fmt.Errorf("event %d of %d: %w", i+1, len(events), err)
				}
				return err
			}
		}
		return nil
	})
}

// eventsAtOnce is how many inserted events one transaction takes.
const eventsAtOnce = 20

// takeEvents takes some of the events that other programs have inserted. One that no rule can take
// is set aside with the reason.
func (s *Service) takeEvents(ctx context.Context) (n int, err error) {
	err = s.p.Store.Write(ctx, func(side rows.Tx) error {
		t := s.tx(side, side)
		all, err := side.TakeEvents(ctx, eventsAtOnce)
		if err != nil {
			return err
		}
		n = len(all)
		for _, row := range all {
			reason := t.takeEvent(ctx, row)
			if reason == nil {
				continue
			}
			if ctx.Err() != nil || errors.Is(reason, rows.ErrDatabase) {
				return reason // not the event's fault
			}
			s.p.Log.Warn("an event was set aside", "source", row.Source, "id", row.ID, "type", row.Type, "reason",
				reason)
			if err := side.SetAside(ctx, row, reason.Error(), s.p.Now()); err != nil {
				return err
			}
		}
		return nil
	})
	return n, err
}

func (t Tx) takeEvent(ctx context.Context, row rows.Event) error {
	e := event.Event{Source: row.Source, ID: row.ID, Type: row.Type, Subject: row.Subject, Data: []byte(row.Data)}
	if row.Time != "" {
		var err error
		if e.Time, err = time.Parse(time.RFC3339Nano, row.Time); err != nil {
			return fmt.Errorf("%w: time is %q; write it as RFC 3339", event.ErrMalformed, row.Time)
		}
	}
	return t.Receive(ctx, e)
}

// checkEvents says what is wrong with the rules for events.
func (s *Service) checkEvents() error {
	for i, r := range s.rules {
		if err := r.check(s); err != nil {
			return wrong(fmt.Sprintf("Events[%d]", i), err.Error())
		}
	}
	return nil
}
