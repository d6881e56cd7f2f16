package store

import (
	"context"
	"strings"
	"time"

	"github.com/illumicode/illumicode/core/retry"
)

// A State is where a delivery is.
type State string

// The states. Waiting and Claimed are on their way; the others are final.
const (
	Waiting   State = "waiting"
	Claimed   State = "claimed"
	Sent      State = "sent"
	Failed    State = "failed"
	Cancelled State = "cancelled" // nobody needs it any more
	Expired   State = "expired"   // its proof died before it could be delivered
)

// States lists all states in the order of a delivery's life.
var States = []State{Waiting, Claimed, Sent, Failed, Cancelled, Expired}

// A Lane is the priority a delivery travels in.
type Lane string

// The lanes, the fastest first.
const (
	Urgent Lane = "urgent"
	Normal Lane = "normal"
	Bulk   Lane = "bulk"
)

// Lanes lists the lanes in the order in which they are served.
var Lanes = []Lane{Urgent, Normal, Bulk}

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

	Claim     int64 // counts claims, and fences writes
	Worker    string
	Claimed   time.Time
	Attempts  int       // begun
	Spent     int       // of these, those that count against the limit
	Fixed     time.Time // dates the letter of every attempt; zero before the first
	Signature string    // DKIM-Signature fields of every attempt; empty before the first, or unsigned
	Ended     time.Time
	Note      string // why it is where it is
}

const deliveryColumns = `id, challenge, generation, letter, locale, address, name, data, lane, state, created, due,
	deliver_before, claim, worker, claimed, attempts, spent, fixed, signature, ended, note, zone, visible, bundle`

func scanDelivery(row scanner) (Delivery, error) {
	var d Delivery
	var created, due, before, claimed, fixed, ended int64
	err := row.Scan(&d.ID, &d.Challenge, &d.Generation, &d.Letter, &d.Locale, &d.Address, &d.Name, &d.Data, &d.Lane, &d.State,
		&created, &due, &before, &d.Claim, &d.Worker, &claimed, &d.Attempts, &d.Spent, &fixed, &d.Signature, &ended, &d.Note, &d.Zone, &d.Visible, &d.Bundle)
	d.Created, d.Due, d.DeliverBefore = instant(created), instant(due), instant(before)
	d.Claimed, d.Fixed, d.Ended = instant(claimed), instant(fixed), instant(ended)
	return d, err
}

var insertDelivery = q(`INSERT INTO illumicode_delivery (` + deliveryColumns + `)
	VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, 'waiting', ?, ?, ?, 0, '', 0, 0, 0, 0, '', 0, '', ?, ?, ?)`)

// InsertDelivery adds a waiting delivery.
func (t Tx) InsertDelivery(ctx context.Context, d Delivery) error {
	_, err := t.exec(ctx, insertDelivery, d.ID, d.Challenge, d.Generation, d.Letter, d.Locale, d.Address, d.Name,
		d.Data, string(d.Lane), millis(d.Created), millis(d.Due), millis(d.DeliverBefore), d.Zone, d.Visible, d.Bundle)
	return err
}

// One that has been attempted keeps its generation: all its attempts carry the same letter.
var bringForward = q(`UPDATE illumicode_delivery SET due = CASE WHEN due > ? THEN ? ELSE due END,
	generation = CASE WHEN fixed = 0 THEN ? ELSE generation END
	WHERE challenge = ? AND challenge <> '' AND state = 'waiting'`)

// BringForward makes the deliveries of a challenge that still wait due at now, and reports
// whether there were any: then a resend needs no second letter.
func (t Tx) BringForward(ctx context.Context, challenge string, generation int, now time.Time) (bool, error) {
	n, err := t.exec(ctx, bringForward, millis(now), millis(now), generation, challenge)
	return n > 0, err
}

