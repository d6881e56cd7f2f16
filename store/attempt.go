package store

import (
	"context"
	"encoding/json"
	"strconv"
	"time"

	"github.com/illumicode/illumicode/core/retry"
)

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
	Route    string // why this provider, and why no other; empty where there is one only

	Fixed     time.Time // dates the letter of this and all later attempts
	Signature string    // DKIM-Signature fields of the same
}

// The attempts come as a list of rows, so that a group costs one statement. The lock makes it wait
// for a worker that is recovering a delivery, and then find nothing.
var beginAttempts = q(`INSERT INTO illumicode_attempt (delivery, number, claim, worker, provider, begun, ended, class, code, enhanced, reply, fixed, signature, route)
	SELECT d.id, CAST(r.value ->> 2 AS INTEGER), d.claim, d.worker, r.value ->> 3, CAST(r.value ->> 4 AS BIGINT), 0, '', 0, '', '',
		CAST(r.value ->> 5 AS BIGINT), r.value ->> 6, r.value ->> 7
	FROM json_each(?) AS r JOIN illumicode_delivery d ON d.id = r.value ->> 0 AND d.claim = CAST(r.value ->> 1 AS BIGINT)
	WHERE d.id IN (SELECT value FROM json_each(?)) AND ` + inHand + ` FOR UPDATE OF d RETURNING delivery, claim`)

// Not "= 'claimed'": the partial index of claimed rows would be walked, and where a transaction is
// held open it is full of rows that are claimed no more.
const inHand = `state NOT IN ('waiting', 'held')`

// A Beginning is an attempt about to begin.
type Beginning struct {
	Delivery Delivery // claimed; its Fixed and Signature are kept with its first attempt
	Attempt  Attempt
}

// A Hold is one claim of one delivery. A worker whose lease ran out may have lost a delivery and
// claimed it again: then it has two, of which one is good.
type Hold struct {
	Delivery string
	Claim    int64
}

// Hold returns the claim under which d was claimed.
func (d Delivery) Hold() Hold { return Hold{d.ID, d.Claim} }

// BeginAttempts records that attempts of claimed deliveries begin; once it is committed the
// letters may leave. Those that it does not return have lost their claim ([ErrFenced]): nothing
// may be sent.
func (t Tx) BeginAttempts(ctx context.Context, all []Beginning) (begun map[Hold]bool, err error) {
	if len(all) == 0 {
		return nil, nil
	}
	found, err := t.query(ctx, beginAttempts, beginRows(all)...)
	return set(collect(t.s, found, err, scanHold))
}

// BeginAttempts is [Tx.BeginAttempts] as a transaction of its own, which is one statement.
func (s *Store) BeginAttempts(ctx context.Context, all []Beginning) (begun map[Hold]bool, err error) {
	return set(change(ctx, s, scanHold, beginAttempts, beginRows(all)...))
}

func scanHold(r scanner) (h Hold, err error) { return h, r.Scan(&h.Delivery, &h.Claim) }

func set(holds []Hold, err error) (map[Hold]bool, error) {
	m := make(map[Hold]bool, len(holds))
	for _, h := range holds {
		m[h] = true
	}
	return m, err
}

// beginRows returns the arguments of the statement: the attempts, and whose they are.
func beginRows(all []Beginning) []any {
	rows, names := make([][]any, len(all)), make([]string, len(all))
	for i, b := range all {
		d, a := b.Delivery, b.Attempt
		names[i] = d.ID
		rows[i] = []any{d.ID, d.Claim, a.Number, a.Provider, millis(a.Begun), millis(d.Fixed), d.Signature, a.Route}
	}
	return []any{list(rows), list(names)}
}

var (
	endUnsent = q(`UPDATE illumicode_attempt SET ended = ?, class = ?, reply = ? WHERE delivery = ? AND claim = ? AND ended = 0`)
	giveBack  = q(`UPDATE illumicode_delivery SET state = 'waiting', worker = '', ` + joined + `, due = ?,
		attempts = (SELECT COUNT(*) FROM illumicode_attempt a WHERE a.delivery = illumicode_delivery.id)` + ours)
)

// Unbegin gives a delivery back, due at until, whose attempt was not made since the record of its
// begin failed. A commit that fails may have been made nevertheless: what stands of it is ended.
func (s *Store) Unbegin(ctx context.Context, d Delivery, until, now time.Time) error {
	return s.Write(ctx, func(t Tx) error {
		if _, err := t.exec(ctx, endUnsent, millis(now), string(retry.Transient), "nothing was sent, as the begin could not be recorded", d.ID, d.Claim); err != nil {
			return err
		}
		_, err := t.exec(ctx, giveBack, millis(until), d.ID, d.Claim)
		return err
	})
}

// An End is what an attempt has led to.
type End struct {
	Attempt  Attempt // Delivery, Number, Ended and what the provider answered
	Claim    int64
	State    State // any but Claimed
	Due      time.Time
	Spent    int // attempts that count, this one included if it does
	HeldBy   string
	Note     string
	Fallback *Delivery // to be inserted with a final end; nil for none

	Bundle   string // of the delivery
	Collapse bool   // whether items had joined it

	Challenge  string // whose lives begin, if HandedOver
	Generation int
	HandedOver bool
}

