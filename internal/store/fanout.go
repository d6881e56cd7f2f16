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
const PieceSize = 150

var (
	insertFanout = q(
		`INSERT INTO illumicode_fanout (id, draft, letter, lane, bundle, app_key, due, lead, deliver_before, ` +
			`created) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`)
	insertList = q(`INSERT INTO illumicode_fanout_piece (fanout, piece, people) VALUES (?, ?, ?)`)
)

// InsertFanout adds a notice to many, without its list.
func (t Tx) InsertFanout(ctx context.Context, f Fanout) error {
	draft, err := json.Marshal(f.Draft)
	if err != nil {
		return err
	}
	_, err = t.exec(ctx, insertFanout, f.ID, string(draft), f.Draft.Letter, string(f.Draft.Lane), f.Draft.Bundle,
		f.Draft.Key, millis(f.Draft.Due), f.Draft.Lead.Milliseconds(),
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
		(SELECT fanout, piece FROM illumicode_fanout_piece ORDER BY fanout, piece LIMIT 1 FOR UPDATE SKIP LOCKED)
		RETURNING fanout, piece, people`)
	peekPiece   = q(`SELECT fanout, piece, people FROM illumicode_fanout_piece ORDER BY fanout, piece LIMIT 1`)
	deletePiece = q(`DELETE FROM illumicode_fanout_piece WHERE fanout = ? AND piece = ?`)
	lockFanout  = q(`SELECT draft, due, deliver_before FROM illumicode_fanout WHERE id = ? FOR UPDATE`)
	endFanout   = q(
		`DELETE FROM illumicode_fanout WHERE id = ? AND NOT EXISTS (SELECT 1 FROM illumicode_fanout_piece WHERE ` +
			`fanout = ?)`)
)

// AnyPiece reports whether a list waits to be expanded.
func (s *Store) AnyPiece(ctx context.Context) (bool, error) {
	rows, err := s.query(ctx, anyPiece)
	return one(s, rows, err, func(r scanner) (any bool, err error) { return any, r.Scan(&any) })
}

// A piece is a part of a list: the row, and the rows of its people's deliveries.
type piece struct {
	fanout string
	number int64
	rows   [][]any
}

// scanPiece makes ready what needs no lock.
func scanPiece(newID func() string) func(scanner) (piece, error) {
	return func(r scanner) (p piece, err error) {
		var raw string
		var people []Person
		if err := r.Scan(&p.fanout, &p.number, &raw); err != nil {
			return p, err
		}
		if err := json.Unmarshal([]byte(raw), &people); err != nil {
			return p, fmt.Errorf("store: list %s: %w", p.fanout, err)
		}
		p.rows = make([][]any, len(people))
		for i, who := range people {
			p.rows[i] = []any{newID(), who.Address, who.Name, who.Locale, who.Zone, nil}
			if who.Data != nil {
				p.rows[i][5] = string(who.Data)
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
func (s *Store) Expand(ctx context.Context, newID func() string, rest func()) (n int, held time.Duration, err error) {
	take := func(t Tx) (piece, error) { return next(s, scanPiece(newID))(t.query(ctx, takePiece)) }
	for again := true; again && err == nil; {
		again = false
		if s.OneWriter() { // others wait: have everything ready before they do
			var p piece
			if p, err = next(s, scanPiece(newID))(s.query(ctx, peekPiece)); err != nil {
				break
			}
			take = func(t Tx) (piece, error) {
				k, err := t.exec(ctx, deletePiece, p.fanout, p.number)
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
	if errors.Is(err, ErrNotFound) {
		err = nil
	}
	if err != nil {
		n = 0
	}
	return n, held, err
}

// next returns what takes the only row of a query's result.
func next[T any](s *Store, scan func(scanner) (T, error)) func(Rows, error) (T, error) {
	return func(rows Rows, err error) (T, error) { return one(s, rows, err, scan) }
}

// expand adds the deliveries of a piece that was taken.
func (t Tx) expand(ctx context.Context, p piece) error {
	rows, err := t.query(ctx, lockFanout, p.fanout)
	draft, err := one(t.s, rows, err, func(r scanner) (d Delivery, err error) {
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
	if err := t.insertAll(ctx, draft, p.rows); err != nil {
		return err
	}
	_, err = t.exec(ctx, endFanout, p.fanout, p.fanout)
	return err
}

// What all have in common is bound once.
var insertAll = lq(`LIST r (id TEXT, address TEXT, name TEXT, locale TEXT, zone TEXT, data TEXT)
	INSERT INTO illumicode_delivery (` + deliveryColumns + `) SELECT r.id, '', 0, CAST(? AS TEXT), r.locale, r.address,
	r.name, COALESCE(r.data, CAST(? AS TEXT)),
	CAST(? AS TEXT), CAST(? AS TEXT), CAST(? AS BIGINT), CAST(? AS BIGINT), CAST(? AS BIGINT), 0, '', 0, 0, 0, 0,
	CAST(? AS TEXT), r.zone, CAST(? AS TEXT),
	CAST(? AS TEXT), CAST(? AS INTEGER), CAST(? AS INTEGER), CAST(? AS TEXT), CAST(? AS TEXT), CAST(? AS BIGINT), '',
	'', CAST(? AS TEXT), CAST(? AS TEXT)
	FROM r WHERE r.id IS NOT NULL`)

// insertAll adds the deliveries of a draft to the people of a piece.
func (t Tx) insertAll(ctx context.Context, d Delivery, rows [][]any) error {
	return t.run(ctx, insertAll.statements(rows, nil, d.Letter, d.Data, string(d.Lane), string(d.state()),
		millis(d.Created), millis(d.Due),
		millis(d.DeliverBefore), d.Note, d.Visible, d.Bundle, d.version(), flag(d.Once), d.HeldBy, d.Key,
		d.Lead.Milliseconds(), d.AskedBy, d.Trace)...)
}

// A Once is what was asked for under a de-duplication key: the row.
type Once struct {
	Name   string
	Digest string // of what was asked for
	Result string // what came of it
	Made   time.Time
}

var (
	insertOnce = q(
		`INSERT INTO illumicode_once (name, digest, result, made) VALUES (?, ?, ?, ?) ON CONFLICT (name) DO NOTHING`)
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
