package store

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"github.com/illumicode/illumicode/internal/store/db"
)

// ErrUnderWay means that an attempt at a letter to an address is under way just now.
var ErrUnderWay = errors.New("store: a letter to this address is being sent at this moment; try again in a minute")

// An Erasure erases what is kept of a mailbox. Its first steps are about the mailbox alone, by indexes: addresses,
// challenges, their trail, letters that wait and letters that were sent, attempts, preferences. The others walk through
// every table, 500 rows at a time, take out what others' rows mention of it, and note where it remains. Each step is a
// small transaction, and what is done is kept, so that an erasure which was broken off goes on. What suppresses the
// mailbox stays under its thumbprint alone. An Erasure is for one goroutine.
type Erasure struct {
	ID        string
	Mailbox   string
	Spellings []string // in lower case, as the tables and the call have it
	Began     time.Time
	Stage     int
	Changed   int64          // rows erased or changed
	Looked    int64          // rows looked at
	Remains   map[string]int // where the address is found and stays, by table and column

	store    *Store
	position []any
	kept     time.Time // when this was last written down
	columns  map[string][]string

	spellings, place, remains string // as JSON
}

// erasureRow are the columns of an erasure.
var erasureRow = db.Columns[Erasure]{
	db.Text("id", func(r *Erasure) *string { return &r.ID }),
	db.Text("mailbox", func(r *Erasure) *string { return &r.Mailbox }),
	db.Text("spellings", func(r *Erasure) *string { return &r.spellings }),
	db.Time("began", func(r *Erasure) *time.Time { return &r.Began }),
	db.Number("stage", func(r *Erasure) *int { return &r.Stage }),
	db.Text("position", func(r *Erasure) *string { return &r.place }),
	db.Count("changed", func(r *Erasure) *int64 { return &r.Changed }),
	db.Count("looked", func(r *Erasure) *int64 { return &r.Looked }),
	db.Text("remains", func(r *Erasure) *string { return &r.remains }),
}

var (
	newErasure     = erasureRow.Insert("erasure", db.Values{})
	insertErasure  = db.Q(newErasure.Alone())
	selectErasures = db.Q(`SELECT ` + erasureRow.Names() + ` FROM @erasure ORDER BY began, id`)
	countErasures  = db.Q(`SELECT COUNT(*) FROM @erasure`)
	keepErasure    = db.Q(`UPDATE @erasure SET stage = ?, position = ?, changed = ?, looked = ?, remains = ?
		WHERE id = ?`)
	touchErasure  = db.Q(`UPDATE @erasure SET stage = stage WHERE id = ?`)
	deleteErasure = db.Q(`DELETE FROM @erasure WHERE id = ?`)

	spellings = db.Q(`SELECT address FROM @address WHERE mailbox = ? UNION SELECT address FROM @challenge
		WHERE mailbox = ? UNION SELECT old_address FROM @change WHERE old_mailbox = ? UNION SELECT new_address
		FROM @change WHERE new_mailbox = ?`)
)

// Erase begins to erase a mailbox, or goes on with what was begun and not ended. typed is how it was given.
func (s *Store) Erase(ctx context.Context, mailbox, typed string, now time.Time) (*Erasure, error) {
	all, err := s.Erasures(ctx)
	if err != nil {
		return nil, err
	}
	for _, e := range all {
		if e.Mailbox == mailbox && slices.Contains(e.Spellings, lower(typed)) {
			return e, nil
		}
	}
	found, err := db.All(ctx, s, db.Scalar[string], spellings, mailbox, mailbox, mailbox, mailbox)
	if err != nil {
		return nil, err
	}
	for i, one := range found {
		found[i] = lower(one)
	}
	found = append(found, lower(mailbox), lower(typed))
	for _, one := range found { // as JSON has it
		found = append(found, strings.ReplaceAll(one, "&", `\u0026`))
	}
	slices.Sort(found)
	e := &Erasure{ID: uuid.Must(uuid.NewV7()).String(), Mailbox: mailbox, Spellings: slices.Compact(found), Began: now,
		Remains: make(map[string]int), store: s}
	if err := e.marshal(); err != nil {
		return nil, err
	}
	_, err = s.Exec(ctx, insertErasure, newErasure.Args(*e)...)
	return e, err
}

