package store

import (
	"context"
	"strings"
	"time"
)

// A Filter chooses deliveries. Its fields narrow the choice together; the zero Filter is all.
type Filter struct {
	ID            string
	State         State
	Lane          Lane
	Letter        string
	Address       string
	Key           string    // the application's
	HeldBy        string    // what holds them
	Provider      string    // that made an attempt
	CreatedBefore time.Time // zero means any
	CreatedAfter  time.Time
}

// None reports whether the filter lets everything through.
func (f Filter) None() bool { return f == Filter{} }

// where returns the condition of a filter and its arguments. Each combination of fields is one
// text, and so one prepared statement.
func (f Filter) where() (string, []any) {
	parts, args := []string{"1 = 1"}, []any{}
	add := func(set bool, part string, arg any) {
		if set {
			parts, args = append(parts, part), append(args, arg)
		}
	}
	add(f.ID != "", "id = ?", f.ID)
	add(f.State != "", "state = ?", string(f.State))
	add(f.Lane != "", "lane = ?", string(f.Lane))
	add(f.Letter != "", "letter = ?", f.Letter)
	add(f.Address != "", "address = ?", f.Address)
	add(f.Key != "", "app_key = ?", f.Key)
	add(f.HeldBy != "", "held_by = ?", f.HeldBy)
	add(!f.CreatedBefore.IsZero(), "created < ?", millis(f.CreatedBefore))
	add(!f.CreatedAfter.IsZero(), "created >= ?", millis(f.CreatedAfter))
	add(f.Provider != "", "EXISTS (SELECT 1 FROM illumicode_attempt a WHERE a.delivery = id AND a.provider = ?)",
		f.Provider)
	return strings.Join(parts, " AND "), args
}

// List returns up to n deliveries that a filter chooses, the newest first: those whose id comes
// before the id before, if that is not empty.
func (s *Store) List(ctx context.Context, f Filter, before string, n int) ([]Delivery, error) {
	if before == "" {
		before = "g" // after every hexadecimal digit, in every collation
	}
	where, args := f.where()
	rows, err := s.query(ctx, `SELECT `+deliveryColumns+` FROM illumicode_outbox WHERE `+where+
		` AND id < ? ORDER BY id DESC LIMIT ?`,
		append(args, before, n)...)
	return collect(s, rows, err, scanDelivery)
}

// Each calls fn for every delivery that a filter chooses, the newest first, reading pages of a
// thousand.
func (s *Store) Each(ctx context.Context, f Filter, fn func(Delivery) error) error {
	for before := ""; ; {
		page, err := s.List(ctx, f, before, 1000)
		if err != nil || len(page) == 0 {
			return err
		}
		for _, d := range page {
			if err := fn(d); err != nil {
				return err
			}
		}
		before = page[len(page)-1].ID
	}
}

// Matching counts the deliveries that a filter chooses, by state.
func (s *Store) Matching(ctx context.Context, f Filter) (map[State]int, error) {
	where, args := f.where()
	rows, err := s.query(ctx, `SELECT state, COUNT(*) FROM illumicode_outbox WHERE `+where+` GROUP BY state`, args...)
	groups, err := collect(s, rows, err, func(r scanner) (l Load, err error) { return l, r.Scan(&l.State, &l.Count) })
	counts := make(map[State]int)
	for _, g := range groups {
		counts[g.State] = g.Count
	}
	return counts, err
}

// steps runs one step of a bulk change, of at most 500 rows, until it changes nothing more, each in
// a transaction of its own so that workers and the application get their turn. It returns how many
// rows were changed.
func (s *Store) steps(ctx context.Context, step func(Tx) (int64, error)) (total int64, err error) {
	for {
		var n int64
		err := s.Write(ctx, func(t Tx) (err error) { n, err = step(t); return err })
		total += n
		if err != nil || n == 0 {
			return total, err
		}
	}
}

const chosen = `SELECT id FROM illumicode_delivery WHERE state IN ('waiting', 'held') AND %WHERE% LIMIT 500 FOR UPDATE
	SKIP LOCKED`