var (
	endAttempts = q(`UPDATE illumicode_attempt SET ended = CAST(r.value ->> 2 AS BIGINT), class = r.value ->> 3, code = CAST(r.value ->> 4 AS INTEGER),
		enhanced = r.value ->> 5, reply = r.value ->> 6, remote = r.value ->> 7
		FROM json_each(?) AS r WHERE delivery IN (SELECT value FROM json_each(?)) AND delivery = r.value ->> 0 AND number = CAST(r.value ->> 1 AS INTEGER) AND ended = 0`)
	putBack = q(`UPDATE illumicode_delivery SET state = ?, worker = '', ` + joined + `, due = CASE WHEN CAST(? AS BIGINT) > 0 THEN CAST(? AS BIGINT) ELSE due END,
		attempts = ?, spent = ?, held_by = ?, note = ?` + ours)

	// Deliveries that were sent are most of all: they leave by the group. A pair is an id and its claim.
	endSent = q(leave(`'{}'`, `'sent'`, `attempts + 1, spent + 1`, `''`) + ` WHERE id IN (SELECT value FROM json_each(?))
		AND ` + inHand + ` AND id || ' ' || claim IN (SELECT value FROM json_each(?)) FOR UPDATE`)
	deleteSent = q(`DELETE FROM illumicode_delivery WHERE id IN (SELECT value FROM json_each(?))
		AND ` + inHand + ` AND id || ' ' || claim IN (SELECT value FROM json_each(?))`)
)

// EndAttempts records the ends of attempts and what becomes of their deliveries. An attempt's own
// row is written even if the claim was lost meanwhile, since the provider's answer is true
// either way; the delivery is then left to its new claim.
func (t Tx) EndAttempts(ctx context.Context, ends []End) error {
	if len(ends) == 0 {
		return nil
	}
	rows, names := make([][]any, len(ends)), make([]string, len(ends))
	for i, e := range ends {
		a := e.Attempt
		names[i] = a.Delivery
		rows[i] = []any{a.Delivery, a.Number, millis(a.Ended), string(a.Class), a.Code, a.Enhanced, a.Reply, a.Remote}
	}
	if _, err := t.exec(ctx, endAttempts, list(rows), list(names)); err != nil {
		return err
	}
	var ids, pairs []string
	var last time.Time
	for _, e := range ends {
		a := e.Attempt
		if e.State == Sent && e.Bundle == "" && !e.Collapse {
			ids, pairs = append(ids, a.Delivery), append(pairs, a.Delivery+" "+strconv.FormatInt(e.Claim, 10))
			last = a.Ended
		} else if err := t.endOther(ctx, e); err != nil {
			return err
		}
	}
	if len(ids) > 0 {
		idList, pairList := list(ids), list(pairs)
		if _, err := t.exec(ctx, endSent, millis(last), idList, pairList); err != nil {
			return err
		}
		if _, err := t.exec(ctx, deleteSent, idList, pairList); err != nil {
			return err
		}
	}
	for _, e := range ends {
		if e.HandedOver && e.Challenge != "" {
			if err := t.HandedOver(ctx, e.Challenge, e.Generation, e.Attempt.Ended); err != nil {
				return err
			}
		}
	}
	return nil
}

func (t Tx) endOther(ctx context.Context, e End) error {
	a := e.Attempt
	if !e.State.Final() {
		_, err := t.exec(ctx, putBack, string(e.State), millis(e.Due), millis(e.Due), a.Number, e.Spent, e.HeldBy, e.Note, a.Delivery, e.Claim)
		return err
	}
	ended, err := t.end(ctx, a.Delivery, e.Claim, a.Number, e.Spent, e.State, e.Note, e.Bundle, a.Ended)
	if err != nil || !ended {
		return err
	}
	if a.Class == retry.RecipientRefused {
		if _, err := t.InsertFeedback(ctx, refused(a)); err != nil {
			return err
		}
	}
	if e.Fallback == nil {
		return nil
	}
	return t.InsertDelivery(ctx, *e.Fallback)
}

// list returns a JSON array, which a query reads with json_each(?).
func list[T any](all []T) string {
	if all == nil {
		return "[]"
	}
	raw, err := json.Marshal(all)
	if err != nil {
		panic(err) // strings and numbers always marshal
	}
	return string(raw)
}

var selectAttempts = q(`SELECT delivery, number, claim, worker, provider, begun, ended, class, code, enhanced, reply, remote, fixed, signature, route
	FROM illumicode_attempt WHERE delivery = ? ORDER BY number`)

// Attempts returns the attempts of a delivery in order.
func (s *Store) Attempts(ctx context.Context, delivery string) ([]Attempt, error) {
	rows, err := s.query(ctx, selectAttempts, delivery)
	return collect(s, rows, err, func(r scanner) (a Attempt, err error) {
		var begun, ended, fixed int64
		err = r.Scan(&a.Delivery, &a.Number, &a.Claim, &a.Worker, &a.Provider, &begun, &ended, &a.Class, &a.Code, &a.Enhanced, &a.Reply, &a.Remote,
			&fixed, &a.Signature, &a.Route)
		a.Begun, a.Ended, a.Fixed = instant(begun), instant(ended), instant(fixed)
		return a, err
	})
}

// A Carried is how many attempts through a provider came to one class.
type Carried struct {
	Provider string
	Class    retry.Class
	Count    int
}

var byProvider = q(`SELECT provider, class, COUNT(*) FROM illumicode_attempt WHERE ended > 0 GROUP BY provider, class ORDER BY provider, class`)

// ByProvider counts the attempts that are kept, by provider and what came of them.
func (s *Store) ByProvider(ctx context.Context) ([]Carried, error) {
	rows, err := s.query(ctx, byProvider)
	return collect(s, rows, err, func(r scanner) (c Carried, err error) { return c, r.Scan(&c.Provider, &c.Class, &c.Count) })
}