// Erasures returns those that have not ended, the oldest first.
func (s *Store) Erasures(ctx context.Context) ([]*Erasure, error) {
	all, err := db.All(ctx, s, erasureRow.Scan, selectErasures)
	if err != nil {
		return nil, err
	}
	found := make([]*Erasure, len(all))
	for i := range all {
		e := &all[i]
		e.store, found[i] = s, e
		numbers := json.NewDecoder(strings.NewReader(e.place))
		numbers.UseNumber()
		if err := errors.Join(json.Unmarshal([]byte(e.spellings), &e.Spellings), numbers.Decode(&e.position),
			json.Unmarshal([]byte(e.remains), &e.Remains)); err != nil {
			return nil, err
		}
		for k, v := range e.position {
			if n, ok := v.(json.Number); ok {
				if e.position[k], err = n.Int64(); err != nil {
					return nil, err
				}
			}
		}
	}
	return found, nil
}

// CountErasures returns how many erasures have not ended.
func (s *Store) CountErasures(ctx context.Context) (int, error) {
	return db.One(ctx, s, db.Scalar[int], countErasures)
}

func (e *Erasure) marshal() error {
	for to, v := range map[*string]any{&e.spellings: e.Spellings, &e.place: e.position, &e.remains: e.Remains} {
		raw, err := json.Marshal(v)
		if err != nil {
			return err
		}
		*to = string(raw)
	}
	return nil
}

// Stages is how many steps an erasure has: those about the mailbox alone, and a table each.
func (e *Erasure) Stages() int { return len(stages) }

// Step does the next piece, and reports whether that was the last. The error may be [ErrUnderWay].
func (e *Erasure) Step(ctx context.Context) (done bool, err error) {
	if e.Stage < len(stages) {
		more, err := stages[e.Stage](ctx, e)
		if err != nil {
			return false, err
		}
		if more {
			return false, e.keep(ctx, time.Second)
		}
		e.Stage, e.position = e.Stage+1, nil
		if e.Stage < len(stages) {
			return false, e.keep(ctx, time.Second)
		}
	}
	_, err = e.store.Exec(ctx, deleteErasure, e.ID)
	return err == nil, err
}

// keep writes down what is done, if that was not done for a while. What is lost of it is looked at once more.
func (e *Erasure) keep(ctx context.Context, every time.Duration) error {
	if time.Since(e.kept) < every {
		return nil
	}
	if err := e.marshal(); err != nil {
		return err
	}
	e.kept = time.Now()
	return e.store.WriteRelaxed(ctx, func(t Tx) error {
		_, err := t.Exec(ctx, keepErasure, e.Stage, e.place, e.Changed, e.Looked, e.remains, e.ID)
		return err
	})
}

// A stage is a step of an erasure, and reports whether it has more to do.
type stage func(ctx context.Context, e *Erasure) (more bool, err error)

// Lists come before what they become, and what is on its way before and after what has ended, as rows go both ways.
var stages = slices.Concat([]stage{removeHistory, removeOwn}, walks(lists), []stage{removeLate}, walks(tables))

var (
	historyOf = db.Q(`SELECT id FROM @ended WHERE LOWER(address) @listed() LIMIT 200`)
	history   = []string{
		db.Q(`DELETE FROM @feedback WHERE delivery @listed() AND delivery <> ''`),
		db.Q(`DELETE FROM @attempt WHERE delivery @listed()`),
		db.Q(`DELETE FROM @item WHERE delivery @listed()`),
		db.Q(`DELETE FROM @ended WHERE id @listed()`),
	}
	trailOf = db.Q(`DELETE FROM @trail WHERE seq @in(SELECT seq FROM @trail WHERE mailbox @listed() LIMIT 500)`)
)