// Cancel ends the deliveries that a filter chooses and that no worker has in hand, and the lists
// that are not expanded yet, and returns how many of both. It works in steps: what was cancelled
// stays so if a later step fails.
func (s *Store) Cancel(ctx context.Context, f Filter, note string, now time.Time) (total int64, err error) {
	err = s.Write(ctx, func(t Tx) (err error) { total, err = t.cancelLists(ctx, f); return err })
	if err != nil {
		return 0, err
	}
	n, err := s.steps(ctx, func(t Tx) (int64, error) { return t.cancel(ctx, f, note, now) })
	return total + n, err
}

const (
	dropPieces = `DELETE FROM illumicode_fanout_piece WHERE fanout IN (SELECT id FROM illumicode_fanout WHERE %WHERE%)`
	dropLists  = `DELETE FROM illumicode_fanout WHERE %WHERE%`
)

// cancelLists cancels what is left of the lists that a filter chooses as a whole: by their letter,
// lane, key and age. The pieces go first, which waits for one that is being expanded.
func (t Tx) cancelLists(ctx context.Context, f Filter) (int64, error) {
	if f.State != "" && f.State != Waiting {
		return 0, nil
	}
	f.State = ""
	if (f != Filter{Lane: f.Lane, Letter: f.Letter, Key: f.Key, CreatedBefore: f.CreatedBefore,
		CreatedAfter: f.CreatedAfter}) {
		return 0, nil
	}
	where, args := f.where()
	if _, err := t.exec(ctx, strings.ReplaceAll(dropPieces, "%WHERE%", where), args...); err != nil {
		return 0, err
	}
	return t.exec(ctx, strings.ReplaceAll(dropLists, "%WHERE%", where), args...)
}

// CancelKey cancels everything under the application's key, lists that are not expanded included,
// and returns how many deliveries and lists that were.
func (t Tx) CancelKey(ctx context.Context, key, note string, now time.Time) (int64, error) {
	if key == "" {
		return 0, nil
	}
	f := Filter{Key: key}
	total, err := t.cancelLists(ctx, f)
	for err == nil {
		var n int64
		n, err = t.cancel(ctx, f, note, now)
		if total += n; n == 0 {
			break
		}
	}
	return total, err
}

// In a caller's transaction no query may have to be prepared first.
var byKey = func() string { where, _ := Filter{Key: "any"}.where(); return where }()
var _ = []string{q(strings.ReplaceAll(chosen, "%WHERE%", byKey)), q(strings.ReplaceAll(dropPieces, "%WHERE%", byKey)),
	q(strings.ReplaceAll(dropLists, "%WHERE%", byKey))}

func (t Tx) cancel(ctx context.Context, f Filter, note string, now time.Time) (int64, error) {
	if _, err := t.exec(ctx, deleteChosen, "[]"); err != nil { // a write first, as SQLite wants it
		return 0, err
	}
	where, args := f.where()
	rows, err := t.query(ctx, strings.ReplaceAll(chosen, "%WHERE%", where), args...)
	ids, err := collect(t.s, rows, err, scanText)
	if err != nil || len(ids) == 0 {
		return 0, err
	}
	all := list(ids)
	n, err := t.exec(ctx, endChosen, millis(now), note, all)
	if err != nil {
		return 0, err
	}
	for _, text := range []string{deleteChosen, deleteChosenItems} {
		if _, err := t.exec(ctx, text, all); err != nil {
			return 0, err
		}
	}
	return n, nil
}

var (
	endChosen = q(leave(`'{}'`, `'cancelled'`, `attempts, spent`, `CAST(? AS TEXT)`) +
		` WHERE id IN (SELECT value FROM json_each(?))
		AND state IN ('waiting', 'held')`)
	deleteChosen = q(
		`DELETE FROM illumicode_delivery WHERE id IN (SELECT value FROM json_each(?)) AND state IN ('waiting', 'held')`)
	deleteChosenItems = q(`DELETE FROM illumicode_item WHERE delivery IN (SELECT value FROM json_each(?))`)
)

