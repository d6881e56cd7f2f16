package queue

import (
	"context"
	"time"

	"github.com/illumicode/illumicode/internal/store/db"
)

// A Pause keeps every worker on every machine from sending something: the row.
type Pause struct {
	Kind  string // one of PauseKinds
	Name  string
	Since time.Time
	Note  string
}

// pauseRow are the columns of a pause.
var pauseRow = db.Columns[Pause]{
	db.Text("kind", func(r *Pause) *string { return &r.Kind }),
	db.Text("name", func(r *Pause) *string { return &r.Name }),
	db.Time("since", func(r *Pause) *time.Time { return &r.Since }),
	db.Text("note", func(r *Pause) *string { return &r.Note }),
}

// PauseKinds lists what can be paused: a lane by its name, a letter by its name, a provider by its
// name, a domain of recipients in lower case and A-labels.
var PauseKinds = []string{"lane", "letter", "provider", "domain"}

// HeldBy is what a delivery is held by while the pause lasts.
func (p Pause) HeldBy() string { return p.Kind + ": " + p.Name }

var (
	newPause      = pauseRow.Insert("pause", db.Values{})
	insertPause   = db.Q(newPause.Alone() + ` ON CONFLICT (kind, name) DO UPDATE SET note = excluded.note`)
	deletePause   = db.Q(`DELETE FROM @pause WHERE kind = ? AND name = ?`)
	forgetHealth  = db.Q(`UPDATE @way SET health = '{}' WHERE name = ? AND health <> '{}'`)
	forgetPaces   = db.Q(`DELETE FROM @pace WHERE provider = ?`)
	forgetDomain  = db.Q(`DELETE FROM @pace WHERE domain = ?`)
	selectPauses  = db.Q(`SELECT ` + pauseRow.Names() + ` FROM @pause ORDER BY kind, name`)
	releaseHeldBy = db.Q(`UPDATE @delivery SET state = 'waiting', held_by = '', note = ''
			WHERE state = 'held' AND held_by = ?`)
)

// Pause records a pause. Workers see it within their poll.
func (s Rows) Pause(ctx context.Context, p Pause) error {
	_, err := s.Exec(ctx, insertPause, newPause.Args(p)...)
	return err
}

// Resume ends a pause, lets what it held wait again, and returns how many deliveries that were. Of a
// provider or a recipient domain it also forgets that it was left alone or slowed down. [db.ErrNotFound] means that
// there was nothing of that to end.
func (s Rows) Resume(ctx context.Context, p Pause) (released int64, err error) {
	err = s.Write(ctx, func(t Tx) error {
		n, err := t.Exec(ctx, deletePause, p.Kind, p.Name)
		if err != nil {
			return err
		}
		for _, forget := range map[string][]string{"provider": {forgetHealth, forgetPaces},
			"domain": {forgetDomain}}[p.Kind] {
			forgotten, err := t.Exec(ctx, forget, p.Name)
			if err != nil {
				return err
			}
			n += forgotten
		}
		if n == 0 {
			return db.ErrNotFound
		}
		released, err = t.Exec(ctx, releaseHeldBy, p.HeldBy())
		return err
	})
	return released, err
}

// Pauses returns the pauses.
func (s Rows) Pauses(ctx context.Context) ([]Pause, error) {
	return db.All(ctx, s, pauseRow.Scan, selectPauses)
}

var releaseStray = db.Q(`UPDATE @delivery SET state = 'waiting', held_by = '', note = '' WHERE state = 'held'
	AND held_by NOT IN ('asked', 'guard', 'perhaps sent')
	AND NOT EXISTS (SELECT 1 FROM @pause p WHERE p.kind || ': ' || p.name = held_by)
	AND NOT EXISTS (SELECT 1 FROM @recall r WHERE r.ended = 0 AND 'recall ' || r.id = held_by)`)

// ReleaseStray lets wait again what is held by a pause or a recall that has ended: a worker that had not seen
// the end yet may have held it since.
func (s Rows) ReleaseStray(ctx context.Context) (int64, error) { return s.Exec(ctx, releaseStray) }
