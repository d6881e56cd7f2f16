package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"
)

// A Fanout is a notice to many: the row. Its list stands beside it in pieces.
type Fanout struct {
	ID    string
	Draft Delivery // what every delivery of it has; who it goes to differs
}

// A Person is one of a list.
type Person struct {
	Address string          `json:"a"`
	Name    string          `json:"n,omitempty"`
	Locale  string          `json:"l,omitempty"`
	Zone    string          `json:"z,omitempty"`
	Data    json.RawMessage `json:"d,omitempty"` // instead of the draft's; nil for the draft's
}

// PieceSize is how many people stand in a piece: what one transaction expands.
const PieceSize = 100

var (
	insertFanout = q(`INSERT INTO illumicode_fanout (id, draft, letter, lane, bundle, app_key, due, lead, deliver_before, created) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`)
	insertList   = q(`INSERT INTO illumicode_fanout_piece (fanout, piece, people) VALUES (?, ?, ?)`)
)

// InsertFanout adds a notice to many, without its list.
func (t Tx) InsertFanout(ctx context.Context, f Fanout) error {
	draft, err := json.Marshal(f.Draft)
	if err != nil {
		return err
	}
	_, err = t.exec(ctx, insertFanout, f.ID, string(draft), f.Draft.Letter, string(f.Draft.Lane), f.Draft.Bundle, f.Draft.Key, millis(f.Draft.Due), f.Draft.Lead.Milliseconds(),
		millis(f.Draft.DeliverBefore), millis(f.Draft.Created))
	return err
}

// InsertPeople adds a piece of a list.
func (t Tx) InsertPeople(ctx context.Context, fanout string, piece int, people []Person) error {
	raw, err := json.Marshal(people)
	if err != nil {
		return err
	}
	_, err = t.exec(ctx, insertList, fanout, piece, string(raw))
	return err
}

var (
	anyPiece  = q(`SELECT EXISTS (SELECT 1 FROM illumicode_fanout_piece)`)
	takePiece = q(`DELETE FROM illumicode_fanout_piece WHERE (fanout, piece) IN
		(SELECT fanout, piece FROM illumicode_fanout_piece ORDER BY fanout, piece LIMIT 1 FOR UPDATE SKIP LOCKED) RETURNING fanout, people`)
	lockFanout = q(`SELECT draft, due, deliver_before FROM illumicode_fanout WHERE id = ? FOR UPDATE`)
	endFanout  = q(`DELETE FROM illumicode_fanout WHERE id = ? AND NOT EXISTS (SELECT 1 FROM illumicode_fanout_piece WHERE fanout = ?)`)
)

// AnyPiece reports whether a list waits to be expanded.
func (s *Store) AnyPiece(ctx context.Context) (bool, error) {
	rows, err := s.query(ctx, anyPiece)
	return one(s, rows, err, func(r scanner) (any bool, err error) { return any, r.Scan(&any) })
}

// Expand turns one piece of a list into deliveries and returns how many; 0 if there is none. It is
// one transaction, so a piece is expanded once whatever happens. newID makes the ids.
func (s *Store) Expand(ctx context.Context, newID func() string) (n int, err error) {
	err = s.Write(ctx, func(t Tx) error {
		n = 0
		type piece struct{ fanout, people string }
		rows, err := t.query(ctx, takePiece)
		p, err := one(s, rows, err, func(r scanner) (p piece, err error) { return p, r.Scan(&p.fanout, &p.people) })
		if errors.Is(err, ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		var people []Person
		if err := json.Unmarshal([]byte(p.people), &people); err != nil {
			return fmt.Errorf("store: list %s: %w", p.fanout, err)
		}
		rows, err = t.query(ctx, lockFanout, p.fanout)
		draft, err := one(s, rows, err, func(r scanner) (d Delivery, err error) {
			var raw string
			var due, before int64
			if err := r.Scan(&raw, &due, &before); err != nil {
				return d, err
			}
			err = json.Unmarshal([]byte(raw), &d)
			d.Due, d.DeliverBefore = instant(due), instant(before) // they may have been moved
			return d, err
		})
		if err != nil {
			return err
		}
		if err := t.insertAll(ctx, draft, people, newID); err != nil {
			return err
		}
		n = len(people)
		_, err = t.exec(ctx, endFanout, p.fanout, p.fanout)
		return err
	})
	return n, err
}

// What all have in common is bound once.
var insertAll = lq(`LIST r (id TEXT, address TEXT, name TEXT, locale TEXT, zone TEXT, data TEXT)
	INSERT INTO illumicode_delivery (` + deliveryColumns + `) SELECT r.id, '', 0, CAST(? AS TEXT), r.locale, r.address, r.name, r.data, CAST(? AS TEXT),
	CAST(? AS TEXT), CAST(? AS BIGINT), CAST(? AS BIGINT), CAST(? AS BIGINT), 0, '', 0, 0, 0, 0, CAST(? AS TEXT), r.zone, CAST(? AS TEXT), CAST(? AS TEXT),
	CAST(? AS INTEGER), CAST(? AS INTEGER), CAST(? AS TEXT), CAST(? AS TEXT), CAST(? AS BIGINT), '', '', CAST(? AS TEXT), CAST(? AS TEXT)
	FROM r WHERE r.id IS NOT NULL`)

// insertAll adds the deliveries of a draft to people.
func (t Tx) insertAll(ctx context.Context, d Delivery, people []Person, newID func() string) error {
	rows := make([][]any, len(people))
	for i, who := range people {
		data := d.Data
		if who.Data != nil {
			data = string(who.Data)
		}
		rows[i] = []any{newID(), who.Address, who.Name, who.Locale, who.Zone, data}
	}
	return t.run(ctx, insertAll.statements(rows, nil, d.Letter, string(d.Lane), string(d.state()), millis(d.Created), millis(d.Due), millis(d.DeliverBefore), d.Note,
		d.Visible, d.Bundle, d.version(), flag(d.Once), d.HeldBy, d.Key, d.Lead.Milliseconds(), d.AskedBy, d.Trace)...)
}

// A Once is what was asked for under a de-duplication key: the row.
type Once struct {
	Name   string
	Digest string // of what was asked for
	Result string // what came of it
	Made   time.Time
}

var (
	insertOnce = q(`INSERT INTO illumicode_once (name, digest, result, made) VALUES (?, ?, ?, ?) ON CONFLICT (name) DO NOTHING`)
	selectOnce = q(`SELECT name, digest, result, made FROM illumicode_once WHERE name = ?`)
)

// Once records o and reports whether its name is new; if not, it returns what stands under it. In
// PostgreSQL it waits for another transaction that is about to record the same name.
func (t Tx) Once(ctx context.Context, o Once) (first bool, stands Once, err error) {
	n, err := t.exec(ctx, insertOnce, o.Name, o.Digest, o.Result, millis(o.Made))
	if err != nil || n == 1 {
		return n == 1, o, err
	}
	rows, err := t.query(ctx, selectOnce, o.Name)
	stands, err = one(t.s, rows, err, func(r scanner) (o Once, err error) {
		var made int64
		err = r.Scan(&o.Name, &o.Digest, &o.Result, &made)
		o.Made = instant(made)
		return o, err
	})
	return false, stands, err
}
