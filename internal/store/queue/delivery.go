package queue

import (
	"context"
	"errors"
	"strings"
	"time"

	"github.com/illumicode/illumicode/internal/store/db"
)

// A State is where a delivery is.
type State string

// The states. Held, Waiting and Claimed are on their way; the others are final.
const (
	Held       State = "held" // until somebody releases it, or what held it has ended
	Waiting    State = "waiting"
	Claimed    State = "claimed"
	Sent       State = "sent"
	Failed     State = "failed"
	Unknown    State = "unknown"    // it may have been sent: no answer came, and none came later
	Cancelled  State = "cancelled"  // nobody needs it any more
	Expired    State = "expired"    // its time was over before it could be delivered
	Suppressed State = "suppressed" // its reader does not want such letters
)

// States lists all states in the order of a delivery's life.
var States = []State{Held, Waiting, Claimed, Sent, Failed, Unknown, Cancelled, Expired, Suppressed}

// Again reports whether a delivery in this state has ended and can be tried again: its data are kept for that.
func (s State) Again() bool { return s == Failed || s == Unknown }

// Final reports whether a delivery in this state has ended.
func (s State) Final() bool { return s != Held && s != Waiting && s != Claimed }

// A Lane is the priority a delivery travels in.
type Lane string

// The lanes, the fastest first.
const (
	Urgent Lane = "urgent"
	Normal Lane = "normal"
	Bulk   Lane = "bulk"
)

// Lanes lists the lanes in the order of their weights.
var Lanes = []Lane{Urgent, Normal, Bulk}

// Version is what this version of the program writes into a delivery's row. A worker leaves rows
// with a higher one to workers that know it.
const Version = 1

// Rows of these versions are left alone by workers of before: one would send what was recalled, the other knows nothing
// of what the deliveries of a list share.
const (
	recalledVersion = 2
	SharedVersion   = 3
)

// Knows is the highest version that a worker takes.
const Knows = SharedVersion

// SentAgain begins Delivery.AskedBy of a challenge's letter that is not its first.
const SentAgain = "sent again for the "

// A Delivery is one letter to one envelope recipient: the row.
type Delivery struct {
	ID         string
	Challenge  string // empty for a letter without proof
	Generation int    // of the code it carries; 0 without one
	Letter     string
	Locale     string
	Address    string
	Name       string
	Data       string // a JSON object
	Shared     string // the id of what it shares with others of its list, under its own Data; empty for nothing
	Lane       Lane
	State      State
	Zone       string // the reader's, IANA; empty means UTC
	Visible    string // JSON of what the header shows besides the address; empty for nothing
	Bundle     string // of deliveries of one letter, and its attachments; empty for none

	Created       time.Time
	Due           time.Time
	DeliverBefore time.Time // zero means no deadline

	Version  int           // of the row's meaning; 0 means Version when it is inserted
	Once     bool          // at most once: after an ambiguous attempt it ends as unknown
	HeldBy   string        // see the constants; empty unless State is Held, or to be inserted as such
	Key      string        // the application's, to move or cancel by; empty for none
	Lead     time.Duration // of a reminder: how long before its moment it is due
	Collapse string        // further notices under this key join it while it waits
	Fallback string        // the address to try when this one has failed; empty for none
	Anyway   bool          // the fallback goes also where it is not known whether this one has arrived
	AskedBy  string        // what asked for it, in words; of a letter sent again [SentAgain] and who
	Trace    string        // W3C traceparent of the request; empty for none
	Subject  string        // whose confirmed address it goes to, where Address is empty until its first attempt
	Medium   string        // of that address: sms; empty for mail

	Claim    int64 // counts claims, and fences writes
	Worker   string
	Claimed  time.Time
	Free     time.Time // since when it may leave, less the time for which it was held; zero before its first claim
	Attempts int       // begun
	Spent    int       // of these, those that count against the limit
	Ended    time.Time
	Note     string // why it is where it is

	// What the first attempt fixed for all: not in the row, but with that attempt.
	Fixed     time.Time // dates the letter
	Sign      bool      // the letter is to be signed now
	Signature string    // DKIM-Signature fields
}

// What can hold a delivery, besides a pause ([Pause.HeldBy]).
const (
	HeldAsked  = "asked"  // who enqueued it, or an operator, wanted it held
	HeldGuard  = "guard"  // the guard lets nothing out to this address
	HeldFrozen = "frozen" // the account of its subject is frozen
)

