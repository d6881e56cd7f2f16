package main

import (
	"context"
	"database/sql"
	"encoding/json"
	"io"
	"sync"
	"time"
)

// The least that an outbox writes: a row is claimed, its attempt begins before the first byte, and ends. There is one
// table with no index but its key, and nothing of limits, locks, leases, pauses or trails.
const bareTable = `CREATE TABLE bare (id INTEGER PRIMARY KEY, address TEXT NOT NULL, claimed BIGINT NOT NULL DEFAULT 0,
	begun BIGINT NOT NULL DEFAULT 0, ended BIGINT NOT NULL DEFAULT 0)`

// bareWrites are its writes: one statement for as many rows as there are.
type bareWrites struct{ fill, claim, begin, end string }

var bareOn = map[string]bareWrites{
	onSQLite: {
		fill: `INSERT INTO bare (id, address) SELECT value, 'passenger' || value || '@ternisle.example'
			FROM json_each(?)`,
		claim: `UPDATE bare SET claimed = 1 WHERE id IN (SELECT value FROM json_each(?)) RETURNING id, address`,
		begin: `UPDATE bare SET begun = 1 WHERE id IN (SELECT value FROM json_each(?))`,
		end:   `UPDATE bare SET ended = 1 WHERE id IN (SELECT value FROM json_each(?))`,
	},
	onPostgres: {
		fill: `INSERT INTO bare (id, address) SELECT v, 'passenger' || v || '@ternisle.example'
			FROM (SELECT json_array_elements_text($1::json)::INTEGER AS v) AS r`,
		claim: `UPDATE bare SET claimed = 1 WHERE id IN (SELECT json_array_elements_text($1::json)::INTEGER)
			RETURNING id, address`,
		begin: `UPDATE bare SET begun = 1 WHERE id IN (SELECT json_array_elements_text($1::json)::INTEGER)`,
		end:   `UPDATE bare SET ended = 1 WHERE id IN (SELECT json_array_elements_text($1::json)::INTEGER)`,
	},
}

// bareGroup is how many rows a write has at most, as in the outbox.
const bareGroup = 64

// A bareLedger writes begins and ends of many senders, a group in a commit.
type bareLedger struct {
	db     *sql.DB
	writes bareWrites
	todo   chan bareEntry
}

type bareEntry struct {
	id  int
	end bool
	out chan error
}

func (l *bareLedger) write(id int, end bool) error {
	e := bareEntry{id, end, make(chan error, 1)}
	l.todo <- e
	return <-e.out
}

func (l *bareLedger) run() {
	for e := range l.todo {
		group := []bareEntry{e}
		for until := time.After(2 * time.Millisecond); len(group) < bareGroup; {
			select {
			case e, more := <-l.todo:
				if more {
					group = append(group, e)
					continue
				}
			case <-until:
			}
			break
		}
		err := l.commit(group)
		for _, e := range group {
			e.out <- err
		}
	}
}

func (l *bareLedger) commit(group []bareEntry) error {
	var begins, ends []int
	for _, e := range group {
		if e.end {
			ends = append(ends, e.id)
		} else {
			begins = append(begins, e.id)
		}
	}
	tx, err := l.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for statement, ids := range map[string][]int{l.writes.begin: begins, l.writes.end: ends} {
		if len(ids) == 0 {
			continue
		}
		if _, err := tx.Exec(statement, list(ids)); err != nil {
			return err
		}
	}
	return tx.Commit()
}

func list(ids []int) string {
	raw, _ := json.Marshal(ids)
	return string(raw)
}

// recorded does what [sameClient] does, and records of each letter what an outbox must.
func recorded(database string, s *sink, templates func() error, connections, n int) (time.Duration, error) {
	way, err := s.way(connections)
	if err != nil {
		return 0, err
	}
	defer way.(io.Closer).Close()
	b, err := newBedOn(database, way, nil)
	if err != nil {
		return 0, err
	}
	defer b.close()
	writes, own := bareOn[database], b.store.DB()
	ids := make([]int, n)
	for i := range ids {
		ids[i] = i + 1
	}
	if _, err := own.Exec(bareTable); err != nil {
		return 0, err
	}
	if _, err := own.Exec(writes.fill, list(ids)); err != nil {
		return 0, err
	}
	l := &bareLedger{own, writes, make(chan bareEntry)}
	var ended sync.WaitGroup
	ended.Go(l.run)
	defer ended.Wait()
	defer close(l.todo)
	claims := bareClaims{db: own, writes: writes, left: ids}
	start := time.Now()
	err = many(max(128, sendersEach*connections), n, func(int) error {
		id, err := claims.next()
		if err == nil {
			err = templates()
		}
		if err == nil {
			err = l.write(id, false)
		}
		if err == nil {
			err = sendBy(way, letterSized(), id, false)
		}
		if err != nil {
			return err
		}
		return l.write(id, true)
	})
	return time.Since(start), err
}

// bareClaims hands rows out that were claimed together.
type bareClaims struct {
	db     *sql.DB
	writes bareWrites

	mu            sync.Mutex
	left, claimed []int
}

func (c *bareClaims) next() (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.claimed) == 0 {
		some := min(len(c.left), bareGroup)
		rows, err := c.db.QueryContext(context.Background(), c.writes.claim, list(c.left[:some]))
		if err != nil {
			return 0, err
		}
		defer rows.Close()
		for rows.Next() {
			var id int
			var address string
			if err := rows.Scan(&id, &address); err != nil {
				return 0, err
			}
			c.claimed = append(c.claimed, id)
		}
		if err := rows.Err(); err != nil {
			return 0, err
		}
		c.left = c.left[some:]
	}
	id := c.claimed[0]
	c.claimed = c.claimed[1:]
	return id, nil
}
