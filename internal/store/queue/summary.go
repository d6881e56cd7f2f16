package queue

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/illumicode/illumicode/internal/store/db"
)

// A Load is what one lane holds in one state.
type Load struct {
	Lane   Lane
	State  State // Held, Waiting or Claimed
	Count  int
	Oldest time.Time // due of the oldest; zero if none is
}

var countLoad = db.Q(`SELECT lane, state, COUNT(*), MIN(due) FROM @delivery GROUP BY lane, state`)

// anyBeside asks whether lists or events wait to become deliveries.
var anyBeside = db.Q(`SELECT ` + anyPublished + ` OR EXISTS (SELECT 1 FROM @event)`)

// Loads counts what is on its way. It reads the table that is worked on, and not what has ended.
func (s Rows) Loads(ctx context.Context) ([]Load, error) {
	return db.All(ctx, s, func(r db.Scanner) (l Load, err error) {
		var oldest int64
		err = r.Scan(&l.Lane, &l.State, &l.Count, &oldest)
		l.Oldest = db.Instant(oldest)
		return l, err
	}, countLoad)
}

// What was never tried, has no note and is due later is not put off, but asked for later.
var anyLeft = db.Q(`SELECT EXISTS (SELECT 1 FROM @delivery WHERE state IN ('waiting', 'claimed')
	AND NOT (state = 'waiting' AND attempts = 0 AND note = '' AND due > ?))
	OR ` + anyPublished + ` OR EXISTS (SELECT 1 FROM @event)`)

// Left reports whether anything is left for workers to do, but for letters that were asked for at a time after soon.
func (s Rows) Left(ctx context.Context, soon time.Time) (bool, error) {
	return db.One(ctx, s, db.Scalar[bool], anyLeft, db.Millis(soon))
}

func scanCount(r db.Scanner) (l Load, err error) { return l, r.Scan(&l.State, &l.Count) }

// A Summary is the outbox at a glance.
type Summary struct {
	Count     map[State]int
	Loads     []Load
	OldestDue time.Time // of what waits, is due and is in no paused lane; zero if nothing is
	Beside    bool      // lists or events wait to become deliveries
	LastSeen  time.Time // of any worker; zero if there was none for a day
	Repeats   int       // attempts that followed an ambiguous one of the same delivery
	Lists     int       // notices to many that are not expanded yet
	Events    int       // that wait for their rules
	Aside     int       // events that were set aside
	Pauses    []Pause
	Recalls   []Recall // that hold
	Site      string   // the base URL this database sends for; empty before the first worker
}

var (
	countEnded = db.Q(`SELECT state, COUNT(*) FROM @ended GROUP BY state`)
	firstDue   = db.Q(`SELECT COALESCE(MIN(due), 0) FROM (` + strings.Join(firstOfLanes(), ` UNION ALL `) +
		`) AS lanes`)
	lastSeen    = db.Q(`SELECT COALESCE(MAX(seen), 0) FROM @worker`)
	countRepeat = db.Q(`SELECT COUNT(*) FROM @attempt a JOIN @attempt b
		ON b.delivery = a.delivery AND b.number = a.number + 1 WHERE a.class = 'ambiguous' AND a.provider <> ''`)
	countLists = db.Q(`SELECT COUNT(*) FROM @fanout`)
	countAside = db.Q(`SELECT COUNT(*) FROM @event_aside`)
)

// firstOfLanes returns a query for each lane: its first due is the first of an index.
func firstOfLanes() (all []string) {
	for _, l := range Lanes {
		all = append(all, `SELECT MIN(due) AS due FROM @delivery
			WHERE state = 'waiting' AND lane = '`+string(l)+`' AND due <= ? AND NOT EXISTS
			(SELECT 1 FROM @pause WHERE kind = 'lane' AND name = '`+string(l)+`')`)
	}
	return all
}

// work reads what waits for workers, and when one was last seen.
func (s Rows) work(ctx context.Context, sum *Summary, now time.Time) error {
	due, err := db.One(ctx, s, db.Scalar[int64], firstDue, slices.Repeat([]any{db.Millis(now)}, len(Lanes))...)
	if err != nil {
		return err
	}
	if sum.Beside, err = db.One(ctx, s, db.Scalar[bool], anyBeside); err != nil {
		return err
	}
	last, err := db.One(ctx, s, db.Scalar[int64], lastSeen)
	sum.OldestDue, sum.LastSeen = db.Instant(due), db.Instant(last)
	return err
}

// Summary counts the outbox at now. It reads everything, and is for people.
func (s Rows) Summary(ctx context.Context, now time.Time) (Summary, error) {
	sum := Summary{Count: make(map[State]int)}
	var err error
	if sum.Loads, err = s.Loads(ctx); err != nil {
		return Summary{}, err
	}
	for _, l := range sum.Loads {
		sum.Count[l.State] += l.Count
	}
	ended, err := db.All(ctx, s, scanCount, countEnded)
	if err != nil {
		return Summary{}, err
	}
	for _, l := range ended {
		sum.Count[l.State] += l.Count
	}
	for _, n := range []struct {
		to   *int
		text string
	}{{&sum.Repeats, countRepeat}, {&sum.Lists, countLists}, {&sum.Events, countEvents}, {&sum.Aside, countAside}} {
		if *n.to, err = db.One(ctx, s, db.Scalar[int], n.text); err != nil {
			return Summary{}, err
		}
	}
	if err = s.work(ctx, &sum, now); err != nil {
		return Summary{}, err
	}
	if sum.Pauses, err = s.Pauses(ctx); err != nil {
		return Summary{}, err
	}
	if sum.Recalls, err = s.Recalls(ctx); err != nil {
		return Summary{}, err
	}
	sum.Site, err = s.Setting(ctx, SettingSite)
	return sum, err
}

// Idle is how long letters may wait without any worker before every surface says so.
const Idle = time.Minute

// NobodyWorks is [Summary.NobodyWorks] without counting anything.
func (s Rows) NobodyWorks(ctx context.Context, now time.Time) (bool, error) {
	var sum Summary
	err := s.work(ctx, &sum, now)
	return err == nil && sum.NobodyWorks(now), err
}

// NobodyWorks reports whether letters have been due for [Idle], or lists or events wait, and no worker was seen for as
// long.
func (s Summary) NobodyWorks(now time.Time) bool {
	due := !s.OldestDue.IsZero() && now.Sub(s.OldestDue) >= Idle
	return (due || s.Beside) && now.Sub(s.LastSeen) >= Idle
}
