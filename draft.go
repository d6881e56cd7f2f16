package illumicode

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"golang.org/x/text/language"

	"github.com/illumicode/illumicode/internal/composer"
	"github.com/illumicode/illumicode/internal/core/compose"
	"github.com/illumicode/illumicode/internal/core/render"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/outbox"
	rows "github.com/illumicode/illumicode/internal/store"
)

// draft checks a notice and returns its delivery, but for who it goes to. Errors name the letter.
func (s *Service) draft(ctx context.Context, n Notice, a Admission) (rows.Delivery, error) {
	named := func(err error) error { return fmt.Errorf("illumicode: letter %q: %w", n.Letter, err) }
	if s.p.Letters.CarriesProof(n.Letter) {
		return rows.Delivery{},
			named(errors.New("it carries a proof, and is sent by beginning its challenge, not as a notice"))
	}
	data, values, err := composer.MarshalData(n.Data)
	if err != nil {
		return rows.Delivery{}, named(err)
	}
	if n.Gather.Topic != "" {
		values = composer.Gathered(values, []any{values})
	}
	if err := s.try(n, a, n.reminding(values)); err != nil {
		return rows.Delivery{}, err // it names the letter, and the part
	}
	d, err := s.drafted(ctx, n, a)
	if err != nil {
		return d, named(err)
	}
	d.Data = data
	return d, nil
}

// reminding returns the values of a notice's letter, with the moment that it reminds of if it is a reminder.
func (n Notice) reminding(values map[string]any) map[string]any {
	if n.Remind == (Reminder{}) {
		return values
	}
	return composer.Reminding(values, n.Remind.Of)
}

// drafted returns the delivery of a notice whose data make a letter, without these.
func (s *Service) drafted(ctx context.Context, n Notice, a Admission) (rows.Delivery, error) {
	kind := s.p.Letters.Kind(n.Letter)
	d := rows.Delivery{
		Letter: n.Letter, Locale: a.locale, Zone: a.zone, Address: a.address.String(), Name: a.address.Name,
		Lane: cmp.Or(rows.Lane(n.Lane), rows.Lane(kind.Lane), rows.Normal), Once: kind.AtMostOnce, Key: n.Key,
		AskedBy: flow.Asker(ctx), Trace: outbox.Trace(ctx), Subject: a.subject, Medium: string(n.Medium),
	}
	if a.subject != "" {
		d.Address = ""
	}
	if n.Hold {
		d.HeldBy, d.Note = rows.HeldAsked, "held from the beginning; release it to send it"
	}
	if err := s.times(&d, n, kind.Life); err != nil {
		return d, err
	}
	for _, add := range []func(*rows.Delivery, Notice) error{gather, s.fallBack, checkFiles} {
		if err := add(&d, n); err != nil {
			return d, err
		}
	}
	return d, s.show(&d, n, a)
}

// gather lets a delivery wait for others to join it.
func gather(d *rows.Delivery, n Notice) error {
	if n.Gather.Topic == "" {
		return nil
	}
	if n.Gather.For <= 0 || len(n.Cc)+len(n.Bcc)+len(n.Attachments) > 0 || n.Hold || n.Remind.Before != 0 {
		return errors.New("a notice that gathers needs Gather.For, and has no copies, attachments, hold or reminder")
	}
	d.Collapse = n.Letter + " " + cmp.Or(d.Address, "subject "+d.Subject) + " " + n.Gather.Topic
	d.Due = d.Due.Add(n.Gather.For)
	return nil
}

// fallBack adds the address that gets the letter if the first one's has failed.
func (s *Service) fallBack(d *rows.Delivery, n Notice) error {
	switch {
	case n.Fallback == "" && n.FallbackAnyway:
		return errors.New("FallbackAnyway says when the fallback goes, and there is none")
	case n.Fallback == "":
		return nil
	case n.Gather.Topic != "" || len(n.Cc)+len(n.Bcc) > 0:
		return errors.New("a notice with a fallback goes to one address, and does not gather")
	}
	other, err := s.p.Recipient(n.Fallback)
	if err != nil {
		return fmt.Errorf("the fallback: %w", err)
	}
	if other.IsPhone() && !s.p.Letters.HasSMS(n.Letter) {
		return errors.New("its fallback is a phone number, and it has no sms part")
	}
	d.Fallback, d.Anyway = other.String(), n.FallbackAnyway
	return nil
}

// checkFiles refuses attachments that could not be sent.
func checkFiles(_ *rows.Delivery, n Notice) error {
	for i, file := range n.Attachments {
		part := compose.BytesPart(file.Name, file.Type, nil)
		if err := part.Check(); err != nil {
			return err
		}
		if file.Body == nil {
			return fmt.Errorf("attachment %d has no contents", i+1)
		}
	}
	return nil
}

// show adds what the header of a delivery shows besides its own address.
func (s *Service) show(d *rows.Delivery, n Notice, a Admission) error {
	v := composer.Visible{Cc: n.Cc, ReplyTo: n.ReplyTo, Thread: n.Thread, Headers: n.Headers}
	if len(n.Cc)+len(n.Bcc) > 0 {
		v.To = [][2]string{{a.address.String(), a.address.Name}}
	}
	if a.address.IsPhone() {
		if len(n.Cc)+len(n.Bcc)+len(n.Attachments)+len(n.Headers) > 0 || !s.p.Letters.HasSMS(n.Letter) {
			return errors.New("an SMS has neither copies, attachments nor fields, and the letter needs an sms part")
		}
	} else {
		// A trial composition, of the header alone: what could not be sent is refused now.
		trial, err := composer.New(s.p).Envelope(*d, a.address, v)
		if err == nil {
			trial.Subject, trial.Text, trial.ID, trial.Date = "x", "x", "x", d.Created
			_, err = trial.Compose()
		}
		if err != nil {
			return err
		}
	}
	if v.To == nil && v.ReplyTo == "" && v.Thread == "" && v.Headers == nil {
		return nil
	}
	raw, err := json.Marshal(v)
	d.Visible = string(raw)
	return err
}

// try refuses data that the notice's letter cannot be made of, which would come up at delivery only.
func (s *Service) try(n Notice, a Admission, values map[string]any) error {
	zone, err := s.p.Zones.Load(a.zone)
	if err != nil {
		return err
	}
	r := render.Request{Letter: n.Letter, Locale: language.Make(cmp.Or(a.locale, s.Locale(""))), Zone: zone,
		Writer: s.p.Writer, Data: values}
	if !a.address.IsPhone() || n.Fallback != "" {
		err = s.p.Letters.Try(r)
	}
	if err == nil && s.p.Letters.HasSMS(n.Letter) && (a.address.IsPhone() || n.Fallback != "") {
		_, err = s.p.Letters.RenderSMS(r)
	}
	return err
}

// slack is how far a time may lie in the past and still mean now.
const slack = time.Minute

// times sets when a delivery is due and until when.
func (s *Service) times(d *rows.Delivery, n Notice, life time.Duration) error {
	now := s.p.Now()
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
