package illumicode

import (
	"context"
	"encoding/json"
	"fmt"

	"golang.org/x/text/language"

	"github.com/illumicode/illumicode/store"
)

// A Notice is one letter without proof, to one address.
type Notice struct {
	Letter string
	To     Request        // address, name and locale
	Data   map[string]any // the letter's values; marshalled as JSON
	Lane   store.Lane     // empty means normal
}

// Notify adds a notice to the outbox in the application's transaction and returns the id of its
// delivery. It refuses, before anything is written, an address that cannot be
// ([message.ErrAddress]), a letter or value that is missing ([letter.ErrMissing]), and a letter
// that carries a proof.
func (t Tx) Notify(ctx context.Context, n Notice) (delivery string, err error) {
	a, err := t.s.Admit(ctx, n.To)
	if err != nil {
		return "", err
	}
	if t.s.letters.CarriesProof(n.Letter) {
		return "", fmt.Errorf("illumicode: letter %q carries a proof; it is sent by beginning its challenge, not as a notice", n.Letter)
	}
	if err := t.s.letters.Check(n.Letter, language.Make(a.locale), n.Data); err != nil {
		return "", err
	}
	data := []byte("{}")
	if n.Data != nil {
		if data, err = json.Marshal(n.Data); err != nil {
			return "", fmt.Errorf("illumicode: the data of letter %q: %w", n.Letter, err)
		}
	}
	if n.Lane == "" {
		n.Lane = store.Normal
	}
	now := t.s.now()
	d := store.Delivery{
		ID: newID(), Letter: n.Letter, Locale: a.locale, Address: a.address.String(), Name: a.address.Name,
		Data: string(data), Lane: n.Lane, Created: now, Due: now,
	}
	return d.ID, t.rows.InsertDelivery(ctx, d)
}

// Notify is [Tx.Notify] in a transaction of its own; it wakes the worker.
func (s *Service) Notify(ctx context.Context, n Notice) (delivery string, err error) {
	err = s.store.Write(ctx, func(rows store.Tx) error {
		delivery, err = Tx{s: s, rows: rows}.Notify(ctx, n)
		return err
	})
	if err == nil {
		s.Wake()
	}
	return delivery, err
}

// NotifyNow is Notify with one attempt at once, in this process, whoever else works: it returns
// the delivery as it is after that. It is for sending one letter by hand.
func (s *Service) NotifyNow(ctx context.Context, n Notice) (store.Delivery, error) {
	var id string
	err := s.store.Write(ctx, func(rows store.Tx) (err error) {
		id, err = Tx{s: s, rows: rows}.Notify(ctx, n)
		return err
	})
	if err != nil {
		return store.Delivery{}, err
	}
	return s.outbox.DeliverOne(ctx, id)
}
