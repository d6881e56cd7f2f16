package store

import (
	"context"
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
	setTallies = q(`UPDATE illumicode_tally SET at = CAST(r.value ->> 1 AS BIGINT), n = CAST(r.value ->> 2 AS BIGINT), idle = CAST(r.value ->> 3 AS BIGINT)
		FROM json_each(?) AS r WHERE illumicode_tally.name = r.value ->> 0 AND name IN (SELECT value FROM json_each(?))`)
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
// other with one of them overtakes. Rows that were missing are made.
func (t Tx) LockTallies(ctx context.Context, names []string) (map[string]limit.State, error) {
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
	rows, names := make([][]any, len(all)), make([]string, len(all))
	for i, one := range all {
		at := int64(0)
		if !one.At.IsZero() {
			at = one.At.UnixMicro()
		}
		rows[i], names[i] = []any{one.Name, at, one.N, millis(one.Idle)}, one.Name
	}
	_, err := t.exec(ctx, setTallies, list(rows), list(names))
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

// WriteSoon is [Store.Write] for what may be lost with the machine's power, though not with this
// process, and not in part: its commit waits for no disk. It is on disk with the next commit that does.
func (s *Store) WriteSoon(ctx context.Context, fn func(Tx) error) error {
	unlock, err := s.lock(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	conn, err := s.db.Conn(ctx)
	if err != nil {
		return s.explain(err)
	}
	defer conn.Close()
	if s.dialect.Soon != "" {
		if _, err := conn.ExecContext(ctx, s.dialect.Soon); err != nil {
			return s.explain(err)
		}
		defer func() {
			if _, err := conn.ExecContext(context.WithoutCancel(ctx), s.dialect.Lasting); err != nil {
				conn.Raw(func(any) error { return driver.ErrBadConn }) // nobody else may commit on it as it is
			}
		}()
	}
	tx, err := conn.BeginTx(ctx, nil)
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
}
