package store

import (
	"context"
	"errors"
	"time"
)

// A Pause keeps every worker on every machine from sending something: the row.
type Pause struct {
	Kind  string // one of PauseKinds
	Name  string
	Since time.Time
	Note  string
}

// PauseKinds lists what can be paused: a lane by its name, a letter by its name, a provider by its
// name, a domain of recipients in lower case and A-labels.
var PauseKinds = []string{"lane", "letter", "provider", "domain"}

// HeldBy is what a delivery is held by while the pause lasts.
func (p Pause) HeldBy() string { return p.Kind + ": " + p.Name }

var (
	insertPause = q(`INSERT INTO illumicode_pause (kind, name, since, note) VALUES (?, ?, ?, ?)
		ON CONFLICT (kind, name) DO UPDATE SET note = excluded.note`)
	deletePause   = q(`DELETE FROM illumicode_pause WHERE kind = ? AND name = ?`)
	forgetHealth  = q(`UPDATE illumicode_way SET health = '{}' WHERE name = ? AND health <> '{}'`)
	selectPauses  = q(`SELECT kind, name, since, note FROM illumicode_pause ORDER BY kind, name`)
	releaseHeldBy = q(
		`UPDATE illumicode_delivery SET state = 'waiting', held_by = '', note = ''
			WHERE state = 'held' AND held_by = ?`)
)

// Pause records a pause. Workers see it within their poll.
func (s *Store) Pause(ctx context.Context, p Pause) error {
	_, err := s.exec(ctx, insertPause, p.Kind, p.Name, millis(p.Since), p.Note)
	return err
}

// Resume ends a pause, lets what it held wait again, and returns how many deliveries that were. Of a
// provider it also forgets that it was left alone for its failures. [ErrNotFound] means that there was
// nothing of that to end.
func (s *Store) Resume(ctx context.Context, p Pause) (released int64, err error) {
	err = s.Write(ctx, func(t Tx) error {
		n, err := t.exec(ctx, deletePause, p.Kind, p.Name)
		if err != nil {
			return err
		}
		if p.Kind == "provider" {
			forgotten, err := t.exec(ctx, forgetHealth, p.Name)
			if err != nil {
				return err
			}
			n += forgotten
		}
		if n == 0 {
			return ErrNotFound
		}
		released, err = t.exec(ctx, releaseHeldBy, p.HeldBy())
		return err
	})
	return released, err
}

// Pauses returns the pauses.
func (s *Store) Pauses(ctx context.Context) ([]Pause, error) {
	rows, err := s.query(ctx, selectPauses)
	return collect(s, rows, err, func(r scanner) (p Pause, err error) {
		var since int64
		err = r.Scan(&p.Kind, &p.Name, &since, &p.Note)
		p.Since = instant(since)
		return p, err
	})
}

var releaseStray = q(`UPDATE illumicode_delivery SET state = 'waiting', held_by = '', note = '' WHERE state = 'held'
	AND held_by NOT IN ('asked', 'guard', 'perhaps sent')
	AND NOT EXISTS (SELECT 1 FROM illumicode_pause p WHERE p.kind || ': ' || p.name = held_by)`)

// ReleaseStray lets wait again what is held by a pause that has ended: a worker that had not seen
// the end yet may have held it since.
func (s *Store) ReleaseStray(ctx context.Context) (int64, error) { return s.exec(ctx, releaseStray) }

// SettingSite names the setting that holds the base URL of the site that the database sends for.
const SettingSite = "site"

var (
	selectSetting = q(`SELECT value FROM illumicode_setting WHERE name = ?`)
	insertSetting = q(`INSERT INTO illumicode_setting (name, value) VALUES (?, ?) ON CONFLICT (name) DO NOTHING`)
	updateSetting = q(
		`INSERT INTO illumicode_setting (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = ` +
			`excluded.value`)
)

// Setting returns a setting; empty if it was never set.
func (s *Store) Setting(ctx context.Context, name string) (string, error) {
	rows, err := s.query(ctx, selectSetting, name)
	v, err := one(s, rows, err, scanText)
	if errors.Is(err, ErrNotFound) {
		err = nil
	}
	return v, err
}

// SetOnce sets a setting that was never set, and returns what it is then.
func (s *Store) SetOnce(ctx context.Context, name, value string) (string, error) {
	if v, err := s.Setting(ctx, name); err != nil || v != "" {
		return v, err
	}
	if _, err := s.exec(ctx, insertSetting, name, value); err != nil {
		return "", err
	}
	return s.Setting(ctx, name)
}

// Set sets a setting.
func (s *Store) Set(ctx context.Context, name, value string) error {
	_, err := s.exec(ctx, updateSetting, name, value)
	return err
}
