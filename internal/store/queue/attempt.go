package queue

import (
	"context"
	"slices"
	"strconv"
	"time"

	"github.com/illumicode/illumicode/internal/core/report"
	"github.com/illumicode/illumicode/internal/store/challenges"
	"github.com/illumicode/illumicode/internal/store/db"
	"github.com/illumicode/illumicode/internal/store/feedback"
	"github.com/illumicode/illumicode/retry"
)

// An Attempt is one try to hand a delivery to a provider: the row.
type Attempt struct {
	Delivery string
	Number   int // from 1
	Claim    int64
	Worker   string
	Provider string // empty where nobody gets the letter: see [Attempt.Withheld]
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

// Withheld is the class of an attempt that went to nobody, as its letter is a decoy's.
const Withheld retry.Class = "withheld"

// Withheld reports whether an attempt went to nobody.
func (a Attempt) Withheld() bool { return a.Provider == "" }

// attemptRow are the columns of an attempt.
var attemptRow = db.Columns[Attempt]{
	db.Text("delivery", func(r *Attempt) *string { return &r.Delivery }),
	db.Number("number", func(r *Attempt) *int { return &r.Number }),
	db.Count("claim", func(r *Attempt) *int64 { return &r.Claim }),
	db.Text("worker", func(r *Attempt) *string { return &r.Worker }),
	db.Text("provider", func(r *Attempt) *string { return &r.Provider }),
	db.Time("begun", func(r *Attempt) *time.Time { return &r.Begun }),
	db.Time("ended", func(r *Attempt) *time.Time { return &r.Ended }),
	db.Text("class", func(r *Attempt) *retry.Class { return &r.Class }),
	db.Number("code", func(r *Attempt) *int { return &r.Code }),
	db.Text("enhanced", func(r *Attempt) *string { return &r.Enhanced }),
	db.Text("reply", func(r *Attempt) *string { return &r.Reply }),
	db.Text("remote", func(r *Attempt) *string { return &r.Remote }),
	db.Time("fixed", func(r *Attempt) *time.Time { return &r.Fixed }),
	db.Text("signature", func(r *Attempt) *string { return &r.Signature }),
	db.Text("route", func(r *Attempt) *string { return &r.Route }),
}

var (
	begun = attemptRow.Pick("delivery", "claim", "number", "provider", "begun", "fixed", "signature", "route")

	// The lock makes it wait for a worker that is recovering a delivery, and then find nothing.
	beginAttempts = db.ListQ(begun, `INSERT INTO @attempt (`+attemptRow.Names()+`)
		SELECT `+attemptRow.From("r", db.Values{"worker": "d.worker", "ended": "0", "class": "''", "code": "0",
		"enhanced": "''", "reply": "''", "remote": "''"})+`
		FROM r JOIN @delivery d ON d.id = r.delivery AND d.claim = r.claim
		WHERE `+db.Filled("r.claim")+` AND `+inHand+` AND `+free("d")+` @lock(d) RETURNING delivery, claim`)
)

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

// claimRow are the columns of a claim.
var claimRow = db.Columns[ClaimKey]{
	db.Text("delivery", func(k *ClaimKey) *string { return &k.Delivery }),
	db.Count("claim", func(k *ClaimKey) *int64 { return &k.Claim }),
}

// ClaimKey returns the claim under which d was claimed.
func (d Delivery) ClaimKey() ClaimKey { return ClaimKey{d.ID, d.Claim} }

// Record records in one transaction that attempts begin, and how others, or some of the same, have ended.
// Once it has returned, letters of the attempts in begun may leave. The other claims are lost
// ([ErrFenced]): nothing may be sent, and an end of the same attempt was not recorded.
//
// An attempt's own row is written even if the claim was lost since it began, as the provider's answer is
// true either way; the delivery is then left to its new claim.
func (s Rows) Record(ctx context.Context, begins []Beginning, ends []End) (begun map[ClaimKey]bool, err error) {
	begun = make(map[ClaimKey]bool, len(begins))
	found := func(rows db.Rows) error {
		all, err := db.Collect(s, rows, claimRow.Scan)
		for _, h := range all {
			begun[h] = true
		}
		return err
	}
	begin := beginStatements(begins, found)
	if shared := s.Sharing(); len(begins) > 0 && shared != "" {
		begin = append([]db.Statement{{Query: shared}}, begin...)
	}
	also := func(e End) bool {
		return slices.ContainsFunc(begins, func(b Beginning) bool { return b.Delivery.ClaimKey() == e.claimKey() })
	}
	if !slices.ContainsFunc(ends, func(e End) bool { return !e.grouped() || e.begins() || also(e) }) {
		return begun, s.ByIndex(ctx, s.Writes, append(begin, endStatements(ends)...)...)
	}
	return begun, s.Write(ctx, func(t Tx) error {
		clear(begun)
		if err := t.Run(ctx, begin...); err != nil {
			return err
		}
		return t.end(ctx, slices.DeleteFunc(slices.Clone(ends), func(e End) bool {
			return also(e) &&
				!begun[e.claimKey()]
		}))
	})
}

// beginStatements returns what records that attempts begin, and gives found those that do.
func beginStatements(all []Beginning, found func(db.Rows) error) []db.Statement {
	rows := make([]Attempt, len(all))
	for i, b := range all {
		a := b.Attempt
		a.Delivery, a.Claim, a.Fixed, a.Signature = b.Delivery.ID, b.Delivery.Claim, b.Delivery.Fixed,
			b.Delivery.Signature
		rows[i] = a
	}
	return beginAttempts.Statements(rows, found)
}

var (
	endUnsent = db.Q(`UPDATE @attempt SET ended = ?, class = ?, reply = ? WHERE delivery = ? AND claim = ?
		AND ended = 0`)
	giveBack = db.Q(`UPDATE @delivery SET state = 'waiting', worker = '', ` + joined + `, due = ?, attempts =
		(SELECT COUNT(*) FROM @attempt a WHERE a.delivery = illumicode_delivery.id)` + ours)
)

// Unbegin gives a delivery back, due at until, whose attempt was not made since the record of its
// begin failed. A commit that fails may have been made nevertheless: what stands of it is ended.
func (s Rows) Unbegin(ctx context.Context, d Delivery, until, now time.Time) error {
	return s.Write(ctx, func(t Tx) error {
		if _, err := t.Exec(ctx, endUnsent, db.Millis(now), string(retry.Transient),
			"nothing was sent, as the begin could not be recorded", d.ID, d.Claim); err != nil {
			return err
		}
		_, err := t.Exec(ctx, giveBack, db.Millis(until), d.ID, d.Claim)
		return err
	})
}

var owns = db.Q(`SELECT EXISTS (SELECT 1 FROM @delivery WHERE id = ? AND claim = ? AND ` + inHand + `)`)

// Owns reports whether a claim still holds.
func (s Rows) Owns(ctx context.Context, d Delivery) (bool, error) {
	return db.One(ctx, s, db.Scalar[bool], owns, d.ID, d.Claim)
}

// An End is what an attempt has led to.
type End struct {
	Attempt Attempt // Delivery, Number, Ended and what the provider answered
	Claim   int64
	State   State // any but Claimed
	Due     time.Time
	Spent   int // attempts that count, this one included if it does
	HeldBy  string
	Note    string
	Then    Sequel // of a final end

	Bundle   string // of the delivery
	Collapse bool   // whether items had joined it

	Challenge  string // whose lives begin, if HandedOver
	Generation int
	HandedOver bool
}

var (
	ending      = attemptRow.Pick("delivery", "number", "ended", "class", "code", "enhanced", "reply", "remote")
	endAttempts = db.ListQ(ending, `UPDATE @attempt SET ended = r.ended, class = r.class, code = r.code,
			enhanced = r.enhanced, reply = r.reply, remote = r.remote
		FROM r WHERE `+db.Filled("r.number")+` AND illumicode_attempt.delivery = r.delivery
			AND illumicode_attempt.number = r.number AND illumicode_attempt.ended = 0`)
	putBack = db.Q(`UPDATE @delivery SET state = ?, worker = '', ` + joined +
		`, due = CASE WHEN CAST(? AS BIGINT) > 0 THEN CAST(? AS BIGINT) ELSE due END,
		attempts = ?, spent = ?, held_by = ?, note = ?` + ours)

	// Deliveries that were sent are most of all, and those that go to nobody cost as much: they leave by the group.
	endSent     = leaveTogether(Sent, `spent + 1`, "")
	endWithheld = leaveTogether(Cancelled, `spent`, "a decoy: nobody is written to")
	deleteGroup = db.ListQ(claimRow, `DELETE FROM @delivery
		WHERE (id, claim) IN (SELECT delivery, claim FROM r WHERE `+db.Filled("r.claim")+`) AND `+inHand)
)

// leaveTogether returns how deliveries leave as a group, to one state.
func leaveTogether(state State, spent, note string) *db.ListQuery[ClaimKey] {
	return db.ListQ(claimRow, leave(db.Values{"data": `'{}'`, "state": `'` + string(state) + `'`,
		"attempts": `attempts + 1`, "spent": spent, "note": `'` + note + `'`})+`, r
		WHERE `+db.Filled("r.claim")+` AND id = r.delivery AND illumicode_delivery.claim = r.claim AND `+inHand+`
		@lock(illumicode_delivery)`)
}

func (e End) claimKey() ClaimKey { return ClaimKey{e.Attempt.Delivery, e.Claim} }

// withheld reports whether the letter of a decoy has ended with it.
func (e End) withheld() bool { return e.State == Cancelled && e.Attempt.Withheld() }

// grouped reports whether the delivery leaves with others: it was sent, or withheld, and nothing hangs on it.
func (e End) grouped() bool {
	return (e.State == Sent || e.withheld()) && e.Bundle == "" && !e.Collapse
}

// begins reports whether a challenge's lives begin with it.
func (e End) begins() bool { return e.HandedOver && e.Challenge != "" }

// endStatements returns what records the ends of attempts, and moves the deliveries that leave as a group.
func endStatements(ends []End) []db.Statement {
	rows := make([]Attempt, len(ends))
	var sent, withheld []ClaimKey
	var last time.Time
	for i, e := range ends {
		rows[i] = e.Attempt
		if !e.grouped() {
			continue
		}
		last = e.Attempt.Ended
		if e.withheld() {
			withheld = append(withheld, e.claimKey())
		} else {
			sent = append(sent, e.claimKey())
		}
	}
	return slices.Concat(endAttempts.Statements(rows, nil), endSent.Statements(sent, nil, db.Millis(last)),
		endWithheld.Statements(withheld, nil, db.Millis(last)),
		deleteGroup.Statements(slices.Concat(sent, withheld), nil))
}

// end records the ends of attempts and what becomes of their deliveries.
func (t Tx) end(ctx context.Context, ends []End) error {
	if err := t.Run(ctx, endStatements(ends)...); err != nil {
		return err
	}
	for _, e := range ends {
		if !e.grouped() {
			if err := t.endOther(ctx, e); err != nil {
				return err
			}
		}
		if e.begins() {
			if err := (challenges.Tx{Tx: t.Tx}).HandedOver(ctx, e.Challenge, e.Generation,
				e.Attempt.Ended); err != nil {
				return err
			}
		}
	}
	return nil
}

func (t Tx) endOther(ctx context.Context, e End) error {
	a := e.Attempt
	if !e.State.Final() {
		_, err := t.Exec(ctx, putBack, string(e.State), db.Millis(e.Due), db.Millis(e.Due), a.Number, e.Spent, e.HeldBy,
			e.Note, a.Delivery, e.Claim)
		return err
	}
	d := Delivery{ID: a.Delivery, Claim: e.Claim, Attempts: a.Number, Spent: e.Spent, Bundle: e.Bundle}
	ended, err := t.endAlone(ctx, d, e.State, e.Note, a.Ended)
	if err != nil || !ended {
		return err
	}
	if a.Class == retry.RecipientRefused {
		if _, err := (feedback.Tx{Tx: t.Tx}).InsertFeedback(ctx, refused(a)); err != nil {
			return err
		}
	}
	return t.follow(ctx, e.Then)
}

// refused returns what a provider has said that refused a letter's recipient. Of an interface that is no
// SMTP server's the class is all there is to go by, and it is lasting.
func refused(a Attempt) feedback.Feedback {
	kind := report.HardBounce
	if a.Enhanced != "" || a.Code/100 == 5 {
		kind = report.Severity(a.Enhanced, a.Code)
	}
	return feedback.Feedback{ID: "attempt " + a.Delivery + " " + strconv.Itoa(a.Number), Source: a.Provider,
		Delivery: a.Delivery, Kind: kind, Status: a.Enhanced, Words: a.Reply, Happened: a.Ended, Taken: a.Ended}
}

var selectAttempts = db.Q(`SELECT ` + attemptRow.Names() + ` FROM @attempt WHERE delivery = ? ORDER BY number`)

// Attempts returns the attempts of a delivery in order.
func (s Rows) Attempts(ctx context.Context, delivery string) ([]Attempt, error) {
	return db.All(ctx, s, attemptRow.Scan, selectAttempts, delivery)
}

var attemptsOn = db.Q(`SELECT ` + attemptRow.Names() + ` FROM @attempt WHERE delivery @listed()
	ORDER BY delivery, number`)

// AttemptsOn returns the attempts of some deliveries in order, by delivery.
func (s Rows) AttemptsOn(ctx context.Context, deliveries []string) (map[string][]Attempt, error) {
	all, err := db.All(ctx, s, attemptRow.Scan, attemptsOn, db.List(deliveries))
	by := make(map[string][]Attempt)
	for _, a := range all {
		by[a.Delivery] = append(by[a.Delivery], a)
	}
	return by, err
}

// A Carried is how many attempts through a provider came to one class.
type Carried struct {
	Provider string
	Class    retry.Class
	Count    int
}

var byProvider = db.Q(`SELECT provider, class, COUNT(*) FROM @attempt WHERE ended > 0 AND provider <> ''
	GROUP BY provider, class ORDER BY provider, class`)

// ByProvider counts the attempts that are kept and went to somebody, by provider and what came of them.
func (s Rows) ByProvider(ctx context.Context) ([]Carried, error) {
	return db.All(ctx, s, func(r db.Scanner) (c Carried, err error) {
		return c, r.Scan(&c.Provider, &c.Class, &c.Count)
	}, byProvider)
}
