package queue

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"github.com/illumicode/illumicode/internal/store/db"
)

// A Recall keeps what it chooses from being claimed and begun, on every machine: the row. It takes later requests of
// the same choice too, lists that are not expanded yet, and fallbacks.
type Recall struct {
	ID     string
	Choice Filter // by ID, Lane, Letter, Address, Key, Subject and times alone
	Why    string
	Made   time.Time
	Ended  time.Time // zero while it holds
}

// recallRow are the columns of a recall.
var recallRow = db.Columns[Recall]{
	db.Text("id", func(r *Recall) *string { return &r.ID }),
	db.Text("delivery", func(r *Recall) *string { return &r.Choice.ID }),
	db.Text("lane", func(r *Recall) *Lane { return &r.Choice.Lane }),
	db.Text("letter", func(r *Recall) *string { return &r.Choice.Letter }),
	db.Text("address", func(r *Recall) *string { return &r.Choice.Address }),
	db.Text("app_key", func(r *Recall) *string { return &r.Choice.Key }),
	db.Text("subject", func(r *Recall) *string { return &r.Choice.Subject }),
	db.Time("since", func(r *Recall) *time.Time { return &r.Choice.CreatedAfter }),
	db.Time("until", func(r *Recall) *time.Time { return &r.Choice.CreatedBefore }),
	db.Text("why", func(r *Recall) *string { return &r.Why }),
	db.Time("made", func(r *Recall) *time.Time { return &r.Made }),
	db.Time("ended", func(r *Recall) *time.Time { return &r.Ended }),
}

// HeldBy is what a delivery is held by while the recall holds.
func (r Recall) HeldBy() string { return "recall " + r.ID }

// recalls returns the condition that a recall which holds chooses a delivery of the table that of names.
func recalls(of string) string {
	same := func(column string) string {
		return ` AND (rc.` + column + ` = '' OR rc.` + column + ` = ` + of + `.` + column + `)`
	}
	return `rc.ended = 0 AND (rc.delivery = '' OR rc.delivery = ` + of + `.id)` + same("lane") + same("letter") +
		same("address") + same("app_key") + same("subject") + ` AND ` + of + `.created >= rc.since
		AND (rc.until = 0 OR ` + of + `.created < rc.until) AND NOT EXISTS (SELECT 1 FROM @recall_pass rp
			WHERE rp.recall = rc.id AND rp.delivery = ` + of + `.id)`
}

// free is the condition that no recall keeps a delivery of the table that of names. It counts, as planners would make a
// join of what only asks whether there is one, and read the deliveries in another order for it.
func free(of string) string { return `(SELECT COUNT(*) FROM @recall rc WHERE ` + recalls(of) + `) = 0` }

// begunNow is the condition that the attempt of a delivery's claim is under way.
const begunNow = `EXISTS (SELECT 1 FROM @attempt ba WHERE ba.delivery = illumicode_delivery.id
	AND ba.claim = illumicode_delivery.claim AND ba.ended = 0)`

var recalledText = strconv.Itoa(recalledVersion)