// deliveryRow are the columns of a delivery, and of one that has ended.
var deliveryRow = db.Columns[Delivery]{
	db.Text("id", func(r *Delivery) *string { return &r.ID }),
	db.Text("challenge", func(r *Delivery) *string { return &r.Challenge }),
	db.Number("generation", func(r *Delivery) *int { return &r.Generation }),
	db.Text("letter", func(r *Delivery) *string { return &r.Letter }),
	db.Text("locale", func(r *Delivery) *string { return &r.Locale }),
	db.Text("address", func(r *Delivery) *string { return &r.Address }),
	db.Text("name", func(r *Delivery) *string { return &r.Name }),
	db.Text("data", func(r *Delivery) *string { return &r.Data }),
	db.Text("lane", func(r *Delivery) *Lane { return &r.Lane }),
	db.Text("state", func(r *Delivery) *State { return &r.State }),
	db.Time("created", func(r *Delivery) *time.Time { return &r.Created }),
	db.Time("due", func(r *Delivery) *time.Time { return &r.Due }),
	db.Time("deliver_before", func(r *Delivery) *time.Time { return &r.DeliverBefore }),
	db.Count("claim", func(r *Delivery) *int64 { return &r.Claim }),
	db.Text("worker", func(r *Delivery) *string { return &r.Worker }),
	db.Time("claimed", func(r *Delivery) *time.Time { return &r.Claimed }),
	db.Time("free", func(r *Delivery) *time.Time { return &r.Free }),
	db.Number("attempts", func(r *Delivery) *int { return &r.Attempts }),
	db.Number("spent", func(r *Delivery) *int { return &r.Spent }),
	db.Time("ended", func(r *Delivery) *time.Time { return &r.Ended }),
	db.Text("note", func(r *Delivery) *string { return &r.Note }),
	db.Text("zone", func(r *Delivery) *string { return &r.Zone }),
	db.Text("visible", func(r *Delivery) *string { return &r.Visible }),
	db.Text("bundle", func(r *Delivery) *string { return &r.Bundle }),
	db.Number("version", func(r *Delivery) *int { return &r.Version }),
	db.Bool("once", func(r *Delivery) *bool { return &r.Once }),
	db.Text("held_by", func(r *Delivery) *string { return &r.HeldBy }),
	db.Text("app_key", func(r *Delivery) *string { return &r.Key }),
	db.Span("lead", func(r *Delivery) *time.Duration { return &r.Lead }),
	db.Text("collapse", func(r *Delivery) *string { return &r.Collapse }),
	db.Text("fallback", func(r *Delivery) *string { return &r.Fallback }),
	db.Bool("anyway", func(r *Delivery) *bool { return &r.Anyway }),
	db.Text("asked_by", func(r *Delivery) *string { return &r.AskedBy }),
	db.Text("trace", func(r *Delivery) *string { return &r.Trace }),
	db.Text("subject", func(r *Delivery) *string { return &r.Subject }),
	db.Text("medium", func(r *Delivery) *string { return &r.Medium }),
	db.Text("shared", func(r *Delivery) *string { return &r.Shared }),
}

// New adds a delivery, of [Delivery.Fresh].
var New = deliveryRow.Insert("delivery", db.Values{"claim": "0", "worker": "''", "claimed": "0", "attempts": "0",
	"spent": "0", "ended": "0"})

var insertDelivery = db.Q(New.Alone())

// Fresh returns d as it begins: waiting, or held if HeldBy says so.
func (d Delivery) Fresh() Delivery {
	d.State = Waiting
	if d.HeldBy != "" {
		d.State = Held
	}
	if d.Version == 0 {
		d.Version = Version
	}
	return d
}

// InsertDelivery adds a delivery: waiting, or held if HeldBy says so.
func (t Tx) InsertDelivery(ctx context.Context, d Delivery) error {
	_, err := t.Exec(ctx, insertDelivery, New.Args(d.Fresh())...)
	return err
}

var (
	insertCollapsing = db.Q(New.Alone() +
		` ON CONFLICT (collapse) WHERE collapse <> '' AND state = 'waiting' DO NOTHING`)
	selectCollapsing = db.Q(`SELECT id FROM @delivery WHERE collapse = ? AND collapse <> '' AND state = 'waiting'
		@lock()`)
	insertItem = db.Q(`INSERT INTO @item (delivery, id, data) VALUES (?, ?, ?)`)
)