const releaseChosen = `UPDATE illumicode_delivery SET state = 'waiting', held_by = '', note = '' WHERE id IN
	(SELECT id FROM illumicode_delivery WHERE state = 'held' AND %WHERE% LIMIT 500)`

// Release lets held deliveries that a filter chooses wait again, and returns how many.
func (s *Store) Release(ctx context.Context, f Filter) (int64, error) {
	where, args := f.where()
	return s.steps(ctx, func(t Tx) (int64, error) {
		return t.exec(ctx, strings.ReplaceAll(releaseChosen, "%WHERE%", where), args...)
	})
}

const hurryChosen = `UPDATE illumicode_delivery SET due = ?, note = '' WHERE id IN
	(SELECT id FROM illumicode_delivery WHERE state = 'waiting' AND due > ? AND %WHERE% LIMIT 500)`

// Hurry makes the waiting deliveries that a filter chooses due at now, and returns how many were
// not yet.
func (s *Store) Hurry(ctx context.Context, f Filter, now time.Time) (int64, error) {
	where, args := f.where()
	return s.steps(ctx, func(t Tx) (int64, error) {
		return t.exec(ctx, strings.ReplaceAll(hurryChosen, "%WHERE%", where),
			append([]any{millis(now), millis(now)}, args...)...)
	})
}

const failedChosen = `SELECT id FROM illumicode_ended WHERE state = 'failed' AND %WHERE% LIMIT 500 FOR UPDATE SKIP
	LOCKED`

var (
	revive = q(`INSERT INTO illumicode_delivery (` + deliveryColumns +
		`) SELECT id, challenge, generation, letter, locale, address,
		name, data, lane, 'waiting', created, CAST(? AS BIGINT), CASE WHEN deliver_before > CAST(? AS BIGINT) THEN
		deliver_before ELSE 0 END,
		claim, '', 0, attempts, 0, 0, '', zone, visible, bundle, version, once, '', app_key, lead, ` + itsOwn + `, '',
		asked_by, trace
		FROM illumicode_ended WHERE id IN (SELECT value FROM json_each(?)) AND state = 'failed'`)
	deleteRevived = q(`DELETE FROM illumicode_ended WHERE id IN (SELECT value FROM json_each(?)) AND state = 'failed'`)
)

// Revive lets failed deliveries that a filter chooses wait again, due at now, with all their
// attempts before them, and returns how many. A deadline that has passed is lifted, and a fallback has
// been used.
func (s *Store) Revive(ctx context.Context, f Filter, now time.Time) (int64, error) {
	where, args := f.where()
	return s.steps(ctx, func(t Tx) (int64, error) {
		if _, err := t.exec(ctx, deleteRevived, "[]"); err != nil { // a write first, as SQLite wants it
			return 0, err
		}
		rows, err := t.query(ctx, strings.ReplaceAll(failedChosen, "%WHERE%", where), args...)
		ids, err := collect(t.s, rows, err, scanText)
		if err != nil || len(ids) == 0 {
			return 0, err
		}
		n, err := t.exec(ctx, revive, millis(now), millis(now), list(ids))
		if err != nil {
			return 0, err
		}
		_, err = t.exec(ctx, deleteRevived, list(ids))
		return n, err
	})
}

var lettersTo = q(`SELECT ` + deliveryColumns +
	` FROM illumicode_outbox WHERE LOWER(address) IN (LOWER(CAST(? AS TEXT)), LOWER(CAST(? AS TEXT))) ORDER BY created
		DESC, id DESC LIMIT ?`)

// LettersTo returns up to n deliveries to an address, in either spelling, the latest first.
func (s *Store) LettersTo(ctx context.Context, mailbox, typed string, n int) ([]Delivery, error) {
	rows, err := s.query(ctx, lettersTo, mailbox, typed, n)
	return collect(s, rows, err, scanDelivery)
}
