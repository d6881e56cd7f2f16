package store

import (
	"context"
	"time"

	"github.com/illumicode/illumicode/internal/store/db"
)

// A Sweep removes what is older than it need be: deliveries that ended before a time with their attempts, what joined
// them and what came back about them, challenges and changes of address of that time with their trail, de-duplication
// keys of another time, and wrong codes of that time, which count nothing any more. It goes through each table once.
//
// Where a database keeps removed rows in its indexes until it cleans up, a walk from the head would meet all of them
// again with every step. So a Sweep remembers how far it came. It is for one goroutine.
type Sweep struct {
	store *Store
	left  []table
	// how far the first of left is done: by key, or by time
	key  string
	made int64
}

// A table is one that is swept, either by its primary key or by a time of its rows.
type table struct {
	keys   string // the next keys after one and before another, in order; "" by time
	remove []string
	age    any    // the last argument of remove by key; nil for none
	before int64  // by time
	oldest string // keys before it are looked at; "" for all
}

// How many rows a piece looks at, at most: of attachments fewer, as their contents go with them.
const (
	pieceRows  = `500`
	pieceFiles = `20`
)

// nextKeys returns the query for the keys after one; which says more of them.
func nextKeys(name, key, which, most string) string {
	return db.Q(`SELECT ` + key + ` FROM @` + name + ` WHERE ` + key + ` > ?` + which + ` ORDER BY ` + key + ` LIMIT ` +
		most)
}

// byKey returns the queries for a table whose keys begin with the time of their making.
func byKey(name, key, remove string) (keys string, all []string) {
	return nextKeys(name, key, ` AND `+key+` < ?`, pieceRows), []string{db.Q(remove)}
}

// inRange is a range of keys, of what is not locked.
func inRange(name, key, which string) string {
	return `DELETE FROM @` + name + ` WHERE ` + key + ` @in(SELECT ` + key + ` FROM @` + name + ` WHERE ` + key +
		` > ? AND ` + key + ` <= ? AND ` + which + ` @free())`
}

// byTime returns the query for a table that has an index on a time of its rows.
func byTime(name, key, at, which string) string {
	return db.Q(`DELETE FROM @` + name + ` WHERE ` + key + ` @in(SELECT ` + key + ` FROM @` + name + ` WHERE ` + at +
		` >= ? AND ` + at + ` < ? ` + which + ` ORDER BY ` + at + ` LIMIT ` + pieceRows + ` @free()) RETURNING ` + at)
}

const noDelivery = `NOT EXISTS (SELECT 1 FROM @outbox o WHERE o.id = `

var (
	endedKeys, sweepEnded      = byKey("ended", "id", inRange("ended", "id", `ended < ?`))
	attemptKeys, sweepAttempts = byKey("attempt", "delivery", `DELETE FROM @attempt WHERE delivery > ? AND delivery <= ?
		AND `+noDelivery+`illumicode_attempt.delivery)`)
	itemKeys, sweepItems = byKey("item", "delivery", `DELETE FROM @item WHERE delivery > ? AND delivery <= ?
		AND `+noDelivery+`illumicode_item.delivery)`)
	fileKeys   = nextKeys("attachment", "bundle", ` AND bundle < ?`, pieceFiles)
	sweepFiles = []string{
		db.Q(`DELETE FROM @attachment_piece WHERE bundle > ? AND bundle <= ? AND ` + unused("attachment_piece")),
		db.Q(`DELETE FROM @attachment WHERE bundle > ? AND bundle <= ? AND ` + unused("attachment"))}
	challengeKeys, sweepChallenges = byKey("challenge", "id",
		inRange("challenge", "id", `state <> 'open' AND ends < ?`))
	changeKeys, sweepChanges = byKey("change", "id",
		inRange("change", "id", `state IN ('stopped', 'settled') AND undo_ends < ?`))
	failureKeys   = nextKeys("failure", "name", "", pieceRows) // nothing of time is in its keys
	sweepFailures = []string{db.Q(inRange("failure", "name", `at < ?`))}

	sweepOnce     = byTime("once", "name", "made", "")
	sweepTrail    = byTime("trail", "seq", "at", "")
	sweepFeedback = byTime("feedback", "id", "taken", `AND state <> 'waiting'`)
)

// unused says that nothing needs a bundle of attachments any more.
func unused(name string) string {
	bundle := `illumicode_` + name + `.bundle`
	return `NOT EXISTS (SELECT 1 FROM @delivery d WHERE d.bundle = ` + bundle + ` AND d.bundle <> '')
		AND NOT EXISTS (SELECT 1 FROM @fanout f WHERE f.bundle = ` + bundle + `)
		AND NOT EXISTS (SELECT 1 FROM @ended e WHERE e.bundle = ` + bundle + ` AND e.bundle <> ''
			AND e.state IN ('failed', 'unknown'))`
}

