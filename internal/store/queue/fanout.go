package queue

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/illumicode/illumicode/internal/store/db"
)

// A Fanout is a notice to many: the row. Its list stands beside it in pieces.
type Fanout struct {
	ID    string
	Draft Delivery // what every delivery of it has; who it goes to differs

	draft string // as JSON
}

// fanoutRow are the columns of a notice to many.
var fanoutRow = db.Columns[Fanout]{
	db.Text("id", func(f *Fanout) *string { return &f.ID }),
	db.Text("draft", func(f *Fanout) *string { return &f.draft }),
	db.Text("letter", func(f *Fanout) *string { return &f.Draft.Letter }),
	db.Text("lane", func(f *Fanout) *Lane { return &f.Draft.Lane }),
	db.Text("bundle", func(f *Fanout) *string { return &f.Draft.Bundle }),
	db.Text("app_key", func(f *Fanout) *string { return &f.Draft.Key }),
	db.Time("due", func(f *Fanout) *time.Time { return &f.Draft.Due }),
	db.Span("lead", func(f *Fanout) *time.Duration { return &f.Draft.Lead }),
	db.Time("deliver_before", func(f *Fanout) *time.Time { return &f.Draft.DeliverBefore }),
	db.Time("created", func(f *Fanout) *time.Time { return &f.Draft.Created }),
}

// A Person is one of a list.
type Person struct {
	Address string          `json:"a"`
	Name    string          `json:"n,omitempty"`
	Locale  string          `json:"l,omitempty"`
	Zone    string          `json:"z,omitempty"`
	Data    json.RawMessage `json:"d,omitempty"` // instead of the draft's; nil for the draft's
	Own     json.RawMessage `json:"w,omitempty"` // beside what the list shares
}

// A Piece is a part of a list.
type Piece struct {
	List   string
	Number int
	People []Person
}

// A wrapped piece is one of a list that shares something. Workers that know nothing of it cannot read it, and leave it
// to others.
type wrapped struct {
	People []Person `json:"people"`
}

// PieceSize is how many people stand in a piece: what one transaction expands.
const PieceSize = 150

var (
	newFanout    = fanoutRow.Insert("fanout", db.Values{})
	insertFanout = db.Q(newFanout.Alone())
	insertList   = db.Q(`INSERT INTO @fanout_piece (fanout, piece, people) VALUES (?, ?, ?)`)
)

// InsertFanout adds a notice to many, without its list. What all of its deliveries share, if it is not empty, stands
// beside it.
func (t Tx) InsertFanout(ctx context.Context, f Fanout, shared string) error {
	if shared != "" {
		if _, err := t.Exec(ctx, insertShared, f.ID, shared); err != nil {
			return err
		}
		f.Draft.Shared, f.Draft.Version = f.ID, SharedVersion
	}
	draft, err := json.Marshal(f.Draft)
	if err != nil {
		return err
	}
	f.draft = string(draft)
	_, err = t.Exec(ctx, insertFanout, newFanout.Args(f)...)
	return err
}

// InsertPeople adds a piece of a list.
func (t Tx) InsertPeople(ctx context.Context, p Piece) error {
	raw, err := json.Marshal(wrapped{p.People})
	if err != nil {
		return err
	}
	_, err = t.Exec(ctx, insertList, p.List, p.Number, string(raw))
	return err
}

// readPeople reads a piece, also as versions of before wrote it.
func readPeople(raw string) (p wrapped, err error) {
	if strings.HasPrefix(raw, "[") {
		err = json.Unmarshal([]byte(raw), &p.People)
	} else {
		err = json.Unmarshal([]byte(raw), &p)
	}
	return p, err
}

var (
	anyPiece  = db.Q(`SELECT ` + anyPublished)
	takePiece = db.Q(`DELETE FROM @fanout_piece WHERE (fanout, piece) IN (SELECT p.fanout, p.piece ` + published +
		` ORDER BY f.id, p.piece LIMIT 1 @free(p)) RETURNING fanout, piece, people`)
	peekPiece   = db.Q(`SELECT p.fanout, p.piece, p.people ` + published + ` ORDER BY f.id, p.piece LIMIT 1`)
	deletePiece = db.Q(`DELETE FROM @fanout_piece WHERE fanout = ? AND piece = ?`)
	lockFanout  = db.Q(`SELECT draft, due, deliver_before FROM @fanout WHERE id = ? @lock()`)
	endFanout   = db.Q(`DELETE FROM @fanout WHERE id = ? AND NOT EXISTS (SELECT 1 FROM @fanout_piece WHERE fanout = ?)`)
)

// WithoutPerson returns a piece, as it is stored, without those who have an address.
func WithoutPerson(raw, address string) (string, error) {
	p, err := readPeople(raw)
	if err != nil {
		return "", err
	}
	p.People = slices.DeleteFunc(p.People, func(one Person) bool { return strings.EqualFold(one.Address, address) })
	left, err := json.Marshal(p)
	return string(left), err
}

// Pieces whose list is not there are of a list that is still arriving.
const (
	// SQLite takes the tables of a CROSS JOIN in this order, and so passes over what is arriving.
	published    = `FROM @fanout f CROSS JOIN @fanout_piece p WHERE p.fanout = f.id`
	anyPublished = `EXISTS (SELECT 1 ` + published + `)`
)

// AnyPiece reports whether a list waits to be expanded.
func (s Rows) AnyPiece(ctx context.Context) (bool, error) {
	return db.One(ctx, s, db.Scalar[bool], anyPiece)
}