// Join adds d to the delivery that waits under the same collapse key and returns that one's id;
// where none waits, d is inserted and waits for more. item names what d brings.
func (t Tx) Join(ctx context.Context, d Delivery, item string) (id string, err error) {
	for {
		n, err := t.Exec(ctx, insertCollapsing, New.Args(d.Fresh())...)
		if err != nil {
			return "", err
		}
		if id = d.ID; n == 0 {
			id, err = db.One(ctx, t, db.Scalar[string], selectCollapsing, d.Collapse)
			if errors.Is(err, db.ErrNotFound) {
				continue // a worker has just taken it: d begins the next
			}
			if err != nil {
				return "", err
			}
		}
		_, err = t.Exec(ctx, insertItem, id, item, d.Data)
		return id, err
	}
}

var selectItems = db.Q(`SELECT data FROM @item WHERE delivery = ? ORDER BY id LIMIT ?`)

// Items returns what has joined a delivery, at most n, in the order of the ids they were given.
func (s Rows) Items(ctx context.Context, delivery string, n int) ([]string, error) {
	return db.All(ctx, s, db.Scalar[string], selectItems, delivery, n)
}

// One that has been attempted keeps its generation: all its attempts carry the same letter.
var askedAgain = db.Q(`SELECT EXISTS (SELECT 1 FROM @delivery WHERE challenge = ? AND challenge <> '' AND id > ?)
	OR EXISTS (SELECT 1 FROM @ended WHERE challenge = ? AND challenge <> '' AND id > ?)`)

// AskedAgain reports whether there is a later letter of a delivery's challenge, on its way or past it.
func (s Rows) AskedAgain(ctx context.Context, d Delivery) (bool, error) {
	return db.One(ctx, s, db.Scalar[bool], askedAgain, d.Challenge, d.ID, d.Challenge, d.ID)
}

var (
	moveDeliveries = db.Q(`UPDATE @delivery SET ` + moved + ` AND state IN ('waiting', 'held')`)
	moveFanouts    = db.Q(`UPDATE @fanout SET ` + moved)
	readdress      = db.Q(`UPDATE @delivery SET address = ?, locale = ?` + ours)
	thaw           = db.Q(`UPDATE @delivery SET state = 'waiting', held_by = '', note = ''
		WHERE subject = ? AND subject <> '' AND state = 'held' AND held_by = 'frozen'`)
)

// A reminder has its moment for an end; any other notice has as much time as it had.
const moved = `due = CAST(? AS BIGINT) - lead, deliver_before = CASE WHEN lead > 0 THEN CAST(? AS BIGINT)
	WHEN deliver_before > 0 THEN deliver_before + CAST(? AS BIGINT) - due ELSE 0 END
	WHERE app_key = ? AND app_key <> ''`

// Move makes the notices under a key due at another moment, reminders relative to it, and returns how many that were; a
// list that is not expanded yet counts as one.
func (t Tx) Move(ctx context.Context, key string, to time.Time) (int64, error) {
	at := db.Millis(to)
	n, err := t.Exec(ctx, moveDeliveries, at, at, at, key)
	if err != nil {
		return 0, err
	}
	m, err := t.Exec(ctx, moveFanouts, at, at, at, key)
	return n + m, err
}

// Readdress writes the address of a claimed delivery, and its language.
func (s Rows) Readdress(ctx context.Context, d Delivery) error {
	n, err := s.Exec(ctx, readdress, d.Address, d.Locale, d.ID, d.Claim)
	if err == nil && n == 0 {
		err = ErrFenced
	}
	return err
}

// Thaw lets what was held for a frozen account go.
func (t Tx) Thaw(ctx context.Context, subject string) error {
	_, err := t.Exec(ctx, thaw, subject)
	return err
}

var (
	selectDelivery = db.Q(`SELECT ` + deliveryRow.Names() + ` FROM @outbox WHERE id = ?`)
	selectByTail   = db.Q(`SELECT ` + deliveryRow.Names() + ` FROM @outbox WHERE id LIKE ? LIMIT 2`)
)

// Delivery returns the delivery with this id, or [db.ErrNotFound].
func (s Rows) Delivery(ctx context.Context, id string) (Delivery, error) {
	return db.One(ctx, s, deliveryRow.Scan, selectDelivery, id)
}

// DeliveriesByTail returns the delivery whose id ends in tail; two if more than one does.
func (s Rows) DeliveriesByTail(ctx context.Context, tail string) ([]Delivery, error) {
	if strings.ContainsAny(tail, "%_") || len(tail) < 6 {
		return nil, nil
	}
	return db.All(ctx, s, deliveryRow.Scan, selectByTail, "%"+tail)
}
