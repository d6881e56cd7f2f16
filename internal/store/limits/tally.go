package limits

import (
	"context"
	"time"

	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/internal/store/db"
)

// A Tally is what a rule has counted under one key: the row.
type Tally struct {
	Name string // limit.Bound's
	judge.State
	Idle time.Time
}

// tallyRow are the columns of a tally.
var tallyRow = db.Columns[Tally]{
	db.Text("name", func(t *Tally) *string { return &t.Name }),
	db.Micros("at", func(t *Tally) *time.Time { return &t.At }),
	db.Count("n", func(t *Tally) *int64 { return &t.N }),
	db.Time("idle", func(t *Tally) *time.Time { return &t.Idle }),
}

// swapRow are those of a tally with what it was before.
var swapRow = db.Columns[Swap]{
	db.Text("name", func(s *Swap) *string { return &s.Name }),
	db.Micros("at", func(s *Swap) *time.Time { return &s.At }),
	db.Count("n", func(s *Swap) *int64 { return &s.N }),
	db.Time("idle", func(s *Swap) *time.Time { return &s.Idle }),
	db.Micros("was_at", func(s *Swap) *time.Time { return &s.Was.At }),
	db.Count("was_n", func(s *Swap) *int64 { return &s.Was.N }),
}

var (
	tallyName  = tallyRow.Pick("name")
	tallyState = tallyRow.Pick("name", "at", "n")
)

var (
	lockTallies = db.ListQ(tallyName, `INSERT INTO @tally (name, at, n, idle) SELECT name, 0, 0, 0 FROM r
		WHERE name IS NOT NULL
		ON CONFLICT (name) DO UPDATE SET at = illumicode_tally.at RETURNING `+tallyState.Names())
	setTallies = db.ListQ(tallyRow, `INSERT INTO @tally (`+tallyRow.Names()+`) SELECT `+tallyRow.Names()+` FROM r
		WHERE name IS NOT NULL
		ON CONFLICT (name) DO UPDATE SET at = excluded.at, n = excluded.n, idle = excluded.idle`)
	// The index decides which rows are there, whatever the planner knows of the table.
	swapTallies = db.ListQ(swapRow, `INSERT INTO @tally (`+swapRow.Names()+`) SELECT `+swapRow.Names()+` FROM r
		WHERE name IS NOT NULL AND @relaxed() ON CONFLICT (name) DO UPDATE
		SET at = excluded.at, n = excluded.n, idle = excluded.idle, was_at = excluded.was_at, was_n = excluded.was_n
		WHERE illumicode_tally.at = excluded.was_at AND illumicode_tally.n = excluded.was_n RETURNING name`)
	selectTallies = db.ListQ(tallyName, `SELECT t.name, t.at, t.n FROM r JOIN @tally t ON t.name = r.name
		WHERE r.name IS NOT NULL`)
	sweepTallies = db.Q(`DELETE FROM @tally
		WHERE name @in(SELECT name FROM @tally WHERE name > ? ORDER BY name LIMIT 500) AND idle < ?`)
	lastOfSweep = db.Q(`SELECT COALESCE(MAX(name), '')
		FROM (SELECT name FROM @tally WHERE name > ? ORDER BY name LIMIT 500) AS part`)
)

// LockTallies returns the states under names, which are sorted and differ, for a transaction that no
// other with one of them overtakes. Rows that were missing are made, where they have to be locked: one
// writer has the whole file.
func (t Tx) LockTallies(ctx context.Context, names []string) (map[string]judge.State, error) {
	query := lockTallies
	if t.OneWriter() {
		query = selectTallies
	}
	return tallies(ctx, t.Tx, query, names)
}

// Tallies returns the states under names as they are, without a lock.
func (s Rows) Tallies(ctx context.Context, names []string) (map[string]judge.State, error) {
	return tallies(ctx, s.Alone(), selectTallies, names)
}

// tallies returns the states that a query of some names finds.
func tallies(ctx context.Context, t db.Tx, query *db.ListQuery[Tally], names []string) (map[string]judge.State, error) {
	named, states := make([]Tally, len(names)), make(map[string]judge.State, len(names))
	for i, name := range names {
		named[i].Name = name
	}
	return states, t.Run(ctx, query.Statements(named, func(found db.Rows) error {
		all, err := db.Collect(t, found, tallyState.Scan)
		for _, one := range all {
			states[one.Name] = one.State
		}
		return err
	})...)
}

// SetTallies writes states that LockTallies has locked.
func (t Tx) SetTallies(ctx context.Context, all []Tally) error {
	return t.Run(ctx, setTallies.Statements(all, nil)...)
}

// SweepTallies removes the rows that are idle at now, a few hundred at a time, and returns how many.
func (s Rows) SweepTallies(ctx context.Context, now time.Time) (total int64, err error) {
	for from := ""; ; {
		last, err := db.One(ctx, s, db.Scalar[string], lastOfSweep, from)
		if err != nil || last == "" {
			return total, err
		}
		n, err := s.Exec(ctx, sweepTallies, from, db.Millis(now))
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
const MostSwaps = db.MostListed

// SwapTallies changes some states, [MostSwaps] at most, in one statement, which waits for no disk, each if it
// is as expected or missing, and returns which it changed. The swaps are sorted by name, so that no two wait
// for each other. It is for databases with many writers.
func (s Rows) SwapTallies(ctx context.Context, all []Swap) (changed map[string]bool, err error) {
	changed = make(map[string]bool, len(all))
	return changed, s.Alone().Run(ctx, swapTallies.Statements(all, func(found db.Rows) error {
		done, err := db.Collect(s, found, db.Scalar[string])
		for _, name := range done {
			changed[name] = true
		}
		return err
	})...)
}
