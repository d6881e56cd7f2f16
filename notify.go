package illumicode

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"time"

	"github.com/illumicode/illumicode/core/message"
	"github.com/illumicode/illumicode/store"
)

// A Notice is a letter without proof: to one address, or visibly to several.
type Notice struct {
	Letter   string
	To       Request    // address, name, locale and zone of the reader
	Fallback string     // the address that gets it if this one's has failed: mail after SMS, or the other way; empty for none; not with Cc, Bcc or Collapse
	Cc       []string   // further addresses, which every recipient sees
	Bcc      []string   // further addresses, which nobody sees; each gets a letter of its own
	Data     any        // the letter's values: a struct or a map that marshals to a JSON object
	Lane     store.Lane // empty means the letter's own, or normal

	At            time.Time // not before; zero means now. A time that has passed is refused
	DeliverBefore time.Time // zero means the letter's own life, or no end
	Remind        Reminder  // instead of At and DeliverBefore
	Hold          bool      // wait until an operator releases it

	Key      string   // the application's own, for [Tx.Cancel] and [Tx.Move]; several notices may share it
	Once     string   // a de-duplication key: a second notice under it within 7 days has no effect, or is refused with [ErrDifferent]
	Collapse Collapse // makes one letter of many notices

	ReplyTo     string // who answers go to, such as the person the letter speaks for; empty means the letter's own
	Thread      string // a key: letters of one thread are shown together; empty means none
	Headers     []message.Field
	Attachments []Attachment

	askedBy string // what asked for it, in words; empty for the application
}

// A Reminder makes a notice due some time before a moment, and pointless after it. Under a key it
// moves with [Tx.Move] when the moment moves, and its letter tells the moment as it then is, in the
// value "moment". One that is due already goes at once.
type Reminder struct {
	Of     time.Time
	Before time.Duration // positive
}

// A Collapse lets the first notice to an address wait for Window, and others of the same letter
// and key join it: their data become the letter's "items", at most a thousand, beside the data of
// the first and a "count".
type Collapse struct {
	Key    string
	Window time.Duration
}

// An Attachment is a file that travels with a notice. Its contents are read while Notify runs, and
// kept with the delivery until that has ended.
type Attachment struct {
	Name string // as the reader sees it
	Type string // media type; empty means application/octet-stream
	ID   string // for one that a letter's HTML shows, as cid:ID; empty for the others
	Body io.Reader
}

