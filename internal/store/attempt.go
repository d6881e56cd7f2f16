package store

import (
	"context"
	"encoding/json"
	"slices"
	"time"

	"github.com/illumicode/illumicode/retry"
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

// The lock makes it wait for a worker that is recovering a delivery, and then find nothing.
var beginAttempts = lq(
	`LIST r (delivery TEXT, claim BIGINT, number INTEGER, provider TEXT, begun BIGINT, fixed BIGINT, signature TEXT,
		route TEXT)
	INSERT INTO illumicode_attempt (delivery, number, claim, worker, provider, begun, ended, class, code, enhanced,
	reply, fixed, signature, route)
	SELECT d.id, r.number, d.claim, d.worker, r.provider, r.begun, 0, '', 0, '', '', r.fixed, r.signature, r.route
	FROM r JOIN illumicode_delivery d ON d.id = r.delivery AND d.claim = r.claim
	WHERE ` + filled("r.claim") + ` AND ` + inHand + ` FOR UPDATE OF d RETURNING delivery, claim`)

// Not "= 'claimed'": the partial index of claimed rows would be walked, and where a transaction is
// held open it is full of rows that are claimed no more.
const inHand = `state NOT IN ('waiting', 'held')`

// A Beginning is an attempt about to begin.
type Beginning struct {
	Delivery Delivery // claimed; its Fixed and Signature are kept with its first attempt
	Attempt  Attempt
}

// A ClaimKey is one claim of one delivery. A worker whose lease ran out may have lost a delivery and
// claimed it again: then it has two, of which one is good.
type ClaimKey struct {
	Delivery string
	Claim    int64
}

// ClaimKey returns the claim under which d was claimed.
func (d Delivery) ClaimKey() ClaimKey { return ClaimKey{d.ID, d.Claim} }

// Record records in one transaction that attempts begin, and how others, or some of the same, have ended.
// Once it has returned, letters of the attempts in begun may leave. The other claims are lost
// ([ErrFenced]): nothing may be sent, and an end of the same attempt was not recorded.
//
// An attempt's own row is written even if the claim was lost since it began, as the provider's answer is
// true either way; the delivery is then left to its new claim.
func (s *Store) Record(ctx context.Context, begins []Beginning, ends []End) (begun map[ClaimKey]bool, err error) {
	begun = make(map[ClaimKey]bool, len(begins))
	found := func(rows Rows) error {
		all, err := collect(s, rows, nil, func(r scanner) (h ClaimKey, err error) {
			return h, r.Scan(&h.Delivery, &h.Claim)
		})
		for _, h := range all {
			begun[h] = true
		}
		return err
	}
	begin := beginStatements(begins, found)
	also := func(e End) bool {
		return slices.ContainsFunc(begins, func(b Beginning) bool { return b.Delivery.ClaimKey() == e.claimKey() })
	}
	if !slices.ContainsFunc(ends, func(e End) bool { return !e.grouped() || e.begins() || also(e) }) {
		return begun, s.byIndex(ctx, s.write, append(begin, endStatements(ends)...)...)
	}
	return begun, s.Write(ctx, func(t Tx) error {
		clear(begun)
		if err := t.run(ctx, begin...); err != nil {
			return err
		}
		return t.end(ctx, slices.DeleteFunc(slices.Clone(ends), func(e End) bool {
			return also(e) &&
				!begun[e.claimKey()]
		}))
	})
}

// beginStatements returns what records that attempts begin, and gives found those that do.
func beginStatements(all []Beginning, found func(Rows) error) []Statement {
	rows := make([][]any, len(all))
	for i, b := range all {
		d, a := b.Delivery, b.Attempt
		rows[i] = []any{d.ID, d.Claim, a.Number, a.Provider, millis(a.Begun), millis(d.Fixed), d.Signature, a.Route}
	}
	return beginAttempts.statements(rows, found)
}

var (
	endUnsent = q(
		`UPDATE illumicode_attempt SET ended = ?, class = ?, reply = ? WHERE delivery = ? AND claim = ? AND ended = 0`)
	giveBack = q(`UPDATE illumicode_delivery SET state = 'waiting', worker = '', ` + joined + `, due = ?,
		attempts = (SELECT COUNT(*) FROM illumicode_attempt a WHERE a.delivery = illumicode_delivery.id)` + ours)
)

// Unbegin gives a delivery back, due at until, whose attempt was not made since the record of its
// begin failed. A commit that fails may have been made nevertheless: what stands of it is ended.
func (s *Store) Unbegin(ctx context.Context, d Delivery, until, now time.Time) error {
	return s.Write(ctx, func(t Tx) error {
		if _, err := t.exec(ctx, endUnsent, millis(now), string(retry.Transient),
			"nothing was sent, as the begin could not be recorded", d.ID, d.Claim); err != nil {
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
	endAttempts = lq(
		`LIST r (delivery TEXT, number INTEGER, ended BIGINT, class TEXT, code INTEGER, enhanced TEXT, reply TEXT,
			remote TEXT)
		UPDATE illumicode_attempt SET ended = r.ended, class = r.class, code = r.code, enhanced = r.enhanced, reply =
		r.reply, remote = r.remote
		FROM r WHERE ` + filled("r.number") + ` AND illumicode_attempt.delivery = r.delivery AND
		illumicode_attempt.number = r.number AND illumicode_attempt.ended = 0`)
	putBack = q(`UPDATE illumicode_delivery SET state = ?, worker = '', ` + joined +
		`, due = CASE WHEN CAST(? AS BIGINT) > 0 THEN CAST(? AS BIGINT) ELSE due END,
		attempts = ?, spent = ?, held_by = ?, note = ?` + ours)

	// Deliveries that were sent are most of all: they leave by the group.
	endSent = lq(`LIST r (delivery TEXT, holds BIGINT) ` + leave(`'{}'`, `'sent'`, `attempts + 1, spent + 1`, `''`) +
		`, r
		WHERE ` + filled("r.holds") + ` AND id = r.delivery AND claim = r.holds AND ` + inHand + ` FOR UPDATE OF
		illumicode_delivery`)
	deleteSent = lq(`LIST r (delivery TEXT, holds BIGINT) DELETE FROM illumicode_delivery
		WHERE (id, claim) IN (SELECT delivery, holds FROM r WHERE ` + filled("r.holds") + `) AND ` + inHand)
)

func (e End) claimKey() ClaimKey { return ClaimKey{e.Attempt.Delivery, e.Claim} }

// grouped reports whether the delivery leaves with others: it was sent, and nothing hangs on it.
func (e End) grouped() bool { return e.State == Sent && e.Bundle == "" && !e.Collapse }

// begins reports whether a challenge's lives begin with it.
func (e End) begins() bool { return e.HandedOver && e.Challenge != "" }

// endStatements returns what records the ends of attempts, and moves the deliveries that leave as a group.
func endStatements(ends []End) []Statement {
	rows := make([][]any, len(ends))
	var sent [][]any
	var last time.Time
	for i, e := range ends {
		a := e.Attempt
		rows[i] = []any{a.Delivery, a.Number, millis(a.Ended), string(a.Class), a.Code, a.Enhanced, a.Reply, a.Remote}
		if e.grouped() {
			sent = append(sent, []any{a.Delivery, e.Claim})
			last = a.Ended
		}
	}
	return slices.Concat(endAttempts.statements(rows, nil), endSent.statements(sent, nil, millis(last)),
		deleteSent.statements(sent, nil))
}

// end records the ends of attempts and what becomes of their deliveries.
func (t Tx) end(ctx context.Context, ends []End) error {
	if err := t.run(ctx, endStatements(ends)...); err != nil {
		return err
	}
	for _, e := range ends {
		if !e.grouped() {
			if err := t.endOther(ctx, e); err != nil {
				return err
			}
		}
		if e.begins() {
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
		_, err := t.exec(ctx, putBack, string(e.State), millis(e.Due), millis(e.Due), a.Number, e.Spent, e.HeldBy,
			e.Note, a.Delivery, e.Claim)
		return err
	}
	d := Delivery{ID: a.Delivery, Claim: e.Claim, Attempts: a.Number, Spent: e.Spent, Bundle: e.Bundle}
	ended, err := t.endAlone(ctx, d, e.State, e.Note, a.Ended)
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

const attemptColumns = `delivery, number, claim, worker, provider, begun, ended, class, code, enhanced, reply, remote,
	fixed, signature, route`

func scanAttempt(r scanner) (a Attempt, err error) {
	var begun, ended, fixed int64
	err = r.Scan(&a.Delivery, &a.Number, &a.Claim, &a.Worker, &a.Provider, &begun, &ended, &a.Class, &a.Code,
		&a.Enhanced, &a.Reply, &a.Remote,
		&fixed, &a.Signature, &a.Route)
	a.Begun, a.Ended, a.Fixed = instant(begun), instant(ended), instant(fixed)
	return a, err
}

var selectAttempts = q(`SELECT ` + attemptColumns + ` FROM illumicode_attempt WHERE delivery = ? ORDER BY number`)

// Attempts returns the attempts of a delivery in order.
func (s *Store) Attempts(ctx context.Context, delivery string) ([]Attempt, error) {
	rows, err := s.query(ctx, selectAttempts, delivery)
	return collect(s, rows, err, scanAttempt)
}

// A Carried is how many attempts through a provider came to one class.
type Carried struct {
	Provider string
	Class    retry.Class
	Count    int
}

var byProvider = q(
	`SELECT provider, class, COUNT(*) FROM illumicode_attempt WHERE ended > 0 GROUP BY provider, class ORDER BY
		provider, class`)

// ByProvider counts the attempts that are kept, by provider and what came of them.
func (s *Store) ByProvider(ctx context.Context) ([]Carried, error) {
	rows, err := s.query(ctx, byProvider)
	return collect(s, rows, err, func(r scanner) (c Carried, err error) {
		return c, r.Scan(&c.Provider, &c.Class, &c.Count)
	})
}
