package queue

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/illumicode/illumicode/internal/store/db"
)

// A Spool is what arrives in pieces and becomes lists with its end: the row. Its pieces stand beside those of lists;
// no worker takes them, as there is no list of their name yet.
type Spool struct {
	ID    string
	Lists []string // the ids that the lists will have
}

// ErrGivenUp means that a spool is gone: nothing came for it for too long.
var ErrGivenUp = errors.New("store: the list was given up, as nothing came for too long")

var (
	insertSpool  = db.Q(`INSERT INTO @spool (id, lists, seen) VALUES (?, ?, ?)`)
	touchSpool   = db.Q(`UPDATE @spool SET seen = ? WHERE id = ? AND seen > 0`)
	publishSpool = db.Q(`DELETE FROM @spool WHERE id = ? AND seen > 0`)
	giveUpSpool  = db.Q(`UPDATE @spool SET seen = 0 WHERE id = ? AND seen < ?`)
	oldSpools    = db.Q(`SELECT id, lists FROM @spool WHERE seen < ? ORDER BY id LIMIT 50`)
	deleteSpool  = db.Q(`DELETE FROM @spool WHERE id = ? AND seen = 0`)
	dropSpooled  = db.Q(`DELETE FROM @fanout_piece WHERE fanout = ? AND piece IN (SELECT piece FROM @fanout_piece
		WHERE fanout = ? ORDER BY piece LIMIT 50)`)
)

// BeginSpool begins a spool at now.
func (s Rows) BeginSpool(ctx context.Context, p Spool, now time.Time) error {
	_, err := s.Exec(ctx, insertSpool, p.ID, db.List(p.Lists), db.Millis(now))
	return err
}

// AddSpooled adds a piece to one of the lists of a spool, or fails with [ErrGivenUp]. It waits for no disk: the commit
// that publishes them does.
func (s Rows) AddSpooled(ctx context.Context, spool string, p Piece, now time.Time) error {
	return s.WriteRelaxed(ctx, func(t Tx) error {
		n, err := t.Exec(ctx, touchSpool, db.Millis(now), spool)
		if err == nil && n == 0 {
			err = ErrGivenUp
		}
		if err != nil {
			return err
		}
		return t.InsertPeople(ctx, p)
	})
}

// PublishSpool ends a spool, in the transaction that adds its lists, or fails with [ErrGivenUp].
func (t Tx) PublishSpool(ctx context.Context, id string) error {
	n, err := t.Exec(ctx, publishSpool, id)
	if err == nil && n == 0 {
		err = ErrGivenUp
	}
	return err
}

// GiveUpSpool removes a spool with all that came for it, in small transactions.
func (s Rows) GiveUpSpool(ctx context.Context, p Spool, now time.Time) error {
	_, err := s.giveUp(ctx, p, now.Add(time.Second))
	return err
}

// SweepSpools removes what came for spools for which nothing has come since before, and returns how many spools that
// were.
func (s Rows) SweepSpools(ctx context.Context, before time.Time) (swept int, err error) {
	old, err := db.All(ctx, s, func(r db.Scanner) (p Spool, err error) {
		var lists string
		if err := r.Scan(&p.ID, &lists); err != nil {
			return p, err
		}
		return p, json.Unmarshal([]byte(lists), &p.Lists)
	}, oldSpools, db.Millis(before))
	for _, p := range old {
		gone, giveErr := s.giveUp(ctx, p, before)
		if gone {
			swept++
		}
		err = errors.Join(err, giveErr)
	}
	return swept, err
}

// giveUp marks a spool, unless something has come for it since, and removes it.
func (s Rows) giveUp(ctx context.Context, p Spool, before time.Time) (gone bool, err error) {
	if n, err := s.Exec(ctx, giveUpSpool, p.ID, db.Millis(before)); err != nil || n == 0 {
		return false, err
	}
	for _, list := range p.Lists {
		if _, err := s.Steps(ctx, func(t db.Tx) (int64, error) {
			return t.Exec(ctx, dropSpooled, list, list)
		}); err != nil {
			return false, err
		}
	}
	n, err := s.Exec(ctx, deleteSpool, p.ID)
	return n > 0, err
}
