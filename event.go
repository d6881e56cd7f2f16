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

	// To is an RFC 6901 pointer into the event's data, to who gets the letter: an address, an object
	// with address, name, locale and zone, or an array of these.
	To         string
	Fixed      []Request
	Recipients func(ctx context.Context, e event.Event) iter.Seq2[Recipient, error] // of the application's

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
	digest := hex.EncodeToString(sum[:])
	first, stands,
		err := t.rows().Once(ctx, rows.Once{Name: fmt.Sprintf("event %q %q", e.Source, e.ID), Digest: digest,
		Made: t.s.p.Now()})
	switch {
	case err != nil:
		return err
	case !first && stands.Digest != digest:
		return fmt.Errorf("%w: event %q of %q", ErrDifferent, e.ID, e.Source)
	case !first:
		return nil
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
	ctx = flow.AskedBy(ctx, "event "+e.ID+" of "+e.Source+", type "+e.Type)
	n := Notice{Letter: r.Letter, Data: values, Lane: r.Lane}
	if r.Delay > 0 {
		n.At = t.s.p.Now().Add(r.Delay)
	}
	var err error
	if n.Key, err = text(values, r.Key); err != nil {
		return err
	}
	if r.Remind != "" {
		raw, err := text(values, r.Remind)
		if err != nil {
			return err
		}
		of, err := time.Parse(time.RFC3339, raw)
		if err != nil {
			return fmt.Errorf("%w: %s is %q; a moment is written as RFC 3339", event.ErrMalformed, r.Remind, raw)
		}
		n.Remind = Reminder{Of: of, Before: r.Before}
	}
	people := r.recipients(ctx, e, values)
	if r.Gather == 0 {
		_, err := t.NotifyAll(ctx, n, people)
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
		if one.Data == nil && told.before(one.Address) {
			continue
		}
		n.To, n.Data = one.Request, values
		if one.Data != nil {
			n.Data = one.Data
		}
		if _, err := t.Notify(ctx, n); err != nil {
			return err
		}
	}
	return nil
}

// recipients yields who gets the letter of a rule.
func (r EventRule) recipients(ctx context.Context, e event.Event, values map[string]any) iter.Seq2[Recipient, error] {
	if r.Recipients != nil {
		return r.Recipients(ctx, e)
	}
	return func(yield func(Recipient, error) bool) {
		for _, to := range r.Fixed {
			if !yield(Recipient{Request: to}, nil) {
				return
			}
		}
		if r.To == "" {
			return
		}
		v, found := events.At(values, r.To)
		if !found {
			yield(Recipient{}, fmt.Errorf("%w: its data have nothing at %s, where the recipients should be",
				event.ErrMalformed, r.To))
			return
		}
		list, many := v.([]any)
		if !many {
			list = []any{v}
		}
		for i, one := range list {
			to, err := recipientOf(one)
			if err != nil {
				err = fmt.Errorf("%w: recipient %d at %s %w", event.ErrMalformed, i+1, r.To, err)
			}
			if !yield(Recipient{Request: to}, err) || err != nil {
				return
			}
		}
	}
}

// recipientOf reads an address, or an object with address, name, locale and zone.
func recipientOf(v any) (Request, error) {
	switch v := v.(type) {
	case string:
		return Request{Address: v}, nil
	case map[string]any:
		var r Request
		for name, to := range map[string]*string{"address": &r.Address, "name": &r.Name, "locale": &r.Locale,
			"zone": &r.Zone} {
			if field, ok := v[name]; ok {
				s, isText := field.(string)
				if !isText {
					return r, fmt.Errorf("has a %s that is no text", name)
				}
				*to = s
			}
		}
		return r, nil
	}
	return Request{}, errors.New("is neither an address nor an object with one")
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
