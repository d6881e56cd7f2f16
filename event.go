package illumicode

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"iter"
	"strings"
	"time"

	"github.com/illumicode/illumicode/core/event"
	"github.com/illumicode/illumicode/store"
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

	Lane     store.Lane    // empty means the letter's own, or normal
	Delay    time.Duration // before it is due
	Key      string        // a pointer to the application's key, for Cancel and Move; empty for none
	Remind   string        // a pointer to the moment to remind of, RFC 3339; empty for none
	Before   time.Duration // how long before it; with Remind
	Collapse time.Duration // how long notices to one address gather in one letter; 0 for not at all
	By       string        // a pointer to what they must have in common; empty gathers all of the letter
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
	case !s.letters.Has(r.Letter):
		return fmt.Errorf("for %q names letter %q, which there is not", r.Type, r.Letter)
	case s.letters.CarriesProof(r.Letter):
		return fmt.Errorf("for %q names letter %q, which carries a proof and is no notice", r.Type, r.Letter)
	case (r.Remind == "") != (r.Before == 0) || r.Before < 0:
		return fmt.Errorf("for %q: Remind and a positive Before go together", r.Type)
	case r.Collapse > 0 && r.Remind != "":
		return fmt.Errorf("for %q: a reminder cannot collapse", r.Type)
	}
	for _, pointer := range []string{r.To, r.Key, r.Remind, r.By} {
		if pointer != "" && !strings.HasPrefix(pointer, "/") {
			return fmt.Errorf("for %q: %q is no pointer (RFC 6901); it begins with a slash", r.Type, pointer)
		}
	}
	for _, f := range r.Fixed {
		if _, err := s.recipient(f.Address); err != nil {
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
// differ, it is refused with [ErrDifferent]. The error matches [ErrNoRule] if no rule is for its
// type. After any error the transaction holds nothing of the event.
func (t Tx) Receive(ctx context.Context, e event.Event) error {
	if err := e.Check(); err != nil {
		return fmt.Errorf("%w: %w", event.ErrMalformed, err)
	}
	return t.rows.Nested(ctx, func() error { return t.receive(ctx, e) })
}

func (t Tx) receive(ctx context.Context, e event.Event) error {
	sum := sha256.Sum256([]byte(e.Type + "\x00" + string(e.Data)))
	digest := hex.EncodeToString(sum[:])
	first, stands, err := t.rows.Once(ctx, store.Once{Name: fmt.Sprintf("event %q %q", e.Source, e.ID), Digest: digest, Made: t.s.now()})
	switch {
	case err != nil:
		return err
	case !first && stands.Digest != digest:
		return fmt.Errorf("%w: event %q of %q", ErrDifferent, e.ID, e.Source)
	case !first:
		return nil
	}
	values, err := e.Values()
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
		return fmt.Errorf("%w %q", ErrNoRule, e.Type)
	}
	return nil
}

// apply adds the notices of one rule.
func (t Tx) apply(ctx context.Context, r EventRule, e event.Event, values map[string]any) error {
	n := Notice{Letter: r.Letter, Data: values, Lane: r.Lane, askedBy: "event " + e.ID + " of " + e.Source + ", type " + e.Type}
	if r.Delay > 0 {
		n.At = t.s.now().Add(r.Delay)
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
	if r.Collapse == 0 {
		_, err := t.NotifyAll(ctx, n, people)
		return err
	}
	by, err := text(values, r.By)
	if err != nil {
		return err
	}
	n.Collapse = Collapse{Key: cmp.Or(by, "all"), Window: r.Collapse}
	for one, err := range people {
		if err != nil {
			return err
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
		v, found := event.At(values, r.To)
		if !found {
			yield(Recipient{}, fmt.Errorf("%w: its data have nothing at %s, where the recipients should be", event.ErrMalformed, r.To))
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
		for name, to := range map[string]*string{"address": &r.Address, "name": &r.Name, "locale": &r.Locale, "zone": &r.Zone} {
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
	v, found := event.At(values, pointer)
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
	err = s.store.Write(ctx, func(rows store.Tx) error {
		t := Tx{s: s, rows: rows}
		all, err := rows.TakeEvents(ctx, eventsAtOnce)
		if err != nil {
			return err
		}
		n = len(all)
		for _, row := range all {
			reason := t.takeEvent(ctx, row)
			if reason == nil {
				continue
			}
			if ctx.Err() != nil || errors.Is(reason, store.ErrDatabase) {
				return reason // not the event's fault
			}
			s.log.Warn("an event was set aside", "source", row.Source, "id", row.ID, "type", row.Type, "reason", reason)
			if err := rows.SetAside(ctx, row, reason.Error(), s.now()); err != nil {
				return err
			}
		}
		return nil
	})
	return n, err
}

func (t Tx) takeEvent(ctx context.Context, row store.Event) error {
	e := event.Event{Source: row.Source, ID: row.ID, Type: row.Type, Subject: row.Subject, Data: []byte(row.Data)}
	if row.Time != "" {
		var err error
		if e.Time, err = time.Parse(time.RFC3339Nano, row.Time); err != nil {
			return fmt.Errorf("%w: time is %q; write it as RFC 3339", event.ErrMalformed, row.Time)
		}
	}
	return t.Receive(ctx, e)
}
