package store

import (
	"context"
	"time"
)

// An Event is one that some program has inserted: the row.
type Event struct {
	Seq     int64 // in the order of insertion
	Source  string
	ID      string
	Type    string
	Subject string
	Time    string // RFC 3339; empty for none
	Data    string // JSON

	Reason string    // why it was set aside; empty for one that waits
	At     time.Time // when it was set aside
}

const eventColumns = `seq, source, id, type, subject, time, data`

func scanEvent(r scanner) (e Event, err error) {
	return e, r.Scan(&e.Seq, &e.Source, &e.ID, &e.Type, &e.Subject, &e.Time, &e.Data)
}

var (
	anyEvent    = q(`SELECT EXISTS (SELECT 1 FROM illumicode_event)`)
	countEvents = q(`SELECT COUNT(*) FROM illumicode_event`)
	insertEvent = q(`INSERT INTO illumicode_event (source, id, type, subject, time, data) VALUES (?, ?, ?, ?, ?, ?)`)
	takeEvents  = q(
		`DELETE FROM illumicode_event WHERE seq IN (SELECT seq FROM illumicode_event ORDER BY seq LIMIT ? FOR UPDATE
			SKIP LOCKED)
		RETURNING ` + eventColumns)
	insertAside = q(`INSERT INTO illumicode_event_aside (` + eventColumns +
		`, reason, at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`)
	selectAside = q(`SELECT ` + eventColumns + `, reason, at FROM illumicode_event_aside ORDER BY seq LIMIT ?`)
	deleteAside = q(`DELETE FROM illumicode_event_aside WHERE seq = ? RETURNING ` + eventColumns)
)

// AnyEvent reports whether an event waits.
func (s *Store) AnyEvent(ctx context.Context) (bool, error) {
	rows, err := s.query(ctx, anyEvent)
	return one(s, rows, err, func(r scanner) (any bool, err error) { return any, r.Scan(&any) })
}

// InsertEvent adds an event, as other programs do in SQL.
func (t Tx) InsertEvent(ctx context.Context, e Event) error {
	_, err := t.exec(ctx, insertEvent, e.Source, e.ID, e.Type, e.Subject, e.Time, e.Data)
	return err
}

// TakeEvents removes up to n events and returns them. They are gone when the transaction commits
// with what they led to. As rows are locked and not remembered by number, one whose transaction
// commits late is seen late, and never missed.
func (t Tx) TakeEvents(ctx context.Context, n int) ([]Event, error) {
	rows, err := t.query(ctx, takeEvents, n)
	return collect(t.s, rows, err, scanEvent)
}

// SetAside keeps an event that could not be taken, with the reason.
func (t Tx) SetAside(ctx context.Context, e Event, reason string, now time.Time) error {
	_, err := t.exec(ctx, insertAside, e.Seq, e.Source, e.ID, e.Type, e.Subject, e.Time, e.Data, reason, millis(now))
	return err
}

// EventsWaiting returns how many inserted events no worker has looked at.
func (s *Store) EventsWaiting(ctx context.Context) (int64, error) {
	rows, err := s.query(ctx, countEvents)
	return one(s, rows, err, scanInt)
}

// Aside returns the first n events that were set aside.
func (s *Store) Aside(ctx context.Context, n int) ([]Event, error) {
	rows, err := s.query(ctx, selectAside, n)
	return collect(s, rows, err, func(r scanner) (e Event, err error) {
		var at int64
		err = r.Scan(&e.Seq, &e.Source, &e.ID, &e.Type, &e.Subject, &e.Time, &e.Data, &e.Reason, &at)
		e.At = instant(at)
		return e, err
	})
}

// Readmit lets an event that was set aside wait again, as a new one. [ErrNotFound] means that
// there is none with this number.
func (s *Store) Readmit(ctx context.Context, seq int64) error {
	return s.Write(ctx, func(t Tx) error {
		rows, err := t.query(ctx, deleteAside, seq)
		e, err := one(s, rows, err, scanEvent)
		if err != nil {
			return err
		}
		return t.InsertEvent(ctx, e)
	})
}

// Forget removes an event that was set aside.
func (s *Store) Forget(ctx context.Context, seq int64) error {
	_, err := only(change(ctx, s, scanEvent, deleteAside, seq))
	return err
}

// A Preference is what a person wants of a category: the row.
type Preference struct {
	Mailbox  string
	Category string
	Wanted   bool
	Since    time.Time
}

var (
	setPreference = q(`INSERT INTO illumicode_preference (mailbox, category, wanted, since) VALUES (?, ?, ?, ?)
		ON CONFLICT (mailbox, category) DO UPDATE SET wanted = excluded.wanted, since = excluded.since`)
	unwanted = q(
		`SELECT EXISTS (SELECT 1 FROM illumicode_preference WHERE mailbox = ? AND category = ? AND wanted = 0)`)
	selectPreferences = q(
		`SELECT mailbox, category, wanted, since FROM illumicode_preference WHERE mailbox = ? ORDER BY category`)
)

// Prefer records what a person wants.
func (s *Store) Prefer(ctx context.Context, p Preference) error {
	_, err := s.exec(ctx, setPreference, p.Mailbox, p.Category, flag(p.Wanted), millis(p.Since))
	return err
}

// Unwanted reports whether a person has said no to a category.
func (s *Store) Unwanted(ctx context.Context, mailbox, category string) (bool, error) {
	rows, err := s.query(ctx, unwanted, mailbox, category)
	return one(s, rows, err, func(r scanner) (no bool, err error) { return no, r.Scan(&no) })
}

// Preferences returns what a person has said.
func (s *Store) Preferences(ctx context.Context, mailbox string) ([]Preference, error) {
	rows, err := s.query(ctx, selectPreferences, mailbox)
	return collect(s, rows, err, func(r scanner) (p Preference, err error) {
		var since int64
		err = r.Scan(&p.Mailbox, &p.Category, &p.Wanted, &since)
		p.Since = instant(since)
		return p, err
	})
}
