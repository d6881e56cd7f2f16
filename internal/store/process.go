package store

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"github.com/illumicode/illumicode/internal/store/db"
)

// A Process is one that serves or works, and the keys that it knows: the row.
type Process struct {
	ID      string
	Host    string
	PID     int
	Version string   // of the program
	Kids    []string // of all keys in its keyring
	Signs   []string // of those that sign
	Seen    time.Time

	kids, signs string // as JSON
}

// processRow are the columns of a process.
var processRow = db.Columns[Process]{
	db.Text("id", func(r *Process) *string { return &r.ID }),
	db.Text("host", func(r *Process) *string { return &r.Host }),
	db.Number("pid", func(r *Process) *int { return &r.PID }),
	db.Text("version", func(r *Process) *string { return &r.Version }),
	db.Text("kids", func(r *Process) *string { return &r.kids }),
	db.Text("signs", func(r *Process) *string { return &r.signs }),
	db.Time("seen", func(r *Process) *time.Time { return &r.Seen }),
}

var (
	newProcess    = processRow.Insert("process", db.Values{})
	upsertProcess = db.Q(newProcess.Alone() + ` ON CONFLICT (id) DO UPDATE SET kids = excluded.kids,
		signs = excluded.signs, seen = excluded.seen`)
	deleteProcess   = db.Q(`DELETE FROM @process WHERE id = ?`)
	sweepProcesses  = db.Q(`DELETE FROM @process WHERE seen < ?`)
	selectProcesses = db.Q(`SELECT ` + processRow.Names() + ` FROM @process WHERE seen >= ? ORDER BY host, pid, id`)
	olderWorkers    = db.Q(`SELECT host, pid FROM @worker WHERE lease >= ? AND keyed = 0 ORDER BY host, pid`)
)

// processLife is how long a process counts that says nothing any more.
const processLife = 24 * time.Hour

// Appear records what a process knows, and forgets those that have said nothing for a day.
func (s *Store) Appear(ctx context.Context, p Process) error {
	kids, err := json.Marshal(p.Kids)
	signs, signsErr := json.Marshal(p.Signs)
	if err = errors.Join(err, signsErr); err != nil {
		return err
	}
	p.kids, p.signs = string(kids), string(signs)
	return s.WriteRelaxed(ctx, func(t Tx) error {
		if _, err := t.Exec(ctx, upsertProcess, newProcess.Args(p)...); err != nil {
			return err
		}
		_, err := t.Exec(ctx, sweepProcesses, db.Millis(p.Seen.Add(-processLife)))
		return err
	})
}

// Disappear removes a process that has ended.
func (s *Store) Disappear(ctx context.Context, id string) error {
	_, err := s.Exec(ctx, deleteProcess, id)
	return err
}

// Processes returns those that were seen in the day before now, by host.
func (s *Store) Processes(ctx context.Context, now time.Time) ([]Process, error) {
	all, err := db.All(ctx, s, processRow.Scan, selectProcesses, db.Millis(now.Add(-processLife)))
	for i := range all {
		err = errors.Join(err, json.Unmarshal([]byte(all[i].kids), &all[i].Kids),
			json.Unmarshal([]byte(all[i].signs), &all[i].Signs))
	}
	return all, err
}

// OlderWorkers returns host and pid of the workers whose version does not say which keys it knows.
func (s *Store) OlderWorkers(ctx context.Context, now time.Time) (all []Process, err error) {
	return db.All(ctx, s, func(r db.Scanner) (p Process, err error) { return p, r.Scan(&p.Host, &p.PID) },
		olderWorkers, db.Millis(now))
}

// Knows reports whether a process has the key of a kid.
func (p Process) Knows(kid string) bool { return slices.Contains(p.Kids, kid) }