// A piece is a part of a list: the row, and the rows of its people's deliveries.
type piece struct {
	fanout string
	number int64
	rows   []addressee
}

// An addressee is a person with what differs in the delivery.
type addressee struct {
	id string
	Person
	data *string // nil for the draft's
}

// addresseeRow are the columns of a delivery that differ.
var addresseeRow = db.Columns[addressee]{
	db.Text("id", func(a *addressee) *string { return &a.id }),
	db.Text("address", func(a *addressee) *string { return &a.Address }),
	db.Text("name", func(a *addressee) *string { return &a.Name }),
	db.Text("locale", func(a *addressee) *string { return &a.Locale }),
	db.Text("zone", func(a *addressee) *string { return &a.Zone }),
	db.MaybeText("data", func(a *addressee) **string { return &a.data }),
}

// scanPiece makes ready what needs no lock.
func scanPiece(newID func() string) func(db.Scanner) (piece, error) {
	return func(r db.Scanner) (p piece, err error) {
		var raw string
		if err := r.Scan(&p.fanout, &p.number, &raw); err != nil {
			return p, err
		}
		read, err := readPeople(raw)
		if err != nil {
			return p, fmt.Errorf("store: list %s: %w", p.fanout, err)
		}
		p.rows = make([]addressee, len(read.People))
		for i, who := range read.People {
			p.rows[i] = addressee{id: newID(), Person: who}
			if own := cmp.Or(string(who.Data), string(who.Own)); own != "" {
				p.rows[i].data = &own
			}
		}
		return p, nil
	}
}

// Expand turns one piece of a list into deliveries and returns how many, 0 if there is none, and for how
// long that took the database's lock. It is one transaction, so a piece is expanded once whatever happens.
// It waits for no disk: a loss of power gives the piece back, and no letter leaves before the begin of its
// attempt, committed later, is on disk. newID makes the ids; rest, if it is not nil, is called before the lock is
// taken.
func (s Rows) Expand(ctx context.Context, newID func() string, rest func()) (n int, held time.Duration, err error) {
	take := func(t Tx) (piece, error) { return db.One(ctx, t, scanPiece(newID), takePiece) }
	for again := true; again && err == nil; {
		again = false
		if s.OneWriter() { // others wait: have everything ready before they do
			var p piece
			if p, err = db.One(ctx, s, scanPiece(newID), peekPiece); err != nil {
				break
			}
			take = func(t Tx) (piece, error) {
				k, err := t.Exec(ctx, deletePiece, p.fanout, p.number)
				again = err == nil && k == 0 // another process has it
				return p, err
			}
		}
		if rest != nil {
			rest()
		}
		var locked time.Time
		err = s.WriteRelaxed(ctx, func(t Tx) error {
			locked = time.Now()
			p, err := take(t)
			if err != nil || again {
				return err
			}
			n = len(p.rows)
			return t.expand(ctx, p)
		})
		if !locked.IsZero() {
			held = time.Since(locked)
		}
	}
	if errors.Is(err, db.ErrNotFound) {
		err = nil
	}
	if err != nil {
		n = 0
	}
	return n, held, err
}

// expand adds the deliveries of a piece that was taken.
func (t Tx) expand(ctx context.Context, p piece) error {
	draft, err := db.One(ctx, t, func(r db.Scanner) (d Delivery, err error) {
		var raw string
		var due, before int64
		if err := r.Scan(&raw, &due, &before); err != nil {
			return d, err
		}
		err = json.Unmarshal([]byte(raw), &d)
		d.Due, d.DeliverBefore = db.Instant(due), db.Instant(before) // they may have been moved
		return d, err
	}, lockFanout, p.fanout)
	if err != nil {
		return err
	}
	if err := t.insertAll(ctx, draft, p.rows); err != nil {
		return err
	}
	_, err = t.Exec(ctx, endFanout, p.fanout, p.fanout)
	return err
}

// theirs are the columns that no draft sets: what differs from person to person, and what begins empty.
var theirs = db.Values{"id": "r.id", "address": "r.address", "name": "r.name", "locale": "r.locale", "zone": "r.zone",
	"challenge": "''", "generation": "0", "claim": "0", "worker": "''", "claimed": "0", "attempts": "0", "spent": "0",
	"ended": "0", "collapse": "''", "fallback": "''"}

// The values that all have in common are bound once.
var (
	common     = deliveryRow.Without(theirs)
	addressees = db.ListQ(addresseeRow, `INSERT INTO @delivery (`+deliveryRow.Names()+`)
		SELECT `+deliveryRow.Expressions(theirs.With("data", "COALESCE(r.data, CAST(? AS TEXT))"))+`
		FROM r WHERE r.id IS NOT NULL`)
)

// insertAll adds the deliveries of a draft to the people of a piece.
func (t Tx) insertAll(ctx context.Context, d Delivery, rows []addressee) error {
	sharing := make([]addressee, 0, len(rows))
	var alone []addressee // whose data stand alone, without what the list shares
	for _, a := range rows {
		if a.Data == nil {
			sharing = append(sharing, a)
		} else {
			alone = append(alone, a)
		}
	}
	all := addressees.Statements(sharing, nil, common.Args(d.Fresh())...)
	d.Shared = ""
	return t.Run(ctx, slices.Concat(all, addressees.Statements(alone, nil, common.Args(d.Fresh())...))...)
}
