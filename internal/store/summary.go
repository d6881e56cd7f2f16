package store

import (
	"context"
	"time"
)

// A Load is what one lane holds in one state.
type Load struct {
	Lane   Lane
	State  State // Held, Waiting or Claimed
	Count  int
	Oldest time.Time // due of the oldest; zero if none is
}

var countLoad = q(`SELECT lane, state, COUNT(*), MIN(due) FROM illumicode_delivery GROUP BY lane, state`)

// Loads counts what is on its way. It reads the table that is worked on, and not what has ended.
func (s *Store) Loads(ctx context.Context) ([]Load, error) {
	rows, err := s.query(ctx, countLoad)
	return collect(s, rows, err, func(r scanner) (l Load, err error) {
		var oldest int64
		err = r.Scan(&l.Lane, &l.State, &l.Count, &oldest)
		l.Oldest = instant(oldest)
		return l, err
	})
}

var anyLeft = q(`SELECT EXISTS (SELECT 1 FROM illumicode_delivery WHERE state IN ('waiting', 'claimed'))
	OR EXISTS (SELECT 1 FROM illumicode_fanout_piece) OR EXISTS (SELECT 1 FROM illumicode_event)`)

// Left reports whether anything is left for workers to do, now or later.
func (s *Store) Left(ctx context.Context) (bool, error) {
	rows, err := s.query(ctx, anyLeft)
	return one(s, rows, err, func(r scanner) (left bool, err error) { return left, r.Scan(&left) })
}

// A Summary is the outbox at a glance.
type Summary struct {
	Count     map[State]int
	Loads     []Load
	OldestDue time.Time // of what waits and is due; zero if nothing is
	LastSeen  time.Time // of any worker; zero if there was none for a day
	Repeats   int       // attempts that followed an ambiguous one of the same delivery
	Lists     int       // notices to many that are not expanded yet
	Aside     int       // events that were set aside
	Pauses    []Pause
	Site      string // the base URL this database sends for; empty before the first worker
}

var (
	countEnded  = q(`SELECT state, COUNT(*) FROM illumicode_ended GROUP BY state`)
	oldestDue   = q(`SELECT COALESCE(MIN(due), 0) FROM illumicode_delivery WHERE state = 'waiting' AND due <= ?`)
	lastSeen    = q(`SELECT COALESCE(MAX(seen), 0) FROM illumicode_worker`)
	countRepeat = q(`SELECT COUNT(*) FROM illumicode_attempt a JOIN illumicode_attempt b
		ON b.delivery = a.delivery AND b.number = a.number + 1 WHERE a.class = 'ambiguous'`)
	countLists = q(`SELECT COUNT(*) FROM illumicode_fanout`)
	countAside = q(`SELECT COUNT(*) FROM illumicode_event_aside`)
)

// Summary counts the outbox at now. It reads everything, and is for people.
func (s *Store) Summary(ctx context.Context, now time.Time) (Summary, error) {
	sum := Summary{Count: make(map[State]int)}
	var err error
	if sum.Loads, err = s.Loads(ctx); err != nil {
		return Summary{}, err
	}
	for _, l := range sum.Loads {
		sum.Count[l.State] += l.Count
	}
	rows, err := s.query(ctx, countEnded)
	ended, err := collect(s, rows, err, func(r scanner) (l Load, err error) { return l, r.Scan(&l.State, &l.Count) })
	if err != nil {
		return Summary{}, err
	}
	for _, l := range ended {
		sum.Count[l.State] += l.Count
	}
	var due, seen, repeats, lists, aside int64
	for _, n := range []struct {
		to   *int64
		text string
		args []any
	}{{&due, oldestDue, []any{millis(now)}}, {&seen, lastSeen, nil}, {&repeats, countRepeat, nil},
		{&lists, countLists, nil}, {&aside, countAside, nil}} {
		rows, err := s.query(ctx, n.text, n.args...)
		if *n.to, err = one(s, rows, err, scanInt); err != nil {
			return Summary{}, err
		}
	}
	sum.OldestDue, sum.LastSeen = instant(due), instant(seen)
	sum.Repeats, sum.Lists, sum.Aside = int(repeats), int(lists), int(aside)
	if sum.Pauses, err = s.Pauses(ctx); err != nil {
		return Summary{}, err
	}
	sum.Site, err = s.Setting(ctx, SettingSite)
	return sum, err
}

// Idle is how long letters may wait without any worker before every surface says so.
const Idle = time.Minute

// NobodyWorks is [Summary.NobodyWorks] without counting anything.
func (s *Store) NobodyWorks(ctx context.Context, now time.Time) (bool, error) {
	rows, err := s.query(ctx, oldestDue, millis(now))
	due, err := one(s, rows, err, scanInt)
	if err != nil {
		return false, err
	}
	rows, err = s.query(ctx, lastSeen)
	seen, err := one(s, rows, err, scanInt)
	return Summary{OldestDue: instant(due), LastSeen: instant(seen)}.NobodyWorks(now), err
}

// NobodyWorks reports whether letters have been due for [Idle] and no worker was seen for as long.
func (s Summary) NobodyWorks(now time.Time) bool {
	return !s.OldestDue.IsZero() && now.Sub(s.OldestDue) >= Idle && now.Sub(s.LastSeen) >= Idle
}
