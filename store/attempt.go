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

	Fixed     time.Time // dates the letter of this and all later attempts
	Signature string    // DKIM-Signature fields of the same
}

// The lock makes it wait for a worker that is recovering the delivery, and then find nothing.
var beginAttempt = q(`INSERT INTO illumicode_attempt (delivery, number, claim, worker, provider, begun, ended, class, code, enhanced, reply, fixed, signature)
	SELECT id, CAST(? AS INTEGER), claim, worker, ?, CAST(? AS BIGINT), 0, '', 0, '', '', CAST(? AS BIGINT), ? FROM illumicode_delivery` + ours + ` FOR UPDATE`)

// BeginAttempt records that an attempt of a claimed delivery begins; once it is committed the
// letter may leave. [ErrFenced] means that the claim is no longer this worker's: nothing may be
// sent.
func (t Tx) BeginAttempt(ctx context.Context, d Delivery, a Attempt) error {
	n, err := t.exec(ctx, beginAttempt, a.Number, a.Provider, millis(a.Begun), millis(d.Fixed), d.Signature, d.ID, d.Claim)
	if err == nil && n == 0 {
		err = ErrFenced
	}
	return err
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
	endAttempt = q(`UPDATE illumicode_attempt SET ended = ?, class = ?, code = ?, enhanced = ?, reply = ?, remote = ?
		WHERE delivery = ? AND number = ? AND ended = 0`)
	putBack = q(`UPDATE illumicode_delivery SET state = ?, worker = '', collapse = CASE WHEN collapse = '' THEN '' ELSE id END, due = CASE WHEN CAST(? AS BIGINT) > 0 THEN CAST(? AS BIGINT) ELSE due END,
		attempts = ?, spent = ?, held_by = ?, note = ?` + ours)

	// Deliveries that were sent are most of all: they leave by the group. A pair is an id and its claim.
	endSent = q(leave(`'{}'`, `'sent'`, `attempts + 1, spent + 1`, `''`) + ` WHERE id IN (SELECT value FROM json_each(?))
		AND state = 'claimed' AND id || ' ' || claim IN (SELECT value FROM json_each(?)) FOR UPDATE`)
	deleteSent = q(`DELETE FROM illumicode_delivery WHERE id IN (SELECT value FROM json_each(?))
		AND state = 'claimed' AND id || ' ' || claim IN (SELECT value FROM json_each(?))`)
)

// EndAttempts records the ends of attempts and what becomes of their deliveries. An attempt's own
// row is written even if the claim was lost meanwhile, since the provider's answer is true
// either way; the delivery is then left to its new claim.
func (t Tx) EndAttempts(ctx context.Context, ends []End) error {
	var ids, pairs []string
	var last time.Time
	for _, e := range ends {
		a := e.Attempt
		if _, err := t.exec(ctx, endAttempt, millis(a.Ended), string(a.Class), a.Code, a.Enhanced, a.Reply, a.Remote, a.Delivery, a.Number); err != nil {
			return err
		}
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
	if err != nil || !ended || e.Fallback == nil {
		return err
	}
	return t.InsertDelivery(ctx, *e.Fallback)
}

// list returns a JSON array, which a query reads with json_each(?).
func list(all []string) string {
	raw, err := json.Marshal(all)
	if err != nil {
		panic(err) // strings always marshal
	}
	return string(raw)
}

var selectAttempts = q(`SELECT delivery, number, claim, worker, provider, begun, ended, class, code, enhanced, reply, remote, fixed, signature
	FROM illumicode_attempt WHERE delivery = ? ORDER BY number`)

// Attempts returns the attempts of a delivery in order.
func (s *Store) Attempts(ctx context.Context, delivery string) ([]Attempt, error) {
	rows, err := s.query(ctx, selectAttempts, delivery)
	return collect(s, rows, err, func(r scanner) (a Attempt, err error) {
		var begun, ended, fixed int64
		err = r.Scan(&a.Delivery, &a.Number, &a.Claim, &a.Worker, &a.Provider, &begun, &ended, &a.Class, &a.Code, &a.Enhanced, &a.Reply, &a.Remote,
			&fixed, &a.Signature)
		a.Begun, a.Ended, a.Fixed = instant(begun), instant(ended), instant(fixed)
		return a, err
	})
}