var (
	claimLane = q(`UPDATE illumicode_delivery SET state = 'claimed', worker = ?, claim = claim + 1, claimed = ?
		WHERE id IN (SELECT id FROM illumicode_delivery WHERE state = 'waiting' AND lane = ? AND due <= ?
			ORDER BY due, id LIMIT ?) RETURNING ` + deliveryColumns)
	claimOne = q(`UPDATE illumicode_delivery SET state = 'claimed', worker = ?, claim = claim + 1, claimed = ?
		WHERE id = ? AND state = 'waiting' RETURNING ` + deliveryColumns)
)

var anyDue = q(`SELECT EXISTS (SELECT 1 FROM illumicode_delivery WHERE state = 'waiting' AND lane = ? AND due <= ?)`)

// AnyDue reports whether a lane has something due at now: one probe of an index, no lock.
func (s *Store) AnyDue(ctx context.Context, lane Lane, now time.Time) (bool, error) {
	rows, err := s.query(ctx, anyDue, string(lane), millis(now))
	return one(s, rows, err, func(r scanner) (due bool, err error) { return due, r.Scan(&due) })
}

// Claim takes up to n deliveries of a lane that are due at now for a worker, the oldest first.
func (s *Store) Claim(ctx context.Context, worker string, lane Lane, n int, now time.Time) ([]Delivery, error) {
	return change(ctx, s, scanDelivery, claimLane, worker, millis(now), string(lane), millis(now), n)
}

// ClaimOne takes one waiting delivery, due or not. [ErrNotFound] means that it does not wait.
func (s *Store) ClaimOne(ctx context.Context, worker, id string, now time.Time) (Delivery, error) {
	return only(change(ctx, s, scanDelivery, claimOne, worker, millis(now), id))
}

var unclaim = q(`UPDATE illumicode_delivery SET state = 'waiting', worker = '', due = CASE WHEN due > ? THEN due ELSE ? END, note = ?
	WHERE id = ? AND claim = ? AND state = 'claimed'`)

// Unclaim gives a delivery back that was claimed and not attempted, due at until or later.
func (s *Store) Unclaim(ctx context.Context, d Delivery, until time.Time, note string) error {
	_, err := s.exec(ctx, unclaim, millis(until), millis(until), note, d.ID, d.Claim)
	return err
}

var dropDelivery = q(`UPDATE illumicode_delivery SET state = ?, note = ?, ended = ?, data = '{}'
	WHERE id = ? AND claim = ? AND state = 'claimed'`)

// Drop ends a claimed delivery without an attempt.
func (s *Store) Drop(ctx context.Context, d Delivery, state State, note string, now time.Time) error {
	return s.Write(ctx, func(t Tx) error {
		if _, err := t.exec(ctx, dropDelivery, string(state), note, millis(now), d.ID, d.Claim); err != nil {
			return err
		}
		return t.eraseBundle(ctx, d.Bundle)
	})
}

// An Attempt is one try to hand a delivery to a provider: the row.
type Attempt struct {
	Delivery string
	Number   int // from 1
	Claim    int64
	Worker   string
	Provider string
	Begun    time.Time
	Ended    time.Time // zero while it runs, or when its worker died
	Class    retry.Class
	Code     int
	Enhanced string
	Reply    string
	Remote   string // the provider's own id of the letter
}

var (
	beginAttempt = q(`UPDATE illumicode_delivery SET attempts = attempts + 1,
		signature = CASE WHEN fixed = 0 THEN ? ELSE signature END, fixed = CASE WHEN fixed = 0 THEN ? ELSE fixed END
		WHERE id = ? AND claim = ? AND state = 'claimed' AND attempts = ?`)
	insertAttempt = q(`INSERT INTO illumicode_attempt (delivery, number, claim, worker, provider, begun, ended, class, code, enhanced, reply)
		VALUES (?, ?, ?, ?, ?, ?, 0, '', 0, '', '')`)
)

// BeginAttempt records that an attempt of a claimed delivery begins; once it is committed the
// letter may leave. [ErrFenced] means that the claim is no longer this worker's: nothing may be
// sent.
func (t Tx) BeginAttempt(ctx context.Context, d Delivery, a Attempt) error {
	n, err := t.exec(ctx, beginAttempt, d.Signature, millis(d.Fixed), d.ID, d.Claim, a.Number-1)
	if err != nil {
		return err
	}
	if n == 0 {
		return ErrFenced
	}
	_, err = t.exec(ctx, insertAttempt, d.ID, a.Number, d.Claim, a.Worker, a.Provider, millis(a.Begun))
	return err
}