var (
	newRecall     = recallRow.Insert("recall", db.Values{})
	insertRecall  = db.Q(newRecall.Alone())
	selectRecall  = db.Q(`SELECT ` + recallRow.Names() + ` FROM @recall WHERE id = ?`)
	selectRecalls = db.Q(`SELECT ` + recallRow.Names() + ` FROM @recall WHERE ended = 0 ORDER BY made, id`)
	endRecall     = db.Q(`UPDATE @recall SET ended = ? WHERE id = ? AND ended = 0`)
	passRecall    = db.Q(`INSERT INTO @recall_pass (recall, delivery) SELECT CAST(? AS TEXT), id FROM @delivery
		WHERE id @listed() ON CONFLICT (recall, delivery) DO NOTHING`)
	anyRecall = db.Q(`SELECT EXISTS (SELECT 1 FROM @recall WHERE ended = 0)`)

	onTheWay = db.Q(`SELECT id FROM @delivery WHERE id > ? ORDER BY id LIMIT 2000`)
	// What is claimed and not begun is taken from its worker. Both statements look: the first waits for begins that
	// are being committed, the second sees them.
	lockRecalled = db.Q(`SELECT id FROM @delivery WHERE id > ? AND id <= ? AND state IN ('waiting', 'claimed')
		AND NOT ` + free("illumicode_delivery") + ` ORDER BY id @lock(illumicode_delivery)`)
	lockDue = db.Q(`SELECT id FROM @delivery WHERE state = 'waiting' AND lane = ? AND due <= ? AND NOT ` +
		free("illumicode_delivery") + ` ORDER BY due, id LIMIT 500 @free()`)
	holdRecalled = db.Q(`UPDATE @delivery SET state = 'held', worker = '', claim = claim + 1,
		version = CASE WHEN version > ` + recalledText + ` THEN version ELSE ` + recalledText + ` END,
		free = CASE WHEN free > 0 THEN free - CAST(? AS BIGINT) ELSE free END, ` + joined + `,
		held_by = (SELECT COALESCE('recall ' || MIN(rc.id), 'a recall that has ended') FROM @recall rc
			WHERE ` + recalls("illumicode_delivery") + `),
		note = 'recalled'
		WHERE id @listed() AND state IN ('waiting', 'claimed') AND NOT ` + begunNow)
	releaseRecalled = db.Q(`UPDATE @delivery SET state = 'waiting', held_by = '', note = ''
		WHERE id @listed() AND state = 'held'`)
)

// ErrRecall is a recall that cannot be.
var ErrRecall = errors.New("store: this cannot be recalled")

// Check says what is wrong with the choice of a recall.
func (r Recall) Check() error {
	c := r.Choice
	switch {
	case c.None():
		return fmt.Errorf("%w: it would take everything; to stop all, pause the lanes", ErrRecall)
	case c.State != "" || c.HeldBy != "" || c.Provider != "":
		return fmt.Errorf("%w: a recall also takes what is asked for later, so it chooses by letter, lane, address, "+
			"key, subject and time, and not by state, by what holds it or by provider", ErrRecall)
	}
	return nil
}

// Recall makes a recall hold. When it has returned nothing is begun any more that the recall chooses, by workers of
// this version. What is on its way is marked as held by [Rows.HoldRecalled], and by workers when it is due.
func (s Rows) Recall(ctx context.Context, r Recall) error {
	if err := r.Check(); err != nil {
		return err
	}
	return s.Write(ctx, func(t Tx) error {
		if err := t.Alone(ctx); err != nil {
			return err
		}
		_, err := t.Exec(ctx, insertRecall, newRecall.Args(r)...)
		return err
	})
}

// TakeBack makes a recall hold, and returns it with its ID.
func (s Rows) TakeBack(ctx context.Context, choice Filter, why string, now time.Time) (Recall, error) {
	var unique [3]byte
	rand.Read(unique[:])
	r := Recall{ID: now.UTC().Format(time.DateOnly) + "-" + hex.EncodeToString(unique[:]), Choice: choice, Why: why,
		Made: now}
	return r, s.Recall(ctx, r)
}

// EndReleasing ends a recall and lets go what it holds; called again it goes on where it failed. It returns how many
// deliveries that were.
func (s Rows) EndReleasing(ctx context.Context, r Recall, now time.Time) (int64, error) {
	if err := s.EndRecall(ctx, r.ID, now); err != nil {
		return 0, err
	}
	r.Ended = now
	return s.ReleaseRecalled(ctx, r, Filter{})
}

// EndCancelling cancels what a recall chooses and has not begun, lists that are not expanded included, and ends the
// recall; called again it goes on where it failed. It returns how many deliveries and lists that were.
func (s Rows) EndCancelling(ctx context.Context, r Recall, now time.Time) (total int64, err error) {
	if r.Ended.IsZero() {
		err := s.Write(ctx, func(t Tx) (err error) { total, err = t.cancelLists(ctx, r.Choice); return err })
		if err != nil {
			return 0, err
		}
		if _, err := s.HoldRecalled(ctx, now, 0); err != nil {
			return total, err
		}
	}
	n, err := s.Cancel(ctx, Filter{HeldBy: r.HeldBy()}, "recalled: "+r.Why, now)
	if total += n; err != nil {
		return total, err
	}
	return total, s.EndRecall(ctx, r.ID, now)
}

