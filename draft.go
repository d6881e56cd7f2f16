package illumicode

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"time"

	"golang.org/x/text/language"

	"github.com/illumicode/illumicode/core/letter"
	"github.com/illumicode/illumicode/core/message"
	"github.com/illumicode/illumicode/outbox"
	"github.com/illumicode/illumicode/store"
)

// maxData bounds a notice's data as JSON, in bytes: beyond it, it is an attachment.
const maxData = 256 << 10

// visible is what the header of a delivery shows besides its own address. It is kept as JSON.
type visible struct {
	To      [][2]string     `json:"to,omitempty"` // address and name
	Cc      []string        `json:"cc,omitempty"`
	ReplyTo string          `json:"reply_to,omitempty"`
	Thread  string          `json:"thread,omitempty"`
	Headers []message.Field `json:"headers,omitempty"`
}

// draft checks a notice and returns its delivery, but for who it goes to.
func (s *Service) draft(ctx context.Context, n Notice, a Admission) (store.Delivery, error) {
	fail := func(format string, args ...any) (store.Delivery, error) {
		return store.Delivery{}, fmt.Errorf("illumicode: letter %q: "+format, append([]any{n.Letter}, args...)...)
	}
	if s.letters.CarriesProof(n.Letter) {
		return fail("it carries a proof, and is sent by beginning its challenge, not as a notice")
	}
	data, values, err := marshalData(n.Data)
	if err != nil {
		return fail("%w", err)
	}
	collapsing := n.Collapse.Key != ""
	if collapsing {
		values = collapsed(values, []any{values})
	}
	if n.Remind != (Reminder{}) {
		values = reminding(values, n.Remind.Of)
	}
	if err := s.try(n, a, values); err != nil {
		return store.Delivery{}, err
	}
	kind := s.letters.Kind(n.Letter)
	d := store.Delivery{
		Letter: n.Letter, Locale: a.locale, Zone: a.zone, Address: a.address.String(), Name: a.address.Name, Data: data,
		Lane: n.Lane, Once: kind.AtMostOnce, Key: n.Key, AskedBy: n.askedBy, Trace: outbox.Trace(ctx),
	}
	if d.AskedBy == "" {
		d.AskedBy = "the application"
	}
	if d.Lane == "" {
		d.Lane = store.Lane(kind.Lane)
	}
	if d.Lane == "" {
		d.Lane = store.Normal
	}
	if n.Hold {
		d.HeldBy, d.Note = store.HeldAsked, "held from the beginning; release it to send it"
	}
	if err := s.times(&d, n, kind.Life); err != nil {
		return fail("%w", err)
	}
	if collapsing {
		if n.Collapse.Window <= 0 || len(n.Cc)+len(n.Bcc)+len(n.Attachments) > 0 || n.Hold || n.Remind.Before != 0 {
			return fail("a notice that collapses needs a window, and has no copies, attachments, hold or reminder")
		}
		d.Collapse = n.Letter + " " + d.Address + " " + n.Collapse.Key
		d.Due = d.Due.Add(n.Collapse.Window)
	}
	if n.Fallback != "" && (collapsing || len(n.Cc)+len(n.Bcc) > 0) {
		return fail("a notice with a fallback goes to one address, and does not collapse")
	}
	if n.Fallback != "" {
		other, err := s.recipient(n.Fallback)
		if err != nil {
			return fail("the fallback: %w", err)
		}
		if other.IsPhone() && !s.letters.HasSMS(n.Letter) {
			return fail("its fallback is a phone number, and it has no sms part")
		}
		d.Fallback = other.String()
	}
	for i, file := range n.Attachments {
		part := message.BytesPart(file.Name, file.Type, nil)
		if err := part.Check(); err != nil {
			return fail("%w", err)
		}
		if file.Body == nil {
			return fail("attachment %d has no contents", i+1)
		}
	}
	v := visible{Cc: n.Cc, ReplyTo: n.ReplyTo, Thread: n.Thread, Headers: n.Headers}
	if len(n.Cc)+len(n.Bcc) > 0 {
		v.To = [][2]string{{a.address.String(), a.address.Name}}
	}
	if a.address.IsPhone() {
		if len(n.Cc)+len(n.Bcc)+len(n.Attachments)+len(n.Headers) > 0 || !s.letters.HasSMS(n.Letter) {
			return fail("an SMS has neither copies, attachments nor fields, and the letter needs an sms part")
		}
	} else {
		// A trial composition, of the header alone: what could not be sent is refused now.
		trial, err := s.envelope(d, v)
		if err == nil {
			trial.Subject, trial.Text, trial.ID, trial.Date = "x", "x", "x", d.Created
			_, err = trial.Compose()
		}
		if err != nil {
			return fail("%w", err)
		}
	}
	if v.To != nil || v.ReplyTo != "" || v.Thread != "" || v.Headers != nil {
		raw, err := json.Marshal(v)
		if err != nil {
			return fail("%w", err)
		}
		d.Visible = string(raw)
	}
	return d, nil
}

