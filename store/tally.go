package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"time"

	"github.com/illumicode/illumicode/core/limit"
)

// A Tally is what a rule has counted under one key: the row.
type Tally struct {
	Name string // limit.Bound's
	limit.State
	Idle time.Time
}

var (
	lockTallies = q(`INSERT INTO illumicode_tally (name, at, n, idle) SELECT r.value ->> 0, 0, 0, 0 FROM json_each(?) AS r WHERE true
		ON CONFLICT (name) DO UPDATE SET at = illumicode_tally.at RETURNING name, at, n`)
	setTallies = q(`INSERT INTO illumicode_tally (name, at, n, idle) SELECT r.value ->> 0, CAST(r.value ->> 1 AS BIGINT), CAST(r.value ->> 2 AS BIGINT),
		CAST(r.value ->> 3 AS BIGINT) FROM json_each(?) AS r WHERE true
		ON CONFLICT (name) DO UPDATE SET at = excluded.at, n = excluded.n, idle = excluded.idle`)
	// All rows are as they are expected, and change, or none does. A row that another transaction makes at
	// the same moment is seen only by the last WHERE: then the others have changed without it.
	swapTallies = q(`WITH want AS (SELECT r.value ->> 0 AS name, CAST(r.value ->> 1 AS BIGINT) AS was_at, CAST(r.value ->> 2 AS BIGINT) AS was_n,
			CAST(r.value ->> 3 AS BIGINT) AS at, CAST(r.value ->> 4 AS BIGINT) AS n, CAST(r.value ->> 5 AS BIGINT) AS idle FROM json_each(?) AS r)
		INSERT INTO illumicode_tally (name, at, n, idle, was_at, was_n)
		SELECT name, at, n, idle, was_at, was_n FROM want WHERE COMMIT_SOON AND ? = (SELECT COUNT(*) FROM want AS w WHERE COALESCE(
			(SELECT t.at = w.was_at AND t.n = w.was_n FROM illumicode_tally AS t WHERE t.name = w.name FOR UPDATE), w.was_at = 0 AND w.was_n = 0))
		ON CONFLICT (name) DO UPDATE SET at = excluded.at, n = excluded.n, idle = excluded.idle, was_at = excluded.was_at, was_n = excluded.was_n
		WHERE illumicode_tally.at = excluded.was_at AND illumicode_tally.n = excluded.was_n RETURNING name`)
	selectTallies = q(`SELECT name, at, n FROM illumicode_tally WHERE name IN (SELECT value FROM json_each(?))`)
	sweepTallies  = q(`DELETE FROM illumicode_tally WHERE name IN (SELECT name FROM illumicode_tally WHERE name > ? ORDER BY name LIMIT 500) AND idle < ?`)
	lastOfSweep   = q(`SELECT COALESCE(MAX(name), '') FROM (SELECT name FROM illumicode_tally WHERE name > ? ORDER BY name LIMIT 500) AS part`)
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
func (t Tx) LockTallies(ctx context.Context, names []string) (map[string]limit.State, error) {
	if t.s.dialect.OneWriter {
		rows, err := t.query(ctx, selectTallies, list(names))
		all, err := collect(t.s, rows, err, scanTally)
		return statesOf(all), err
	}
	each := make([][]string, len(names))
	for i, name := range names {
		each[i] = []string{name}
	}
	rows, err := t.query(ctx, lockTallies, list(each))
	all, err := collect(t.s, rows, err, scanTally)
	return statesOf(all), err
}

// Tallies returns the states under names as they are, without a lock.
func (s *Store) Tallies(ctx context.Context, names []string) (map[string]limit.State, error) {
	rows, err := s.query(ctx, selectTallies, list(names))
	all, err := collect(s, rows, err, scanTally)
	return statesOf(all), err
}

func statesOf(all []Tally) map[string]limit.State {
	m := make(map[string]limit.State, len(all))
	for _, one := range all {
		m[one.Name] = one.State
	}
	return m
}

// SetTallies writes states that LockTallies has locked.
func (t Tx) SetTallies(ctx context.Context, all []Tally) error {
	rows := make([][]any, len(all))
	for i, one := range all {
		rows[i] = []any{one.Name, micros(one.At), one.N, millis(one.Idle)}
	}
	_, err := t.exec(ctx, setTallies, list(rows))
	return err
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
	Was  limit.State
	Tally
}

// SwapTallies changes some states in one statement, which waits for no disk, if all are as expected, and
// returns which it changed: all; none, if one was not as expected; or, if another process has made a row
// at the same moment, all but that. The swaps are sorted by name. It is for databases with many writers.
func (s *Store) SwapTallies(ctx context.Context, all []Swap) (changed map[string]bool, err error) {
	rows := make([][]any, len(all))
	for i, one := range all {
		rows[i] = []any{one.Name, micros(one.Was.At), one.Was.N, micros(one.At), one.N, millis(one.Idle)}
	}
	found, err := s.query(ctx, swapTallies, list(rows), len(all))
	done, err := collect(s, found, err, scanText)
	changed = make(map[string]bool, len(done))
	for _, name := range done {
		changed[name] = true
	}
	return changed, err
}

// micros returns t as tallies keep instants: Unix microseconds, 0 for the zero time.
func micros(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMicro()
}

// soon runs fn, in its turn to write, with a connection whose commits wait for no disk; with none where
// statements say that themselves.
func (s *Store) soon(ctx context.Context, fn func(conn *sql.Conn) error) error {
	unlock, err := s.lock(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	if s.dialect.Soon == "" {
		return fn(nil)
	}
	conn, err := s.db.Conn(ctx)
	if err != nil {
		return s.explain(err)
	}
	defer conn.Close()
	if _, err := conn.ExecContext(ctx, s.dialect.Soon); err != nil {
		return s.explain(err)
	}
	defer func() {
		if _, err := conn.ExecContext(context.WithoutCancel(ctx), s.dialect.Lasting); err != nil {
			conn.Raw(func(any) error { return driver.ErrBadConn }) // nobody else may commit on it as it is
		}
	}()
	return fn(conn)
}

// WriteSoon is [Store.Write] for what may be lost with the machine's power, though not with this
// process, and not in part: its commit waits for no disk. It is on disk with the next commit that does.
func (s *Store) WriteSoon(ctx context.Context, fn func(Tx) error) error {
	return s.soon(ctx, func(conn *sql.Conn) error {
		begin := s.db.BeginTx
		if conn != nil {
			begin = conn.BeginTx
		}
		tx, err := begin(ctx, nil)
		if err != nil {
			return s.explain(err)
		}
		defer tx.Rollback() // after a commit it does nothing
		if s.dialect.SoonInside != "" {
			if _, err := tx.ExecContext(ctx, s.dialect.SoonInside); err != nil {
				return s.explain(err)
			}
		}
		if err := fn(s.In(tx)); err != nil {
			return err
		}
		return s.explain(tx.Commit())
	})
}