// Arrivals counts what a recall chooses by whether its recipients have it, and the lists that are not expanded yet.
func (s Rows) Arrivals(ctx context.Context, r Recall) (count map[Arrival]int, lists int, err error) {
	where, args := r.Choice.where()
	groups, err := db.All(ctx, s, func(row db.Scanner) (g struct {
		how Arrival
		n   int
	}, err error) {
		return g, row.Scan(&g.how, &g.n)
	}, `SELECT CASE WHEN state = 'sent' THEN '`+string(Arrived)+`'
		WHEN state = 'unknown' OR (attempts > 0 OR state = 'claimed') AND EXISTS (SELECT 1 FROM @attempt a
			WHERE a.delivery = o.id AND (a.ended = 0 OR a.class = 'ambiguous')) THEN '`+string(ArrivedPerhaps)+`'
		ELSE '`+string(NotArrived)+`' END AS how, COUNT(*) FROM @outbox o WHERE `+where+` GROUP BY how`, args...)
	if err != nil {
		return nil, 0, err
	}
	count = make(map[Arrival]int)
	for _, g := range groups {
		count[g.how] = g.n
	}
	lists, err = s.listsOf(ctx, r)
	return count, lists, err
}

// HoldRecalled marks as held what recalls choose of all that is on its way, in pieces and for no longer than a while; 0
// is as long as it takes. It returns how much that was. What has begun stays with its worker.
func (s Rows) HoldRecalled(ctx context.Context, now time.Time, atMost time.Duration) (held int64, err error) {
	began := time.Now()
	for after := ""; atMost == 0 || time.Since(began) < atMost; {
		keys, err := db.All(ctx, s, db.Scalar[string], onTheWay, after)
		if err != nil || len(keys) == 0 {
			return held, err
		}
		last := keys[len(keys)-1]
		n, err := s.holdSome(ctx, now, lockRecalled, after, last)
		if held += n; err != nil {
			return held, err
		}
		after = last
	}
	return held, nil
}

// HoldDue does the same for what is due and waits, for no longer than a while.
func (s Rows) HoldDue(ctx context.Context, now time.Time, atMost time.Duration) (held int64, err error) {
	any, err := db.One(ctx, s, db.Scalar[bool], anyRecall)
	if err != nil || !any {
		return 0, err
	}
	began := time.Now()
	for _, lane := range Lanes {
		for n := int64(1); n > 0 && time.Since(began) < atMost; held += n {
			if n, err = s.holdSome(ctx, now, lockDue, string(lane), db.Millis(now)); err != nil {
				return held, err
			}
		}
	}
	return held, nil
}

func (s Rows) holdSome(ctx context.Context, now time.Time, lock string, args ...any) (held int64, err error) {
	err = s.Write(ctx, func(t Tx) error {
		if _, err := t.Exec(ctx, releaseRecalled, "[]"); err != nil { // a write first, as SQLite wants it
			return err
		}
		ids, err := db.All(ctx, t, db.Scalar[string], lock, args...)
		if err != nil || len(ids) == 0 {
			return err
		}
		held, err = t.Exec(ctx, holdRecalled, db.Millis(now), db.List(ids))
		return err
	})
	return held, err
}

// Recalls returns the recalls that hold, the oldest first.
func (s Rows) Recalls(ctx context.Context) ([]Recall, error) {
	return db.All(ctx, s, recallRow.Scan, selectRecalls)
}

// RecallOf returns a recall, ended or not. [db.ErrNotFound] means that there is none.
func (s Rows) RecallOf(ctx context.Context, id string) (Recall, error) {
	return db.One(ctx, s, recallRow.Scan, selectRecall, id)
}