// try refuses data that the notice's letter cannot be made of, which would come up at delivery only.
func (s *Service) try(n Notice, a Admission, values map[string]any) error {
	zone, err := s.zones.load(a.zone)
	if err != nil {
		return err
	}
	r := letter.Request{Letter: n.Letter, Locale: language.Make(a.locale), Zone: zone, Writer: s.writer, Data: values}
	if !a.address.IsPhone() || n.Fallback != "" {
		err = s.letters.Try(r)
	}
	if err == nil && s.letters.HasSMS(n.Letter) && (a.address.IsPhone() || n.Fallback != "") {
		_, err = s.letters.RenderSMS(r)
	}
	return err
}

// slack is how far a time may lie in the past and still mean now.
const slack = time.Minute

// times sets when a delivery is due and until when.
func (s *Service) times(d *store.Delivery, n Notice, life time.Duration) error {
	now := s.now()
	d.Created, d.Due, d.DeliverBefore = now, now, n.DeliverBefore
	if r := n.Remind; r != (Reminder{}) {
		switch {
		case !n.At.IsZero() || !n.DeliverBefore.IsZero():
			return errors.New("a reminder has its own times; leave At and DeliverBefore zero")
		case r.Before <= 0:
			return errors.New("a reminder comes some time before its moment; give a positive Before")
		case !r.Of.After(now):
			return errors.New("the moment it reminds of has passed")
		}
		// Not clamped to now: a moment that moves must find the same lead.
		d.Due, d.DeliverBefore, d.Lead = r.Of.Add(-r.Before), r.Of, r.Before
		return nil
	}
	if !n.At.IsZero() {
		if n.At.Before(now.Add(-slack)) {
			return fmt.Errorf("its time %s has passed; leave At zero for now", n.At.UTC().Format(time.RFC3339))
		}
		d.Due = n.At
	}
	if d.DeliverBefore.IsZero() && life > 0 {
		d.DeliverBefore = d.Due.Add(life)
	}
	if !d.DeliverBefore.IsZero() && !d.DeliverBefore.After(d.Due) {
		return errors.New("it is to be delivered before it is due; move DeliverBefore after At")
	}
	return nil
}

// reminding returns the values of a letter that reminds of a moment.
func reminding(data map[string]any, moment time.Time) map[string]any {
	all := maps.Clone(data)
	if all == nil {
		all = make(map[string]any)
	}
	all["moment"] = moment.UTC().Format(time.RFC3339)
	return all
}

// collapsed returns the values of a letter that several notices became.
func collapsed(first map[string]any, items []any) map[string]any {
	all := maps.Clone(first)
	if all == nil {
		all = make(map[string]any)
	}
	all["items"], all["count"] = items, len(items)
	return all
}

// marshalData returns data as JSON, and the values in it.
func marshalData(data any) (string, map[string]any, error) {
	if data == nil {
		return "{}", nil, nil
	}
	raw, err := json.Marshal(data)
	if err != nil {
		return "", nil, err
	}
	if len(raw) > maxData {
		return "", nil, fmt.Errorf("its data has %d bytes, more than %d; send it as an attachment", len(raw), maxData)
	}
	values, err := readData(string(raw))
	return string(raw), values, err
}
