package queue

import (
	"context"
	"strings"
	"time"

	"github.com/illumicode/illumicode/internal/store/db"
)

// A Filter chooses deliveries. Its fields narrow the choice together; the zero Filter is all.
type Filter struct {
	ID            string
	State         State
	Lane          Lane
	Letter        string
	Address       string
	Key           string    // the application's
	Subject       string    // that they go to
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
	add(f.Key != "", "app_key = ? AND app_key <> ''", f.Key)
	add(f.Subject != "", "subject = ? AND subject <> ''", f.Subject)
	add(f.HeldBy != "", "held_by = ?", f.HeldBy)
	add(!f.CreatedBefore.IsZero(), "created < ?", db.Millis(f.CreatedBefore))
	add(!f.CreatedAfter.IsZero(), "created >= ?", db.Millis(f.CreatedAfter))
	add(f.Provider != "", "EXISTS (SELECT 1 FROM @attempt a WHERE a.delivery = id AND a.provider = ?)",
		f.Provider)
	return strings.Join(parts, " AND "), args
}

// List returns up to n deliveries that a filter chooses, the newest first: those whose id comes
// before the id before, if that is not empty.
func (s Rows) List(ctx context.Context, f Filter, before string, n int) ([]Delivery, error) {
	if before == "" {
		before = "g" // after every hexadecimal digit, in every collation
	}
	where, args := f.where()
	return db.All(ctx, s, deliveryRow.Scan, `SELECT `+deliveryRow.Names()+` FROM @outbox WHERE `+where+
		` AND id < ? ORDER BY id DESC LIMIT ?`,
		append(args, before, n)...)
}

