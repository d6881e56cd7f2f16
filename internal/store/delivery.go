package store

import (
	"context"
	"errors"
	"strings"
	"time"
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
	Cancelled  State = "cancelled"  // nobody needs it any more
	Expired    State = "expired"    // its time was over before it could be delivered
	Suppressed State = "suppressed" // its reader does not want such letters
)

// States lists all states in the order of a delivery's life.
var States = []State{Held, Waiting, Claimed, Sent, Failed, Cancelled, Expired, Suppressed}

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
	Lane       Lane
	State      State
	Zone       string // the reader's, IANA; empty means UTC
	Visible    string // JSON of what the header shows besides the address; empty for nothing
	Bundle     string // of deliveries of one letter, and its attachments; empty for none

	Created       time.Time
	Due           time.Time
	DeliverBefore time.Time // zero means no deadline

	Version  int           // of the row's meaning; 0 means Version when it is inserted
	Once     bool          // at most once: after an ambiguous attempt it is held
	HeldBy   string        // see the constants; empty unless State is Held, or to be inserted as such
	Key      string        // the application's, to move or cancel by; empty for none
	Lead     time.Duration // of a reminder: how long before its moment it is due
	Collapse string        // further notices under this key join it while it waits
	Fallback string        // the address to try when this one has failed; empty for none
	AskedBy  string        // what asked for it, in words; of a letter sent again [SentAgain] and who
	Trace    string        // W3C traceparent of the request; empty for none

	Claim    int64 // counts claims, and fences writes
	Worker   string
	Claimed  time.Time
	Attempts int // begun
	Spent    int // of these, those that count against the limit
	Ended    time.Time
	Note     string // why it is where it is

	// What the first attempt fixed for all: not in the row, but with that attempt.
	Fixed     time.Time // dates the letter
	Signature string    // DKIM-Signature fields
}

// What can hold a delivery, besides a pause ([Pause.HeldBy]).
const (
	HeldAsked  = "asked"        // who enqueued it, or an operator, wanted it held
	HeldGuard  = "guard"        // the guard lets nothing out to this address
	HeldUnsure = "perhaps sent" // at most once, and its attempt ended without an answer
)

const deliveryColumns = `id, challenge, generation, letter, locale, address, name, data, lane, state, created, due,
	deliver_before, claim, worker, claimed, attempts, spent, ended, note, zone, visible, bundle, version, once,
	held_by, app_key,
	lead, collapse, fallback, asked_by, trace`

func scanDelivery(row scanner) (Delivery, error) {
	var d Delivery
	var created, due, before, claimed, ended, lead, once int64
	err := row.Scan(&d.ID, &d.Challenge, &d.Generation, &d.Letter, &d.Locale, &d.Address, &d.Name, &d.Data, &d.Lane,
		&d.State,
		&created, &due, &before, &d.Claim, &d.Worker, &claimed, &d.Attempts, &d.Spent, &ended, &d.Note, &d.Zone,
		&d.Visible, &d.Bundle,
		&d.Version, &once, &d.HeldBy, &d.Key, &lead, &d.Collapse, &d.Fallback, &d.AskedBy, &d.Trace)
	d.Created, d.Due, d.DeliverBefore = instant(created), instant(due), instant(before)
	d.Claimed, d.Ended, d.Lead, d.Once = instant(claimed), instant(ended), time.Duration(lead)*time.Millisecond,
		once != 0
	return d, err
}

var deliveryInsert = insert{into: `INSERT INTO illumicode_delivery (` + deliveryColumns + `)`,
	values: `?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 0, '', 0, 0, 0, 0, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?`}

var insertDelivery = q(deliveryInsert.alone())

// state returns the state that a new delivery begins in.
func (d Delivery) state() State {
	if d.HeldBy != "" {
		return Held
	}
	return Waiting
}

func (d Delivery) version() int {
	if d.Version == 0 {
		return Version
	}
	return d.Version
}

func (d Delivery) values() []any {
	return []any{d.ID, d.Challenge, d.Generation, d.Letter, d.Locale, d.Address, d.Name, d.Data, string(d.Lane),
		string(d.state()),
		millis(d.Created), millis(d.Due), millis(d.DeliverBefore), d.Note, d.Zone, d.Visible, d.Bundle, d.version(),
		flag(d.Once),
		d.HeldBy, d.Key, d.Lead.Milliseconds(), d.Collapse, d.Fallback, d.AskedBy, d.Trace}
}

// InsertDelivery adds a delivery: waiting, or held if HeldBy says so.
func (t Tx) InsertDelivery(ctx context.Context, d Delivery) error {
	_, err := t.exec(ctx, insertDelivery, d.values()...)
	return err
}

