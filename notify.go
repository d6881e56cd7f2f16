package illumicode

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/internal/flow"
	rows "github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/limit"
	"github.com/illumicode/illumicode/message"
)

// A Notice is a letter without proof: to one address, or visibly to several.
type Notice struct {
	Letter string
	To     Request // address, name, locale and zone of the reader

	// With To.Subject and no address it goes to the confirmed address that the subject has at the first attempt, of
	// this medium; [limit.Mail] if empty. Without one it is cancelled, and for a frozen account held.
	Medium limit.Medium
	// the address that gets it if this one's has failed: mail after SMS, or the other way; empty for none; not with
	// Cc, Bcc or Gather
	Fallback string
	// the fallback goes also where it is not known whether the first letter has arrived, so that both may; false means
	// that only a failure leads to it
	FallbackAnyway bool
	Cc             []string      // further addresses, which every recipient sees
	Bcc            []string      // further addresses, which nobody sees; each gets a letter of its own
	Data           any           // the letter's values: a struct or a map that marshals to a JSON object
	Lane           delivery.Lane // empty means the letter's own, or normal

	At            time.Time // not before; zero means now. A time that has passed is refused
	DeliverBefore time.Time // zero means the letter's own life, or no end
	Remind        Reminder  // instead of At and DeliverBefore
	Hold          bool      // wait until an operator releases it

	Key string // the application's own, for [Tx.Cancel] and [Tx.Move]; several notices may share it
	// a de-duplication key: a second notice under it within 7 days has no effect. If it differs from the first it is
	// refused with [ErrDifferent]; not compared are At and DeliverBefore, which a repeat may reckon from its own now,
	// and the contents of attachments
	Once   string
	Gather Gather // makes one letter of many notices

	ReplyTo     string // who answers go to, such as the person the letter speaks for; empty means the letter's own
	Thread      string // a key: letters of one thread are shown together; empty means none
	Headers     []message.Field
	Attachments []message.Attachment
}

// A Reminder makes a notice due some time before a moment, and pointless after it. Under a key it
// moves with [Tx.Move] when the moment moves, and its letter tells the moment as it then is, in the
// value "moment". One that is due already goes at once.
type Reminder struct {
	Of     time.Time
	Before time.Duration // positive
}

// A Gather lets the first notice to an address wait for some time, and others of the same letter and topic join it:
// their data become the letter's "items", at most a thousand, beside the data of the first and a "count".
type Gather struct {
	Topic string // what notices have in common that go into one letter
	For   time.Duration
}

// Notify adds a notice to the outbox in the application's transaction and returns the ids of its
// deliveries: one for each address, that of To first. It refuses, before anything is written, an
// address that cannot be ([message.ErrAddress]), a letter or value that is missing
// ([letter.ErrMissing]), a letter that carries a proof, times that cannot be kept, and what could
// not be composed later. An attachment that cannot be read, or is too large
// ([ErrTooLarge]), leaves the transaction to be rolled back.
func (t Tx) Notify(ctx context.Context, n Notice) (deliveries []string, err error) {
	if err := t.ok(); err != nil {
		return nil, err
	}
	a, err := t.s.reader(ctx, n)
	if err != nil {
		return nil, err
	}
	d, err := t.s.draft(ctx, n, a)
	if err != nil {
		return nil, err
	}
	recipients := []message.Address{a.address}
	if a.subject != "" {
		recipients[0] = message.Address{} // found when it is sent
	}
	for _, list := range [][]string{n.Cc, n.Bcc} {
		for _, one := range list {
			to, err := message.ParseAddress(one)
			if err != nil {
				return nil, err
			}
			if !slices.ContainsFunc(recipients, func(a message.Address) bool { return a.String() == to.String() }) {
				recipients = append(recipients, to)
			}
		}
	}
	ids := make([]string, len(recipients))
	for i := range ids {
		ids[i] = flow.NewID()
	}
	if n.Once != "" {
		earlier, err := t.once(ctx, n, ids)
		if err != nil || earlier != nil {
			return earlier, err
		}
	}
	if err := t.attachments(ctx, &d, n); err != nil {
		return nil, err
	}
	for i, to := range recipients {
		d.ID, d.Address, d.Name = ids[i], to.String(), cmp.Or(to.Name, n.To.Name)
		if d.Collapse != "" {
			ids[i], err = t.rows().Join(ctx, d, flow.NewID())
		} else {
			err = t.rows().InsertDelivery(ctx, d)
		}
		if err != nil {
			return nil, err
		}
	}
	return ids, nil
}

