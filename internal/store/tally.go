package store

import (
	"context"
	"time"

	"github.com/illumicode/illumicode/internal/core/judge"
)

// A Tally is what a rule has counted under one key: the row.
type Tally struct {
	Name string // limit.Bound's
	judge.State
	Idle time.Time
}

var (
	lockTallies = lq(
		`LIST r (name TEXT) INSERT INTO illumicode_tally (name, at, n, idle) SELECT name, 0, 0, 0 FROM r WHERE name IS
			NOT NULL
		ON CONFLICT (name) DO UPDATE SET at = illumicode_tally.at RETURNING name, at, n`)
	setTallies = lq(`LIST r (name TEXT, at BIGINT, n BIGINT, idle BIGINT)
		INSERT INTO illumicode_tally (name, at, n, idle) SELECT name, at, n, idle FROM r WHERE name IS NOT NULL
		ON CONFLICT (name) DO UPDATE SET at = excluded.at, n = excluded.n, idle = excluded.idle`)
	// The index decides which rows are there, whatever the planner knows of the table.
	swapTallies = lq(`LIST r (name TEXT, was_at BIGINT, was_n BIGINT, at BIGINT, n BIGINT, idle BIGINT)
		INSERT INTO illumicode_tally (name, at, n, idle, was_at, was_n)
		SELECT name, at, n, idle, was_at, was_n FROM r WHERE name IS NOT NULL AND COMMIT_SOON
		ON CONFLICT (name) DO UPDATE SET at = excluded.at, n = excluded.n, idle = excluded.idle, was_at =
		excluded.was_at, was_n = excluded.was_n
		WHERE illumicode_tally.at = excluded.was_at AND illumicode_tally.n = excluded.was_n RETURNING name`)
	selectTallies = lq(
		`LIST r (name TEXT) SELECT t.name, t.at, t.n FROM r JOIN illumicode_tally t ON t.name = r.name WHERE ` +
			`r.name IS NOT NULL`)
	sweepTallies = q(
		`DELETE FROM illumicode_tally WHERE name IN (SELECT name FROM illumicode_tally WHERE name > ? ORDER BY ` +
			`name LIMIT 500) AND idle < ?`)
	lastOfSweep = q(
		`SELECT COALESCE(MAX(name), '') FROM (SELECT name FROM illumicode_tally WHERE name > ? ORDER BY name LIMIT ` +
			`500) AS part`)
)

func scanTally(r scanner) (t Tally, err error) {
	var at int64
	if err = r.Scan(&t.Name, &at, &t.N); at != 0 {
		t.At = time.UnixMicro(at).UTC()
	}
	return t, err
}

// LockTallies returns the states under names, which are sorted and differ, for a transaction that no
// other with one of them overtakes. Rows that were missing are made, where they have to be locked: one
// writer has the whole file.
func (t Tx) LockTallies(ctx context.Context, names []string) (map[string]judge.State, error) {
	text := lockTallies
	if t.s.dialect.OneWriter {
		text = selectTallies
	}
	return t.tallies(ctx, text, names)
}

// Tallies returns the states under names as they are, without a lock.
func (s *Store) Tallies(ctx context.Context, names []string) (map[string]judge.State, error) {
	return s.alone().tallies(ctx, selectTallies, names)
}

// tallies returns the states that a query of some names finds.
func (t Tx) tallies(ctx context.Context, query *listQuery, names []string) (map[string]judge.State, error) {
	rows, states := make([][]any, len(names)), make(map[string]judge.State, len(names))
	for i, name := range names {
		rows[i] = []any{name}
	}
	return states, t.run(ctx, query.statements(rows, func(found Rows) error {
		all, err := collect(t.s, found, nil, scanTally)
		for _, one := range all {
			states[one.Name] = one.State
		}
		return err
	})...)
}

// SetTallies writes states that LockTallies has locked.
func (t Tx) SetTallies(ctx context.Context, all []Tally) error {
	rows := make([][]any, len(all))
	for i, one := range all {
		rows[i] = []any{one.Name, micros(one.At), one.N, millis(one.Idle)}
	}
	return t.run(ctx, setTallies.statements(rows, nil)...)
}

// SweepTallies removes the rows that are idle at now, a few hundred at a time, and returns how many.
func (s *Store) SweepTallies(ctx context.Context, now time.Time) (total int64, err error) {
	for from := ""; ; {
		rows, err := s.query(ctx, lastOfSweep, from)
		last, err := one(s, rows, err, scanText)
		if err != nil || last == "" {
			return total, err
		}
		n, err := s.exec(ctx, sweepTallies, from, millis(now))
		if total += n; err != nil {
			return total, err
		}
		from = last
	}
}

// A Swap is a state that is to take the place of another.
type Swap struct {
	Name string
	Was  judge.State
	Tally
}

// MostSwaps is how many states one statement can swap.
const MostSwaps = mostListed

// SwapTallies changes some states, [MostSwaps] at most, in one statement, which waits for no disk, each if it
// is as expected or missing, and returns which it changed. The swaps are sorted by name, so that no two wait
// for each other. It is for databases with many writers.
func (s *Store) SwapTallies(ctx context.Context, all []Swap) (changed map[string]bool, err error) {
	rows := make([][]any, len(all))
	for i, one := range all {
		rows[i] = []any{one.Name, micros(one.Was.At), one.Was.N, micros(one.At), one.N, millis(one.Idle)}
	}
	changed = make(map[string]bool, len(all))
	return changed, s.alone().run(ctx, swapTallies.statements(rows, func(found Rows) error {
		done, err := collect(s, found, nil, scanText)
		for _, name := range done {
			changed[name] = true
		}
		return err
	})...)
}

// micros returns t as tallies keep instants: Unix microseconds, 0 for the zero time.
func micros(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMicro()
}