// Notify adds a notice to the outbox in the application's transaction and returns the ids of its
// deliveries: one for each recipient, that of To first. It refuses, before anything is written, an
// address that cannot be ([message.ErrAddress]), a letter or value that is missing
// ([letter.ErrMissing]), a letter that carries a proof, times that cannot be kept, and what could
// not be composed later. An attachment that cannot be read, or is too large
// ([store.ErrTooLarge]), leaves the transaction to be rolled back.
func (t Tx) Notify(ctx context.Context, n Notice) (deliveries []string, err error) {
	a, err := t.s.addressed(ctx, n.To)
	if err != nil {
		return nil, err
	}
	d, err := t.s.draft(ctx, n, a)
	if err != nil {
		return nil, err
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
	ids := make([]string, len(recipients))
	for i := range ids {
		ids[i] = newID()
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
		d.ID, d.Address, d.Name = ids[i], to.String(), to.Name
		if d.Collapse != "" {
			ids[i], err = t.rows.Join(ctx, d, newID())
		} else {
			err = t.rows.InsertDelivery(ctx, d)
		}
		if err != nil {
			return nil, err
		}
	}
	return ids, nil
}

// once records the notice under its de-duplication key, and returns the deliveries of the one that
// came before it; nil if it is the first.
func (t Tx) once(ctx context.Context, n Notice, ids []string) (earlier []string, err error) {
	what, err := json.Marshal([]any{n.Letter, n.To.Address, n.Fallback, n.Cc, n.Bcc, n.Data, n.Lane, n.ReplyTo, n.Thread, n.Headers, n.Key})
	if err != nil {
		return nil, err
	}
	result, err := json.Marshal(ids)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(what)
	first, stands, err := t.rows.Once(ctx, store.Once{Name: "notice " + n.Once, Digest: hex.EncodeToString(sum[:]), Result: string(result), Made: t.s.now()})
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
func (t Tx) attachments(ctx context.Context, d *store.Delivery, n Notice) error {
	if len(n.Attachments) > 0 || len(n.Cc)+len(n.Bcc) > 0 {
		d.Bundle = newID()
	}
	left := t.s.maxFile
	for i, file := range n.Attachments {
		row := store.Attachment{Bundle: d.Bundle, Position: i, Name: file.Name, Type: file.Type, ContentID: file.ID}
		size, err := t.rows.InsertAttachment(ctx, row, file.Body, left)
		if err != nil {
			return err
		}
		left -= size
	}
	return nil
}

// A Recipient is one of many.
type Recipient struct {
	Request
	Data any // instead of the notice's; nil for the notice's
}

// An audience is for whom the same data make the same letter.
type audience struct {
	locale string
	phone  bool
}

// NotifyAll adds a notice to many, whose list is read once and never held in memory: in the
// application's transaction stands one row and the list in pieces, which workers turn into
// deliveries. Notice.To, Cc, Bcc, Fallback and Collapse are left empty. It returns how many
// recipients there were. Errors name the recipient by its place; they leave the transaction to be
// rolled back. Under Notice.Once a second call has no effect, whatever its list, and returns 0.
func (t Tx) NotifyAll(ctx context.Context, n Notice, to iter.Seq2[Recipient, error]) (count int, err error) {
	if n.To.Address != "" || len(n.Cc)+len(n.Bcc) > 0 || n.Fallback != "" || n.Collapse.Key != "" {
		return 0, errors.New("illumicode: a notice to many has its recipients in the list alone, and cannot collapse")
	}
	shared, _, err := marshalData(n.Data)
	if err != nil {
		return 0, fmt.Errorf("illumicode: letter %q: %w", n.Letter, err)
	}
	f := store.Fanout{ID: newID()}
	tried := make(map[audience]bool)
	var people []store.Person
	pieces := 0
	flush := func() error {
		err := t.rows.InsertPeople(ctx, f.ID, pieces, people)
		people, pieces = people[:0], pieces+1
		return err
	}
	for r, err := range to {
		if err != nil {
			return 0, fmt.Errorf("illumicode: the list of recipients, after %d: %w", count, err)
		}
		place := func(err error) error { return fmt.Errorf("illumicode: recipient %d: %w", count+1, err) }
		a, err := t.s.addressed(ctx, r.Request)
		if err != nil {
			return 0, place(err)
		}
		who := store.Person{Address: a.address.String(), Name: a.address.Name, Locale: a.locale, Zone: a.zone}
		one, as := n, audience{a.locale, a.address.IsPhone()}
		if r.Data != nil {
			one.Data = r.Data
		}
		if r.Data != nil || !tried[as] { // what several share is tried once for each way of writing it
			d, err := t.s.draft(ctx, one, a)
			if err != nil {
				return 0, place(err)
			}
			if r.Data != nil {
				who.Data = json.RawMessage(d.Data)
			} else {
				tried[as] = true
			}
			if count == 0 {
				if n.Once != "" {
					if earlier, err := t.once(ctx, n, []string{f.ID}); err != nil || earlier != nil {
						return 0, err
					}
				}
				if err := t.attachments(ctx, &d, n); err != nil {
					return 0, err
				}
				d.Data = shared
				f.Draft = d
				if err := t.rows.InsertFanout(ctx, f); err != nil {
					return 0, err
				}
			}
		}
		people = append(people, who)
		if count++; len(people) == store.PieceSize {
			if err := flush(); err != nil {
				return 0, err
			}
		}
	}
	if count == 0 {
		return 0, errors.New("illumicode: a notice to many needs at least one recipient")
	}
	if len(people) > 0 {
		err = flush()
	}
	return count, err
}

// Cancel cancels what waits under the application's key, in its transaction, and returns how many
// deliveries and unexpanded lists that were. What a worker has in hand is sent nevertheless.
func (t Tx) Cancel(ctx context.Context, key string) (int64, error) {
	return t.rows.CancelKey(ctx, key, "cancelled by the application", t.s.now())
}

// Move moves the moment of the reminders under the application's key, and returns how many
// deliveries and unexpanded lists that were.
func (t Tx) Move(ctx context.Context, key string, to time.Time) (int64, error) {
	return t.rows.Move(ctx, key, to)
}

// write runs fn in a transaction of the service's own and wakes the workers.
func (s *Service) write(ctx context.Context, fn func(Tx) error) error {
	err := s.store.Write(ctx, func(rows store.Tx) error { return fn(Tx{s: s, rows: rows}) })
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

// NotifyAll is [Tx.NotifyAll] in a transaction of its own; it wakes the workers. On SQLite, other
// writers wait while the list is read: let it come from memory or a file, not from a network.
func (s *Service) NotifyAll(ctx context.Context, n Notice, to iter.Seq2[Recipient, error]) (count int, err error) {
	err = s.write(ctx, func(t Tx) (err error) { count, err = t.NotifyAll(ctx, n, to); return err })
	return count, err
}

// Cancel is [Tx.Cancel] in a transaction of its own.
func (s *Service) Cancel(ctx context.Context, key string) (cancelled int64, err error) {
	err = s.write(ctx, func(t Tx) (err error) { cancelled, err = t.Cancel(ctx, key); return err })
	return cancelled, err
}

// Move is [Tx.Move] in a transaction of its own; it wakes the workers.
func (s *Service) Move(ctx context.Context, key string, to time.Time) (moved int64, err error) {
	err = s.write(ctx, func(t Tx) (err error) { moved, err = t.Move(ctx, key, to); return err })
	return moved, err
}

// NotifyNow is Notify with one attempt at once, in this process, whoever else works: it returns
// the delivery as it is after that. It is for sending one letter by hand, to one address.
func (s *Service) NotifyNow(ctx context.Context, n Notice) (store.Delivery, error) {
	if len(n.Cc)+len(n.Bcc) > 0 {
		return store.Delivery{}, errors.New("illumicode: a letter by hand goes to one address")
	}
	if n.askedBy == "" {
		n.askedBy = "an operator, by hand"
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