// reader checks whom a notice is to write to, in which language. Where it goes to a subject the address is empty.
func (s *Service) reader(ctx context.Context, n Notice) (Admission, error) {
	if n.To.Address != "" || n.To.Subject == "" {
		if n.Medium != "" {
			return Admission{}, errors.New("illumicode: Medium is for a notice to a subject without an address")
		}
		return s.addressed(ctx, n.To)
	}
	if len(n.Cc)+len(n.Bcc) > 0 || n.Fallback != "" || n.FallbackAnyway {
		return Admission{},
			errors.New("illumicode: a notice to a subject goes to one address, without copies or fallback")
	}
	if n.Medium != "" && n.Medium != limit.Mail && n.Medium != limit.SMS {
		return Admission{}, fmt.Errorf("illumicode: Medium is mail or sms, not %q", n.Medium)
	}
	if n.Medium == limit.SMS && !s.p.SMS {
		return Admission{}, errors.New("illumicode: no provider carries SMS")
	}
	if _, err := s.p.Zones.Load(n.To.Zone); err != nil {
		return Admission{}, err
	}
	a := Admission{address: s.p.From, zone: n.To.Zone, subject: n.To.Subject} // something to try its letter with
	if n.Medium == limit.SMS {
		a.address = trialPhone
	}
	a.address.Name = n.To.Name
	if n.To.Locale != "" {
		a.locale = s.Locale(n.To.Locale)
	}
	return a, nil
}

// trialPhone stands for a number while a notice is tried.
var trialPhone = func() message.Address {
	a, err := message.Phone("+15550100")
	if err != nil {
		panic(err) // it is a number
	}
	return a
}()

// once records the notice under its de-duplication key, and returns the deliveries of the one that
// came before it; nil if it is the first.
func (t Tx) once(ctx context.Context, n Notice, ids []string) (earlier []string, err error) {
	fallback := n.Fallback
	if n.FallbackAnyway {
		fallback += " anyway"
	}
	files := make([][3]string, len(n.Attachments))
	for i, f := range n.Attachments {
		files[i] = [3]string{f.Name, f.Type, f.ID}
	}
	what, err := json.Marshal([]any{n.Letter, n.To.Address, n.To.Subject, n.To.Name, n.To.Locale, n.To.Zone, n.Medium,
		fallback, n.Cc, n.Bcc, n.Data, n.Lane, n.Remind.Of.UnixMilli(), n.Remind.Before, n.Hold,
		n.Gather, n.ReplyTo, n.Thread, n.Headers, n.Key, files})
	if err != nil {
		return nil, err
	}
	result, err := json.Marshal(ids)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(what)
	first, stands,
		err := t.rows().Once(ctx, rows.Once{Name: "notice " + n.Once, Digest: hex.EncodeToString(sum[:]),
		Result: string(result), Made: t.s.p.Now()})
	switch {
	case err != nil || first:
		return nil, err
	case stands.Digest != hex.EncodeToString(sum[:]):
		return nil, fmt.Errorf("%w: %q", ErrDifferent, n.Once)
	}
	err = json.Unmarshal([]byte(stands.Result), &earlier)
	return earlier, err
}

// attachments stores the files of a notice, under a bundle of the delivery's.
func (t Tx) attachments(ctx context.Context, d *rows.Delivery, n Notice) error {
	if len(n.Attachments) > 0 || len(n.Cc)+len(n.Bcc) > 0 {
		d.Bundle = flow.NewID()
	}
	left := t.s.maxFile
	for i, file := range n.Attachments {
		row := rows.Attachment{Bundle: d.Bundle, Position: i, Name: file.Name, Type: file.Type, ContentID: file.ID}
		size, err := t.rows().InsertAttachment(ctx, row, file.Body, left)
		if err != nil {
			return err
		}
		left -= size
	}
	return nil
}

// Cancel cancels what waits under the application's key, in its transaction, and returns how many deliveries and
// unexpanded lists that were. Letters that a worker has begun to send, or claims at this moment, are
// sent nevertheless; a recall (package desk) reaches the latter too.
func (t Tx) Cancel(ctx context.Context, key string) (cancelled int64, err error) {
	if err := t.ok(); err != nil {
		return 0, err
	}
	return t.rows().CancelKey(ctx, key, "cancelled by the application", t.s.p.Now())
}

// Move makes what waits under the application's key due at another time, reminders relative to that moment, and returns
// how many deliveries and unexpanded lists that were.
func (t Tx) Move(ctx context.Context, key string, to time.Time) (moved int64, err error) {
	if err := t.ok(); err != nil {
		return 0, err
	}
	return t.rows().Move(ctx, key, to)
}

// write runs fn in a transaction of the service's own and wakes the workers.
func (s *Service) write(ctx context.Context, fn func(Tx) error) error {
	err := s.p.Store.Write(ctx, func(side rows.Tx) error { return fn(s.tx(side, side)) })
	if err == nil {
		s.Wake()
	}
	return err
}

// Notify is [Tx.Notify] in a transaction of its own; it wakes the workers.
func (s *Service) Notify(ctx context.Context, n Notice) (deliveries []string, err error) {
	err = s.write(ctx, func(t Tx) (err error) { deliveries, err = t.Notify(ctx, n); return err })
	return deliveries, err
}
