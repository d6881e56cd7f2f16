package queue

import (
	"context"
	"time"

	"github.com/illumicode/illumicode/internal/store/db"
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

// eventRow are the columns of an event.
var eventRow = db.Columns[Event]{
	db.Count("seq", func(r *Event) *int64 { return &r.Seq }),
	db.Text("source", func(r *Event) *string { return &r.Source }),
	db.Text("id", func(r *Event) *string { return &r.ID }),
	db.Text("type", func(r *Event) *string { return &r.Type }),
	db.Text("subject", func(r *Event) *string { return &r.Subject }),
	db.Text("time", func(r *Event) *string { return &r.Time }),
	db.Text("data", func(r *Event) *string { return &r.Data }),
}

// asideRow are the columns of one that was set aside.
var asideRow = append(eventRow[:len(eventRow):len(eventRow)],
	db.Text("reason", func(r *Event) *string { return &r.Reason }),
	db.Time("at", func(r *Event) *time.Time { return &r.At }))

var (
	anyEvent    = db.Q(`SELECT EXISTS (SELECT 1 FROM @event)`)
	countEvents = db.Q(`SELECT COUNT(*) FROM @event`)
	newEvent    = eventRow.Without(db.Values{"seq": ""}).Insert("event", db.Values{}) // the database numbers it
	insertEvent = db.Q(newEvent.Alone())
	takeEvents  = db.Q(`DELETE FROM @event WHERE seq IN (SELECT seq FROM @event ORDER BY seq LIMIT ? @free())
		RETURNING ` + eventRow.Names())
	newAside    = asideRow.Insert("event_aside", db.Values{})
	insertAside = db.Q(newAside.Alone())
	selectAside = db.Q(`SELECT ` + asideRow.Names() + ` FROM @event_aside ORDER BY seq LIMIT ?`)
	deleteAside = db.Q(`DELETE FROM @event_aside WHERE seq = ? RETURNING ` + eventRow.Names())
)

// AnyEvent reports whether an event waits.
func (s Rows) AnyEvent(ctx context.Context) (bool, error) {
	return db.One(ctx, s, db.Scalar[bool], anyEvent)
}

// InsertEvent adds an event, as other programs do in SQL.
func (t Tx) InsertEvent(ctx context.Context, e Event) error {
	_, err := t.Exec(ctx, insertEvent, newEvent.Args(e)...)
	return err
}

// TakeEvents removes up to n events and returns them. They are gone when the transaction commits
// with what they led to. As rows are locked and not remembered by number, one whose transaction
// commits late is seen late, and never missed.
func (t Tx) TakeEvents(ctx context.Context, n int) ([]Event, error) {
	return db.All(ctx, t, eventRow.Scan, takeEvents, n)
}

// SetAside keeps an event that could not be taken, with the reason.
func (t Tx) SetAside(ctx context.Context, e Event, reason string, now time.Time) error {
	e.Reason, e.At = reason, now
	_, err := t.Exec(ctx, insertAside, newAside.Args(e)...)
	return err
}

// EventsWaiting returns how many inserted events no worker has looked at.
func (s Rows) EventsWaiting(ctx context.Context) (int64, error) {
	return db.One(ctx, s, db.Scalar[int64], countEvents)
}

// Aside returns the first n events that were set aside.
func (s Rows) Aside(ctx context.Context, n int) ([]Event, error) {
	return db.All(ctx, s, asideRow.Scan, selectAside, n)
}

// Readmit lets an event that was set aside wait again, as a new one. [db.ErrNotFound] means that
// there is none with this number.
func (s Rows) Readmit(ctx context.Context, seq int64) error {
	return s.Write(ctx, func(t Tx) error {
		e, err := db.One(ctx, t, eventRow.Scan, deleteAside, seq)
		if err != nil {
			return err
		}
		return t.InsertEvent(ctx, e)
	})
}

// Forget removes an event that was set aside.
func (s Rows) Forget(ctx context.Context, seq int64) error {
	_, err := db.Only(db.Change(ctx, s.Database, eventRow.Scan, deleteAside, seq))
	return err
}