// EndRecall ends a recall, if it holds: what it holds stays so until it is released or cancelled.
func (s Rows) EndRecall(ctx context.Context, id string, now time.Time) error {
	_, err := s.Exec(ctx, endRecall, db.Millis(now), id)
	return err
}

// ReleaseRecalled lets some of what a recall holds go, while the recall goes on for the others or after it has ended,
// in pieces, and returns how many deliveries that were.
func (s Rows) ReleaseRecalled(ctx context.Context, r Recall, which Filter) (int64, error) {
	which.HeldBy, which.State = r.HeldBy(), Held
	where, args := which.where()
	return s.Steps(ctx, func(t db.Tx) (int64, error) {
		if _, err := t.Exec(ctx, releaseRecalled, "[]"); err != nil { // a write first, as SQLite wants it
			return 0, err
		}
		ids, err := db.All(ctx, t, db.Scalar[string], chosen(where), args...)
		if err != nil || len(ids) == 0 {
			return 0, err
		}
		all := db.List(ids)
		if r.Ended.IsZero() {
			if _, err := t.Exec(ctx, passRecall, r.ID, all); err != nil {
				return 0, err
			}
		}
		return t.Exec(ctx, releaseRecalled, all)
	})
}

// An Arrival says whether somebody has a letter that was recalled.
type Arrival string

// The arrivals.
const (
	Arrived        Arrival = "has it"
	ArrivedPerhaps Arrival = "may have it" // an attempt is under way, or ended without an answer
	NotArrived     Arrival = "will not"    // unless the recall is ended or the letter released
)

// A Recalled is a delivery that a recall chooses, and whether its recipient has it.
type Recalled struct {
	Delivery
	Arrival Arrival
}

var perhapsSent = db.Q(`SELECT DISTINCT delivery FROM @attempt
	WHERE delivery @listed() AND (ended = 0 OR class = 'ambiguous')`)

// EachRecalled calls fn for every delivery that a recall chooses, the newest first, reading pages of a thousand.
func (s Rows) EachRecalled(ctx context.Context, r Recall, fn func(Recalled) error) error {
	for before := ""; ; {
		page, err := s.List(ctx, r.Choice, before, 1000)
		if err != nil || len(page) == 0 {
			return err
		}
		ids := make([]string, len(page))
		for i, d := range page {
			ids[i] = d.ID
		}
		perhaps, err := db.All(ctx, s, db.Scalar[string], perhapsSent, db.List(ids))
		if err != nil {
			return err
		}
		for _, d := range page {
			if err := fn(Recalled{d, arrivalOf(d, slices.Contains(perhaps, d.ID))}); err != nil {
				return err
			}
		}
		before = page[len(page)-1].ID
	}
}

func arrivalOf(d Delivery, perhaps bool) Arrival {
	switch {
	case d.State == Sent:
		return Arrived
	case perhaps || d.State == Unknown || d.State == Claimed: // what was claimed and not begun is held by now
		return ArrivedPerhaps
	}
	return NotArrived
}

// listsOf counts the lists that are not expanded yet and that a recall chooses.
func (s Rows) listsOf(ctx context.Context, r Recall) (int, error) {
	f := r.Choice
	if f.ID != "" || f.Address != "" || f.Subject != "" {
		return 0, nil
	}
	where, args := f.where()
	return db.One(ctx, s, db.Scalar[int], `SELECT COUNT(*) FROM @fanout WHERE `+where, args...)
}

// AnyList reports whether a list that a filter chooses is not expanded yet.
func (s Rows) AnyList(ctx context.Context, f Filter) (bool, error) {
	n, err := s.listsOf(ctx, Recall{Choice: f})
	return n > 0, err
}

// Keeps reports whether a recall keeps a letter of this name, in this lane and under this key, that is asked for at
// now.
func (r Recall) Keeps(letter, key string, lane Lane, now time.Time) bool {
	c := r.Choice
	return r.Ended.IsZero() && (c.Letter == "" || c.Letter == letter) && (c.Key == "" || c.Key == key) &&
		(c.Lane == "" || c.Lane == lane) && c.ID == "" && (c.CreatedBefore.IsZero() || now.Before(c.CreatedBefore))
}