// An End is what an attempt has led to.
type End struct {
	Attempt Attempt // Delivery, Number, Ended and what the provider answered
	Claim   int64
	State   State
	Due     time.Time // for Waiting
	Spent   bool
	Note    string

	Bundle string // of the delivery

	Challenge  string // whose lives begin, if HandedOver
	Generation int
	HandedOver bool
}

var (
	endAttempt = q(`UPDATE illumicode_attempt SET ended = ?, class = ?, code = ?, enhanced = ?, reply = ?, remote = ?
		WHERE delivery = ? AND number = ? AND ended = 0`)
	endDelivery = q(`UPDATE illumicode_delivery SET state = ?, due = CASE WHEN ? > 0 THEN ? ELSE due END, spent = spent + ?,
		note = ?, ended = ?, data = CASE WHEN ? > 0 THEN '{}' ELSE data END
		WHERE id = ? AND claim = ? AND state = 'claimed'`)
)

// EndAttempt records the end of an attempt and what becomes of its delivery. The attempt's own
// row is written even if the claim was lost meanwhile, since the provider's answer is true
// either way; the delivery is then left to its new claim.
func (t Tx) EndAttempt(ctx context.Context, e End) error {
	a := e.Attempt
	if _, err := t.exec(ctx, endAttempt, millis(a.Ended), string(a.Class), a.Code, a.Enhanced, a.Reply, a.Remote, a.Delivery, a.Number); err != nil {
		return err
	}
	var ended int64
	if e.State != Waiting {
		ended = millis(a.Ended)
	}
	if _, err := t.exec(ctx, endDelivery, string(e.State), millis(e.Due), millis(e.Due), flag(e.Spent), e.Note, ended, ended,
		a.Delivery, e.Claim); err != nil {
		return err
	}
	if ended > 0 {
		if err := t.eraseBundle(ctx, e.Bundle); err != nil {
			return err
		}
	}
	if !e.HandedOver || e.Challenge == "" {
		return nil
	}
	return t.HandedOver(ctx, e.Challenge, e.Generation, a.Ended)
}

var (
	selectDelivery = q(`SELECT ` + deliveryColumns + ` FROM illumicode_delivery WHERE id = ?`)
	selectByTail   = q(`SELECT ` + deliveryColumns + ` FROM illumicode_delivery WHERE id LIKE ? LIMIT 2`)
	selectAttempts = q(`SELECT delivery, number, claim, worker, provider, begun, ended, class, code, enhanced, reply, remote
		FROM illumicode_attempt WHERE delivery = ? ORDER BY number`)
	selectList = q(`SELECT ` + deliveryColumns + ` FROM illumicode_delivery WHERE (? = '' OR state = ?) AND id < ?
		ORDER BY id DESC LIMIT ?`)
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

// Attempts returns the attempts of a delivery in order.
func (s *Store) Attempts(ctx context.Context, delivery string) ([]Attempt, error) {
	rows, err := s.query(ctx, selectAttempts, delivery)
	return collect(s, rows, err, func(r scanner) (a Attempt, err error) {
		var begun, ended int64
		err = r.Scan(&a.Delivery, &a.Number, &a.Claim, &a.Worker, &a.Provider, &begun, &ended, &a.Class, &a.Code, &a.Enhanced, &a.Reply, &a.Remote)
		a.Begun, a.Ended = instant(begun), instant(ended)
		return a, err
	})
}

// List returns up to n deliveries, the newest first: those in state, or in any if it is empty,
// and older than the id before, if that is not empty.
func (s *Store) List(ctx context.Context, state State, before string, n int) ([]Delivery, error) {
	if before == "" {
		before = "~" // after every hexadecimal digit
	}
	rows, err := s.query(ctx, selectList, string(state), string(state), before, n)
	return collect(s, rows, err, scanDelivery)
}