// removeHistory removes letters that have ended, with what belongs to them, and the trail.
func removeHistory(ctx context.Context, e *Erasure) (more bool, err error) {
	all := db.List(e.Spellings)
	n, err := e.write(ctx, func(t Tx) (int64, error) { return t.removeHistory(ctx, all) })
	if err != nil || n > 0 {
		return n > 0, err
	}
	n, err = e.write(ctx, func(t Tx) (int64, error) { return t.Exec(ctx, trailOf, all) })
	return n > 0, err
}

// removeHistory removes some letters that have ended, to the mailbox in one of its spellings.
func (t Tx) removeHistory(ctx context.Context, spellings string) (int64, error) {
	ids, err := db.All(ctx, t, db.Scalar[string], historyOf, spellings)
	if err != nil || len(ids) == 0 {
		return 0, err
	}
	return t.execAll(ctx, history, db.List(ids))
}

var (
	underWay = db.Q(`SELECT EXISTS (SELECT 1 FROM @delivery WHERE LOWER(address) @listed() AND state = 'claimed'
		AND EXISTS (SELECT 1 FROM @attempt a WHERE a.delivery = illumicode_delivery.id
			AND a.claim = illumicode_delivery.claim AND a.ended = 0))`)
	forgetFailures = db.Q(`DELETE FROM @failure WHERE name = ?`)

	// What is about a mailbox alone goes, in the order of locks.
	forgetRows = []string{
		db.Q(`DELETE FROM @feedback WHERE delivery <> ''
			AND delivery @in(SELECT id FROM @delivery WHERE LOWER(address) @listed())`),
		db.Q(`DELETE FROM @feedback WHERE mailbox @listed() AND mailbox <> ''`),
		db.Q(`DELETE FROM @challenge WHERE mailbox @listed()`),
		db.Q(`DELETE FROM @browser WHERE mailbox @listed()`),
		db.Q(`DELETE FROM @change WHERE old_mailbox @listed()`),
		db.Q(`DELETE FROM @change WHERE new_mailbox @listed()`),
		db.Q(`DELETE FROM @holder WHERE mailbox @listed()`),
		db.Q(`DELETE FROM @address WHERE mailbox @listed()`),
		db.Q(`DELETE FROM @trail WHERE mailbox @listed()`),
		db.Q(`UPDATE @suppression SET mailbox = '' WHERE mailbox @listed() AND mailbox <> ''`),
		db.Q(`DELETE FROM @preference WHERE mailbox @listed()`),
	}
	forgetLetters = []string{
		db.Q(`DELETE FROM @attempt WHERE delivery @in(SELECT id FROM @delivery WHERE LOWER(address) @listed())`),
		db.Q(`DELETE FROM @item WHERE delivery @in(SELECT id FROM @delivery WHERE LOWER(address) @listed())`),
		db.Q(`DELETE FROM @delivery WHERE LOWER(address) @listed()`),
		db.Q(`UPDATE @delivery SET fallback = '' WHERE LOWER(fallback) @listed() AND fallback <> ''`),
	}
)

// notUnderWay returns [ErrUnderWay] if an attempt at a letter to one of some spellings is under way.
func (t Tx) notUnderWay(ctx context.Context, spellings string) error {
	busy, err := db.One(ctx, t, db.Scalar[bool], underWay, spellings)
	if err == nil && busy {
		err = ErrUnderWay
	}
	return err
}

// removeOwn removes everything else that is about the mailbox alone, in one transaction, so that nothing that begins
// meanwhile is removed by half. A letter that is claimed and not begun is taken from its worker.
func removeOwn(ctx context.Context, e *Erasure) (more bool, err error) {
	_, err = e.write(ctx, func(t Tx) (int64, error) {
		all := db.List(e.Spellings)
		total, err := t.Exec(ctx, forgetFailures, "address:"+e.Mailbox)
		if err != nil {
			return 0, err
		}
		if err := t.notUnderWay(ctx, all); err != nil {
			return 0, err
		}
		for _, some := range [][]string{forgetRows, forgetLetters} {
			n, err := t.execAll(ctx, some, all)
			if total += n; err != nil {
				return 0, err
			}
		}
		n, err := t.removeHistory(ctx, all) // what has ended since
		return total + n, err
	})
	return false, err
}