// Each calls fn for every delivery that a filter chooses, the newest first, reading pages of a
// thousand.
func (s Rows) Each(ctx context.Context, f Filter, fn func(Delivery) error) error {
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
func (s Rows) Matching(ctx context.Context, f Filter) (map[State]int, error) {
	where, args := f.where()
	groups, err := db.All(ctx, s, scanCount, `SELECT state, COUNT(*) FROM @outbox WHERE `+where+` GROUP BY state`,
		args...)
	counts := make(map[State]int)
	for _, g := range groups {
		counts[g.State] = g.Count
	}
	return counts, err
}

// chosen asks for some deliveries that wait or are held, and for which a condition is true.
func chosen(where string) string {
	return `SELECT id FROM @delivery WHERE ` + notBegun + ` AND ` + where + ` LIMIT 500 @free()`
}

// notBegun is the condition that no attempt of a delivery is under way. What is claimed and not begun is taken from its
// worker with its row.
const notBegun = `(state IN ('waiting', 'held') OR state = 'claimed' AND NOT ` + begunNow + `)`

// Cancel ends the deliveries that a filter chooses and that no worker has begun to send, and the lists
// that are not expanded yet, and returns how many of both. It works in steps: what was cancelled
// stays so if a later step fails.
func (s Rows) Cancel(ctx context.Context, f Filter, note string, now time.Time) (total int64, err error) {
	err = s.Write(ctx, func(t Tx) (err error) { total, err = t.cancelLists(ctx, f); return err })
	if err != nil {
		return 0, err
	}
	n, err := s.Steps(ctx, func(t db.Tx) (int64, error) { return Tx{t}.cancel(ctx, f, note, now) })
	return total + n, err
}

func dropPieces(where string) string {
	return `DELETE FROM @fanout_piece WHERE fanout IN (SELECT id FROM @fanout WHERE ` + where + `)`
}

func dropLists(where string) string { return `DELETE FROM @fanout WHERE ` + where }

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
	if _, err := t.Exec(ctx, dropPieces(where), args...); err != nil {
		return 0, err
	}
	return t.Exec(ctx, dropLists(where), args...)
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

// CancelSubject cancels what waits for a subject.
func (t Tx) CancelSubject(ctx context.Context, subject, note string, now time.Time) error {
	for {
		if n, err := t.cancel(ctx, Filter{Subject: subject}, note, now); err != nil || n == 0 {
			return err
		}
	}
}

// In a caller's transaction no query may have to be prepared first.
var byKey = func() string { where, _ := Filter{Key: "any"}.where(); return where }()
var bySubject = func() string { where, _ := Filter{Subject: "any"}.where(); return where }()
var _ = []string{db.Q(chosen(byKey)), db.Q(chosen(bySubject)), db.Q(dropPieces(byKey)),
	db.Q(dropLists(byKey))}

func (t Tx) cancel(ctx context.Context, f Filter, note string, now time.Time) (int64, error) {
	if _, err := t.Exec(ctx, deleteChosen, "[]"); err != nil { // a write first, as SQLite wants it
		return 0, err
	}
	where, args := f.where()
	ids, err := db.All(ctx, t, db.Scalar[string], chosen(where), args...)
	if err != nil || len(ids) == 0 {
		return 0, err
	}
	all := db.List(ids)
	n, err := t.Exec(ctx, endChosen, db.Millis(now), note, all)
	if err != nil {
		return 0, err
	}
	for _, text := range []string{deleteChosen, deleteChosenItems} {
		if _, err := t.Exec(ctx, text, all); err != nil {
			return 0, err
		}
	}
	return n, nil
}

var (
	endChosen = db.Q(leave(db.Values{"data": `'{}'`, "state": `'cancelled'`, "note": `CAST(? AS TEXT)`}) +
		` WHERE id @listed() AND ` + notBegun)
	deleteChosen      = db.Q(`DELETE FROM @delivery WHERE id @listed() AND ` + notBegun)
	deleteChosenItems = db.Q(`DELETE FROM @item WHERE delivery @listed()`)
)

func releaseChosen(where string) string {
	return `UPDATE @delivery SET state = 'waiting', held_by = '', note = '' WHERE id @in(SELECT id FROM @delivery
		WHERE state = 'held' AND held_by NOT LIKE 'recall %' AND ` + where + ` LIMIT 500) AND state = 'held'`
}

// Release lets held deliveries that a filter chooses wait again, and returns how many. What is recalled stays so.
func (s Rows) Release(ctx context.Context, f Filter) (int64, error) {
	where, args := f.where()
	return s.Steps(ctx, func(t db.Tx) (int64, error) {
		return t.Exec(ctx, releaseChosen(where), args...)
	})
}

func hurryChosen(where string) string {
	return `UPDATE @delivery SET due = ?, note = '' WHERE id @in(SELECT id FROM @delivery WHERE state = 'waiting'
		AND due > ? AND ` + where + ` LIMIT 500) AND state = 'waiting'`
}

// Hurry makes the waiting deliveries that a filter chooses due at now, and returns how many were
// not yet.
func (s Rows) Hurry(ctx context.Context, f Filter, now time.Time) (int64, error) {
	where, args := f.where()
	return s.Steps(ctx, func(t db.Tx) (int64, error) {
		return t.Exec(ctx, hurryChosen(where),
			append([]any{db.Millis(now), db.Millis(now)}, args...)...)
	})
}

func endedChosen(where string, perhapsSent bool) string {
	states := `state = 'failed'`
	if perhapsSent {
		states = `state IN ('failed', 'unknown')`
	}
	return `SELECT id FROM @ended WHERE ` + states + ` AND ` + where + ` LIMIT 500 @free()`
}

var (
	revive = db.Q(deliveryRow.Copy("ended", "delivery", db.Values{"state": `'waiting'`, "due": `CAST(? AS BIGINT)`,
		"deliver_before": `CASE WHEN deliver_before > CAST(? AS BIGINT) THEN deliver_before ELSE 0 END`,
		"worker":         `''`, "claimed": `0`, "free": `0`, "spent": `0`, "ended": `0`, "note": `''`, "held_by": `''`,
		"collapse": itsOwn, "fallback": `''`}) + ` WHERE id @listed() AND state IN ('failed', 'unknown')`)
	deleteRevived = db.Q(`DELETE FROM @ended WHERE id @listed() AND state IN ('failed', 'unknown')`)
)

// Revive lets failed deliveries that a filter chooses wait again, due at now, with all their
// attempts before them, and returns how many. A deadline that has passed is lifted, and a fallback has
// been used. With perhapsSent it does the same with those of which it is unknown whether they were sent.
func (s Rows) Revive(ctx context.Context, f Filter, perhapsSent bool, now time.Time) (int64, error) {
	where, args := f.where()
	return s.Steps(ctx, func(t db.Tx) (int64, error) {
		if _, err := t.Exec(ctx, deleteRevived, "[]"); err != nil { // a write first, as SQLite wants it
			return 0, err
		}
		ids, err := db.All(ctx, t, db.Scalar[string], endedChosen(where, perhapsSent), args...)
		if err != nil || len(ids) == 0 {
			return 0, err
		}
		n, err := t.Exec(ctx, revive, db.Millis(now), db.Millis(now), db.List(ids))
		if err != nil {
			return 0, err
		}
		_, err = t.Exec(ctx, deleteRevived, db.List(ids))
		return n, err
	})
}

var lettersTo = db.Q(`SELECT ` + deliveryRow.Names() +
	` FROM @outbox WHERE LOWER(address) IN (LOWER(CAST(? AS TEXT)), LOWER(CAST(? AS TEXT))) ORDER BY created
		DESC, id DESC LIMIT ?`)

// LettersTo returns up to n deliveries to an address, in either spelling, the latest first.
func (s Rows) LettersTo(ctx context.Context, mailbox, typed string, n int) ([]Delivery, error) {
	return db.All(ctx, s, deliveryRow.Scan, lettersTo, mailbox, typed, n)
}