// Sweep begins to remove what ended before ended, and keys that were made before once. A zero ended is for what is kept
// for ever: then keys alone go.
func (s *Store) Sweep(ended, once time.Time) *Sweep {
	w := &Sweep{store: s, left: []table{
		{remove: []string{sweepOnce}, before: db.Millis(once)},
		{keys: failureKeys, remove: sweepFailures, age: db.Millis(once)},
	}}
	if !ended.IsZero() {
		at, oldest := db.Millis(ended), idAt(ended)
		w.left = append(w.left, []table{
			{keys: endedKeys, remove: sweepEnded, age: at, oldest: oldest},
			{keys: attemptKeys, remove: sweepAttempts, oldest: oldest},
			{keys: itemKeys, remove: sweepItems, oldest: oldest},
			{keys: fileKeys, remove: sweepFiles, oldest: oldest},
			{keys: challengeKeys, remove: sweepChallenges, age: at, oldest: oldest},
			{keys: changeKeys, remove: sweepChanges, age: at, oldest: oldest},
			{remove: []string{sweepTrail}, before: at},
			{remove: []string{sweepFeedback}, before: at},
		}...)
	}
	return w
}

// Piece looks at some hundred rows more and removes those that can go, in a transaction. It returns how many went, and
// whether that was all. After an error it can be called again.
func (w *Sweep) Piece(ctx context.Context) (removed int64, done bool, err error) {
	if len(w.left) == 0 {
		return 0, true, nil
	}
	var more bool
	if t := w.left[0]; t.keys == "" {
		removed, more, err = w.byTime(ctx, t)
	} else {
		removed, more, err = w.byKey(ctx, t)
	}
	if err == nil && !more {
		w.left, w.key, w.made = w.left[1:], "", 0
	}
	return removed, len(w.left) == 0, err
}

func (w *Sweep) byKey(ctx context.Context, t table) (removed int64, more bool, err error) {
	from := []any{w.key}
	if t.oldest != "" {
		from = append(from, t.oldest)
	}
	keys, err := db.All(ctx, w.store, db.Scalar[string], t.keys, from...)
	if err != nil || len(keys) == 0 {
		return 0, false, err
	}
	last := keys[len(keys)-1]
	args := []any{w.key, last}
	if t.age != nil {
		args = append(args, t.age)
	}
	err = w.store.Write(ctx, func(tx Tx) error {
		for _, remove := range t.remove {
			n, err := tx.Exec(ctx, remove, args...)
			if err != nil {
				return err
			}
			removed = n // of the last, which is the table itself
		}
		return nil
	})
	if err != nil {
		return 0, true, err
	}
	w.key = last
	return removed, true, nil
}

func (w *Sweep) byTime(ctx context.Context, t table) (removed int64, more bool, err error) {
	times, err := db.Change(ctx, w.store.Database, db.Scalar[int64], t.remove[0], w.made, t.before)
	for _, at := range times {
		w.made = max(w.made, at)
	}
	return int64(len(times)), len(times) > 0, err
}

var oldestEnded = db.Q(`SELECT COALESCE(MIN(ended), 0) FROM (SELECT ended FROM @ended WHERE id < ? ORDER BY id
	LIMIT ` + pieceRows + `) head WHERE ended < ?`)

// Overdue returns when the delivery ended that should have been removed first, of those that ended before ended, or the
// zero time if there is none. It looks at the oldest rows alone, so that it costs as much whatever there is.
func (s *Store) Overdue(ctx context.Context, ended time.Time) (time.Time, error) {
	at, err := db.One(ctx, s, db.Scalar[int64], oldestEnded, idAt(ended), db.Millis(ended))
	return db.Instant(at), err
}

// idAt returns what every id made before t sorts before. An id begins with the milliseconds of its making (RFC 9562
// §5.7), so that the oldest rows are the first of the primary key: removing them needs no further index.
func idAt(t time.Time) string {
	const hex = "0123456789abcdef"
	b := make([]byte, 12)
	for ms, i := uint64(t.UnixMilli()), 11; i >= 0; i, ms = i-1, ms>>4 {
		b[i] = hex[ms&15]
	}
	return string(b[:8]) + "-" + string(b[8:])
}

var _ = db.Hot(map[string]string{
	"old ended": sweepEnded[0], "old trail": sweepTrail, "old challenges": sweepChallenges[0],
	"old changes": sweepChanges[0], "old attempts": sweepAttempts[0], "old keys": sweepOnce,
})