var lateLetters = db.Q(`SELECT id FROM @delivery WHERE LOWER(address) @listed() AND created <= ?
	UNION SELECT id FROM @ended WHERE LOWER(address) @listed() AND created <= ?`)

// removeLate removes letters that a list has become meanwhile.
func removeLate(ctx context.Context, e *Erasure) (more bool, err error) {
	_, err = e.write(ctx, func(t Tx) (int64, error) {
		all, at := db.List(e.Spellings), db.Millis(e.Began)
		ids, err := db.All(ctx, t, db.Scalar[string], lateLetters, all, at, all, at)
		if err != nil || len(ids) == 0 {
			return 0, err
		}
		if err := t.notUnderWay(ctx, all); err != nil {
			return 0, err
		}
		return t.execAll(ctx, slices.Concat(history, []string{deleteDeliveries}), db.List(ids))
	})
	return false, err
}

var deleteDeliveries = db.Q(`DELETE FROM @delivery WHERE id @listed()`)

// write runs fn in a transaction that begins with a write, as SQLite wants it, and counts what it changed.
func (e *Erasure) write(ctx context.Context, fn func(Tx) (int64, error)) (n int64, err error) {
	err = e.store.Write(ctx, func(t Tx) error {
		if _, err := t.Exec(ctx, touchErasure, e.ID); err != nil {
			return err
		}
		if err := t.ByIndex(ctx); err != nil { // also in a table that has just grown
			return err
		}
		n, err = fn(t)
		return err
	})
	if err != nil {
		return 0, err
	}
	e.Changed += n
	return n, nil
}

// execAll runs statements with the same argument, and returns how many rows they changed.
func (t Tx) execAll(ctx context.Context, all []string, arg any) (total int64, err error) {
	for _, text := range all {
		n, err := t.Exec(ctx, text, arg)
		if total += n; err != nil {
			return total, err
		}
	}
	return total, nil
}

var akin = db.Q(`WITH own AS (SELECT subject FROM @address WHERE mailbox = ? AND standing <> 'unconfirmed'
	AND subject <> '') SELECT DISTINCT address FROM ( SELECT address, mailbox FROM @address
	WHERE subject IN (SELECT subject FROM own) UNION SELECT address, mailbox FROM @challenge
	WHERE subject IN (SELECT subject FROM own) UNION SELECT old_address, old_mailbox FROM @change
	WHERE subject IN (SELECT subject FROM own) UNION SELECT new_address, new_mailbox FROM @change
	WHERE subject IN (SELECT subject FROM own)) AS known WHERE mailbox <> ? ORDER BY address`)

// Akin returns the other addresses that the subjects who have a mailbox as theirs have or had, sorted: those
// of the same person, and those that the person asked to have. Accounts that only claim it do not count.
func (s *Store) Akin(ctx context.Context, mailbox string) ([]string, error) {
	return db.All(ctx, s, db.Scalar[string], akin, mailbox, mailbox)
}

// lower makes ASCII letters small, as LOWER does on every database, and keeps every position.
func lower(s string) string {
	b := []byte(s)
	for i, c := range b {
		if 'A' <= c && c <= 'Z' {
			b[i] += 'a' - 'A'
		}
	}
	return string(b)
}

var _ = db.Hot(map[string]string{
	"letters of an erasure": historyOf, "trail of an erasure": trailOf, "is a letter under way": underWay,
	"late letters of an erasure": lateLetters, "fallbacks of an erasure": forgetLetters[3],
	"changes of an erasure": forgetRows[5], "suppressions of an erasure": forgetRows[9],
	"feedback of an erasure": forgetRows[0], "attempts of an erasure": forgetLetters[0],
})