var (
	insertCollapsing = q(deliveryInsert.alone() +
		` ON CONFLICT (collapse) WHERE collapse <> '' AND state = 'waiting' DO NOTHING`)
	selectCollapsing = q(`SELECT id FROM illumicode_delivery WHERE collapse = ? AND state = 'waiting' FOR UPDATE`)
	insertItem       = q(`INSERT INTO illumicode_item (delivery, id, data) VALUES (?, ?, ?)`)
)

// Join adds d to the delivery that waits under the same collapse key and returns that one's id;
// where none waits, d is inserted and waits for more. item names what d brings.
func (t Tx) Join(ctx context.Context, d Delivery, item string) (id string, err error) {
	for {
		n, err := t.exec(ctx, insertCollapsing, d.values()...)
		if err != nil {
			return "", err
		}
		if id = d.ID; n == 0 {
			rows, err := t.query(ctx, selectCollapsing, d.Collapse)
			id, err = one(t.s, rows, err, scanText)
			if errors.Is(err, ErrNotFound) {
				continue // a worker has just taken it: d begins the next
			}
			if err != nil {
				return "", err
			}
		}
		_, err = t.exec(ctx, insertItem, id, item, d.Data)
		return id, err
	}
}

var selectItems = q(`SELECT data FROM illumicode_item WHERE delivery = ? ORDER BY id LIMIT ?`)

// Items returns what has joined a delivery, at most n, in the order of the ids they were given.
func (s *Store) Items(ctx context.Context, delivery string, n int) ([]string, error) {
	rows, err := s.query(ctx, selectItems, delivery, n)
	return collect(s, rows, err, scanText)
}

// One that has been attempted keeps its generation: all its attempts carry the same letter.
var bringForward = q(`UPDATE illumicode_delivery SET due = CASE WHEN due > ? THEN ? ELSE due END,
	generation = CASE WHEN attempts = 0 THEN ? ELSE generation END
	WHERE challenge = ? AND challenge <> '' AND state = 'waiting'`)

// BringForward makes the deliveries of a challenge that still wait due at now, and reports
// whether there were any: then a resend needs no second letter.
func (t Tx) BringForward(ctx context.Context, challenge string, generation int, now time.Time) (bool, error) {
	n, err := t.exec(ctx, bringForward, millis(now), millis(now), generation, challenge)
	return n > 0, err
}

var (
	moveDeliveries = q(
		`UPDATE illumicode_delivery SET due = CAST(? AS BIGINT) - lead, deliver_before = CAST(? AS BIGINT)
		WHERE app_key = ? AND app_key <> '' AND lead > 0 AND state IN ('waiting', 'held')`)
	moveFanouts = q(`UPDATE illumicode_fanout SET due = CAST(? AS BIGINT) - lead, deliver_before = CAST(? AS BIGINT)
		WHERE app_key = ? AND app_key <> '' AND lead > 0`)
)

// Move makes the reminders under a key due relative to another moment, and returns how many that
// were; a list that is not expanded yet counts as one.
func (t Tx) Move(ctx context.Context, key string, to time.Time) (int64, error) {
	n, err := t.exec(ctx, moveDeliveries, millis(to), millis(to), key)
	if err != nil {
		return 0, err
	}
	m, err := t.exec(ctx, moveFanouts, millis(to), millis(to), key)
	return n + m, err
}

var (
	selectDelivery = q(`SELECT ` + deliveryColumns + ` FROM illumicode_outbox WHERE id = ?`)
	selectByTail   = q(`SELECT ` + deliveryColumns + ` FROM illumicode_outbox WHERE id LIKE ? LIMIT 2`)
)

// Delivery returns the delivery with this id, or [ErrNotFound].
func (s *Store) Delivery(ctx context.Context, id string) (Delivery, error) {
	rows, err := s.query(ctx, selectDelivery, id)
	return one(s, rows, err, scanDelivery)
}

// DeliveriesByTail returns the delivery whose id ends in tail; two if more than one does.
func (s *Store) DeliveriesByTail(ctx context.Context, tail string) ([]Delivery, error) {
	if strings.ContainsAny(tail, "%_") || len(tail) < 6 {
		return nil, nil
	}
	rows, err := s.query(ctx, selectByTail, "%"+tail)
	return collect(s, rows, err, scanDelivery)
}

func scanText(r scanner) (v string, err error) { return v, r.Scan(&v) }
func scanInt(r scanner) (v int64, err error)   { return v, r.Scan(&v) }
