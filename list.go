package illumicode

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"strings"

	"github.com/illumicode/illumicode/internal/composer"
	"github.com/illumicode/illumicode/internal/flow"
	rows "github.com/illumicode/illumicode/internal/store"
)

// A Recipient is one of many.
type Recipient struct {
	Request
	Data any // instead of the notice's; nil for the notice's
}

// NotifyAll adds a notice to many, whose list is read once and never held in memory: in the
// application's transaction stand one row and the list in pieces, which workers turn into
// deliveries. Notice.To, Cc, Bcc, Fallback and Gather are left empty. It returns how many
// letters that makes: an address that comes again with the same data gets one, which the log counts. Of each recipient
// 16 bytes are remembered until the list is read. Errors name the recipient by its place; they leave the transaction
// to be rolled back. Under Notice.Once a second call has no effect, whatever its list, and returns 0.
func (t Tx) NotifyAll(ctx context.Context, n Notice, to iter.Seq2[Recipient, error]) (count int, err error) {
	if err := t.ok(); err != nil {
		return 0, err
	}
	return t.notifyAll(ctx, n, func(yield func(addressee, error) bool) {
		for r, err := range to {
			if !yield(addressee{Recipient: r}, err) {
				return
			}
		}
	})
}

// NotifyAll is [Tx.NotifyAll] in a transaction of its own; it wakes the workers. On SQLite, other writers wait while
// the list is read: let it come from memory or a file, not from a network.
func (s *Service) NotifyAll(ctx context.Context, n Notice, to iter.Seq2[Recipient, error]) (count int, err error) {
	err = s.write(ctx, func(t Tx) (err error) { count, err = t.NotifyAll(ctx, n, to); return err })
	return count, err
}

// An addressee is a recipient whose letter has values of its own over those of the notice.
type addressee struct {
	Recipient
	own map[string]any // nil for none
}

func (t Tx) notifyAll(ctx context.Context, n Notice, to iter.Seq2[addressee, error]) (count int, err error) {
	l, err := t.s.listing(n, func(ctx context.Context, p rows.Piece) error { return t.rows().InsertPeople(ctx, p) })
	if err != nil {
		return 0, err
	}
	if n.Once != "" {
		earlier, err := t.once(ctx, n, []string{l.id})
		if err != nil || earlier != nil {
			return 0, err
		}
	}
	for r, err := range to {
		if err == nil {
			err = l.add(ctx, r)
		} else {
			err = fmt.Errorf("illumicode: the list of recipients, after %d: %w", l.count, err)
		}
		if err != nil {
			return 0, err
		}
	}
	if l.count == 0 {
		return 0, errors.New("illumicode: a notice to many needs at least one recipient")
	}
	return l.count, l.end(ctx, t)
}

// An audience is for whom the same data make the same letter.
type audience struct {
	locale string
	phone  bool
	own    bool // with values of their own, each of whom has to be tried
}

// A toldAlready remembers who is told what, by a digest.
type toldAlready map[[16]byte]bool

// before reports whether the same was said before.
func (a toldAlready) before(what ...string) bool {
	sum := sha256.Sum256([]byte(strings.Join(what, "\x00")))
	key := [16]byte(sum[:16])
	if a[key] {
		return true
	}
	a[key] = true
	return false
}

// A listing is a notice to many while its list is read.
type listing struct {
	s      *Service
	n      Notice
	id     string
	put    func(context.Context, rows.Piece) error
	shared string         // the notice's data
	values map[string]any // the same
	first  Admission      // of the recipient that came first
	tried  map[audience]bool
	people []rows.Person
	pieces int
	count  int
	told   toldAlready
	again  int // recipients that were in the list before
}

// listing begins a notice to many, whose pieces put keeps.
func (s *Service) listing(n Notice, put func(context.Context, rows.Piece) error) (*listing, error) {
	if n.To.Address != "" || len(n.Cc)+len(n.Bcc) > 0 || n.Fallback != "" || n.FallbackAnyway || n.Gather.Topic != "" {
		return nil, errors.New("illumicode: a notice to many has its recipients in the list alone, and cannot gather")
	}
	shared, values, err := composer.MarshalData(n.Data)
	if err != nil {
		return nil, fmt.Errorf("illumicode: letter %q: %w", n.Letter, err)
	}
	return &listing{s: s, n: n, id: flow.NewID(), put: put, shared: shared, values: values,
		tried: make(map[audience]bool), told: make(toldAlready)}, nil
}

// add takes one recipient.
func (l *listing) add(ctx context.Context, r addressee) error {
	place := func(err error) error { return fmt.Errorf("illumicode: recipient %d: %w", l.count+l.again+1, err) }
	a, err := l.s.addressed(ctx, r.Request)
	if err != nil {
		return place(err)
	}
	who := rows.Person{Address: a.address.String(), Name: a.address.Name, Locale: a.locale, Zone: a.zone}
	if who.Data, who.Own, err = l.data(ctx, r, a); err != nil {
		return place(err)
	}
	if l.told.before(who.Address, who.Locale, who.Zone, string(who.Data), string(who.Own)) {
		l.again++
		return nil
	}
	if l.count == 0 {
		l.first = a
	}
	l.people = append(l.people, who)
	if l.count++; len(l.people) == rows.PieceSize {
		return l.flush(ctx)
	}
	return nil
}

// data returns what a recipient's letter is made of, instead of what all share or beside it, as JSON. That it makes a
// letter is tried: what several share is tried once for each way of writing it.
func (l *listing) data(ctx context.Context, r addressee, a Admission) (instead, own json.RawMessage, err error) {
	one, as := l.n, audience{a.locale, a.address.IsPhone(), len(r.own) > 0}
	if r.Data != nil {
		one.Data = r.Data
		d, err := l.s.draft(ctx, one, a)
		return json.RawMessage(d.Data), nil, err
	}
	if as.own {
		one.Data = composer.Over(l.values, r.own)
		if own, err = json.Marshal(r.own); err != nil {
			return nil, nil, err
		}
	}
	switch {
	case !l.tried[as]:
		l.tried[as] = true
		_, err = l.s.draft(ctx, one, a)
	case as.own:
		err = l.s.try(one, a, one.reminding(composer.Over(l.values, r.own)))
	}
	return nil, own, err
}

// end writes what all recipients share, and with it the list.
func (l *listing) end(ctx context.Context, t Tx) error {
	if err := l.flush(ctx); err != nil {
		return err
	}
	d, err := l.s.drafted(ctx, l.n, l.first) // its times begin now
	if err == nil {
		err = t.attachments(ctx, &d, l.n)
	}
	if err != nil {
		return err
	}
	if l.again > 0 {
		l.s.p.Log.Info("a list has recipients twice; each gets one letter", "letter", l.n.Letter, "list", l.id,
			"left_out", l.again)
	}
	d.Data = "{}"
	if l.shared == d.Data {
		l.shared = ""
	}
	return t.rows().InsertFanout(ctx, rows.Fanout{ID: l.id, Draft: d}, l.shared)
}

// flush writes the people that were read since the last piece.
func (l *listing) flush(ctx context.Context) error {
	if len(l.people) == 0 {
		return nil
	}
	err := l.put(ctx, rows.Piece{List: l.id, Number: l.pieces, People: l.people})
	l.people, l.pieces = l.people[:0], l.pieces+1
	return err
}
