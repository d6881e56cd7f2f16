package illumicode

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"golang.org/x/text/language"

	"github.com/illumicode/illumicode/core/message"
	"github.com/illumicode/illumicode/store"
)

// A Notice is a letter without proof: to one address, or visibly to several.
type Notice struct {
	Letter string
	To     Request    // address, name, locale and zone of the reader
	Cc     []string   // further addresses, which every recipient sees
	Bcc    []string   // further addresses, which nobody sees; each gets a letter of its own
	Data   any        // the letter's values: a struct or a map that marshals to a JSON object
	Lane   store.Lane // empty means the letter's own, or normal

	ReplyTo     string // who answers go to, such as the person the letter speaks for; empty means the letter's own
	Thread      string // a key: letters of one thread are shown together; empty means none
	Headers     []message.Field
	Attachments []Attachment
}

// An Attachment is a file that travels with a notice. Its contents are read while Notify runs, and
// kept with the delivery until that has ended.
type Attachment struct {
	Name string // as the reader sees it
	Type string // media type; empty means application/octet-stream
	ID   string // for one that a letter's HTML shows, as cid:ID; empty for the others
	Body io.Reader
}

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

// Notify adds a notice to the outbox in the application's transaction and returns the ids of its
// deliveries: one for each recipient, that of To first. It refuses, before anything is written, an
// address that cannot be ([message.ErrAddress]), a letter or value that is missing
// ([letter.ErrMissing]), a letter that carries a proof, and what could not be composed later. An
// attachment that cannot be read, or is too large ([store.ErrTooLarge]), leaves the transaction
// to be rolled back.
func (t Tx) Notify(ctx context.Context, n Notice) (deliveries []string, err error) {
	a, err := t.s.Admit(ctx, n.To)
	if err != nil {
		return nil, err
	}
	d, err := t.s.draft(n, a)
	if err != nil {
		return nil, err
	}
	if len(n.Attachments) > 0 || len(n.Cc)+len(n.Bcc) > 0 {
		d.Bundle = newID()
	}
	left := t.s.maxFile
	for i, file := range n.Attachments {
		row := store.Attachment{Bundle: d.Bundle, Position: i, Name: file.Name, Type: file.Type, ContentID: file.ID}
		size, err := t.rows.InsertAttachment(ctx, row, file.Body, left)
		if err != nil {
			return nil, err
		}
		left -= size
	}
	recipients := []message.Address{a.address}
	for _, list := range [][]string{n.Cc, n.Bcc} {
		for _, one := range list {
			to, err := message.ParseAddress(one)
			if err != nil {
				return nil, err
			}
			recipients = append(recipients, to)
		}
	}
	for _, to := range recipients {
		d.ID, d.Address, d.Name = newID(), to.String(), to.Name
		if err := t.rows.InsertDelivery(ctx, d); err != nil {
			return nil, err
		}
		deliveries = append(deliveries, d.ID)
	}
	return deliveries, nil
}

// draft checks a notice and returns its delivery, but for who it goes to.
func (s *Service) draft(n Notice, a Admission) (store.Delivery, error) {
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
	if err := s.letters.Check(n.Letter, language.Make(a.locale), values); err != nil {
		return store.Delivery{}, err
	}
	v := visible{Cc: n.Cc, ReplyTo: n.ReplyTo, Thread: n.Thread, Headers: n.Headers}
	if len(n.Cc)+len(n.Bcc) > 0 {
		v.To = [][2]string{{a.address.String(), a.address.Name}}
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
	kind := s.letters.Kind(n.Letter)
	now := s.now()
	d := store.Delivery{
		Letter: n.Letter, Locale: a.locale, Zone: a.zone, Address: a.address.String(), Name: a.address.Name, Data: data,
		Lane: n.Lane, Created: now, Due: now,
	}
	if d.Lane == "" {
		d.Lane = store.Lane(kind.Lane)
	}
	if d.Lane == "" {
		d.Lane = store.Normal
	}
	if kind.Life > 0 {
		d.DeliverBefore = now.Add(kind.Life)
	}
	if a.address.IsPhone() {
		if len(n.Cc)+len(n.Bcc)+len(n.Attachments)+len(n.Headers) > 0 || !s.letters.HasSMS(n.Letter) {
			return fail("an SMS has neither copies, attachments nor fields, and the letter needs an sms part")
		}
		d.Data = data
		return d, nil
	}
	// A trial composition, of the header alone: what could not be sent is refused now.
	trial, err := s.envelope(d, v)
	if err == nil {
		trial.Subject, trial.Text, trial.ID, trial.Date = "x", "x", "x", now
		_, err = trial.Compose()
	}
	if err != nil {
		return fail("%w", err)
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

// Notify is [Tx.Notify] in a transaction of its own; it wakes the worker.
func (s *Service) Notify(ctx context.Context, n Notice) (deliveries []string, err error) {
	err = s.store.Write(ctx, func(rows store.Tx) error {
		deliveries, err = Tx{s: s, rows: rows}.Notify(ctx, n)
		return err
	})
	if err == nil {
		s.Wake()
	}
	return deliveries, err
}

// NotifyNow is Notify with one attempt at once, in this process, whoever else works: it returns
// the delivery as it is after that. It is for sending one letter by hand, to one address.
func (s *Service) NotifyNow(ctx context.Context, n Notice) (store.Delivery, error) {
	if len(n.Cc)+len(n.Bcc) > 0 {
		return store.Delivery{}, errors.New("illumicode: a letter by hand goes to one address")
	}
	var ids []string
	err := s.store.Write(ctx, func(rows store.Tx) (err error) {
		ids, err = Tx{s: s, rows: rows}.Notify(ctx, n)
		return err
	})
	if err != nil {
		return store.Delivery{}, err
	}
	return s.outbox.DeliverOne(ctx, ids[0])
}
