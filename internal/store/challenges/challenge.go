package challenges

import (
	"context"
	"time"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/internal/store/addresses"
	"github.com/illumicode/illumicode/internal/store/db"
)

// A Challenge is the row of one proof of address: what the decisions need, and what its letters
// need besides.
type Challenge struct {
	proof.Challenge

	Name    string // display name
	Locale  string
	Kid     string
	Ticket  string // digest
	Letter  string // what carries the proof
	Data    string // JSON: what the letter says besides
	Mailbox string // message.Address.Mailbox
	Browser string // of a known browser: its id
	Device  string // what the browser that began calls itself
	Bound   string // keyed digest of what the challenge is, made at its beginning
	Heard   bool   // the service that began it hears of its lapse
	Sealed  string // what an account will be made of; empty where it is there, and when this has ended
	Made    string // the subject of the account that was made
	Origin  string // the challenge whose letter let another browser begin this one

	Proved   time.Time
	ProvedBy challenge.Form
	Accepted time.Time
}

// challengeRow are the columns of a challenge.
var challengeRow = db.Columns[Challenge]{
	db.Text("id", func(r *Challenge) *string { return &r.ID }),
	db.Text("purpose", func(r *Challenge) *string { return &r.Purpose }),
	db.Text("subject", func(r *Challenge) *string { return &r.Subject }),
	db.Text("address", func(r *Challenge) *string { return &r.Address }),
	db.Text("name", func(r *Challenge) *string { return &r.Name }),
	db.Text("locale", func(r *Challenge) *string { return &r.Locale }),
	db.Text("kid", func(r *Challenge) *string { return &r.Kid }),
	db.Text("ticket", func(r *Challenge) *string { return &r.Ticket }),
	db.Text("state", func(r *Challenge) *proof.State { return &r.State }),
	db.Bool("decoy", func(r *Challenge) *bool { return &r.Decoy }),
	db.Time("created", func(r *Challenge) *time.Time { return &r.Created }),
	db.Time("ends", func(r *Challenge) *time.Time { return &r.Ends }),
	db.Span("code_life", func(r *Challenge) *time.Duration { return &r.CodeLife }),
	db.Span("link_life", func(r *Challenge) *time.Duration { return &r.LinkLife }),
	db.Number("digits", func(r *Challenge) *int { return &r.Digits }),
	db.Number("tries", func(r *Challenge) *int { return &r.Tries }),
	db.Number("tries_allowed", func(r *Challenge) *int { return &r.TriesAllowed }),
	db.Number("generation", func(r *Challenge) *int { return &r.Generation }),
	db.Time("code_from", func(r *Challenge) *time.Time { return &r.CodeFrom }),
	db.Time("previous_until", func(r *Challenge) *time.Time { return &r.PreviousUntil }),
	db.Time("link_from", func(r *Challenge) *time.Time { return &r.LinkFrom }),
	db.Number("resends", func(r *Challenge) *int { return &r.Resends }),
	db.Time("resend_after", func(r *Challenge) *time.Time { return &r.ResendAfter }),
	db.Text("letter", func(r *Challenge) *string { return &r.Letter }),
	db.Text("data", func(r *Challenge) *string { return &r.Data }),
	db.Text("forms", func(r *Challenge) *challenge.Forms { return &r.Forms }),
	db.Text("action", func(r *Challenge) *string { return &r.Action }),
	db.Text("mailbox", func(r *Challenge) *string { return &r.Mailbox }),
	db.Text("browser", func(r *Challenge) *string { return &r.Browser }),
	db.Text("device", func(r *Challenge) *string { return &r.Device }),
	db.Text("bound", func(r *Challenge) *string { return &r.Bound }),
	db.Bool("heard", func(r *Challenge) *bool { return &r.Heard }),
	db.Text("sealed", func(r *Challenge) *string { return &r.Sealed }),
	db.Text("made", func(r *Challenge) *string { return &r.Made }),
	db.Text("origin", func(r *Challenge) *string { return &r.Origin }),
	db.Time("sent", func(r *Challenge) *time.Time { return &r.Sent }),
	db.Text("typed", func(r *Challenge) *string { return &r.Typed }),
	db.Text("why", func(r *Challenge) *string { return &r.Why }),
	db.Time("tried", func(r *Challenge) *time.Time { return &r.Tried }),
	db.Time("proved", func(r *Challenge) *time.Time { return &r.Proved }),
	db.Text("proved_by", func(r *Challenge) *challenge.Form { return &r.ProvedBy }),
	db.Time("accepted", func(r *Challenge) *time.Time { return &r.Accepted }),
}

// New adds a challenge. An admission begins one: a second one with its id has no effect.
var New = challengeRow.Insert("challenge", db.Values{"why": "''", "tried": "0", "proved": "0", "proved_by": "''",
	"accepted": "0"}).OrNothing("id")

// StepOf returns a line about a challenge.
func (c Challenge) StepOf(what, outcome, network string, now time.Time) addresses.Step {
	return addresses.Step{Challenge: c.ID, Subject: c.Subject, Mailbox: c.Mailbox, At: now, What: what,
		Outcome: outcome,
		Network: network}
}

var (
	selectChallenge = db.Q(`SELECT ` + challengeRow.Names() + ` FROM @challenge WHERE id = ?`)
	lockChallenge   = db.Q(`SELECT ` + challengeRow.Names() + ` FROM @challenge WHERE id = ? @lock()`)
	selectByTicket  = db.Q(`SELECT ` + challengeRow.Names() + ` FROM @challenge WHERE ticket = ?`)
	selectOpen      = db.Q(`SELECT ` + challengeRow.Names() + ` FROM @challenge
		WHERE subject = ? AND purpose = ? AND state = 'open' ORDER BY created DESC LIMIT 1`)
	selectLately = db.Q(`SELECT ` + challengeRow.Names() + ` FROM @challenge
		WHERE mailbox = ? AND purpose = ? AND ends > ? AND why <> 'superseded' ORDER BY created`)
)

var (
	selectOpenAt = db.Q(`SELECT ` + challengeRow.Names() + ` FROM @challenge
		WHERE mailbox = ? AND state = 'open' AND ends > ? AND decoy = 0 ORDER BY created DESC LIMIT 1`)
	selectBegunBy = db.Q(`SELECT ` + challengeRow.Names() + ` FROM @challenge WHERE origin = ? AND origin <> ''
		ORDER BY created`)
	selectBegun = db.Q(`SELECT id FROM @challenge WHERE id @listed()`)
)

// OpenAt returns the newest open challenge at a mailbox that can still be proven at now, or
// [db.ErrNotFound].
func (s Rows) OpenAt(ctx context.Context, mailbox string, now time.Time) (Challenge, error) {
	return db.One(ctx, s, challengeRow.Scan, selectOpenAt, mailbox, db.Millis(now))
}

// Begun returns which of some challenges exist.
func (s Rows) Begun(ctx context.Context, ids []string) (map[string]bool, error) {
	found, err := db.All(ctx, s, db.Scalar[string], selectBegun, db.List(ids))
	m := make(map[string]bool, len(found))
	for _, id := range found {
		m[id] = true
	}
	return m, err
}

// Challenge returns the challenge with this id, or [db.ErrNotFound].
func (s Rows) Challenge(ctx context.Context, id string) (Challenge, error) {
	return db.One(ctx, s, challengeRow.Scan, selectChallenge, id)
}

// ChallengeOf is [Rows.Challenge] in a transaction.
func (t Tx) ChallengeOf(ctx context.Context, id string) (Challenge, error) {
	return db.One(ctx, t, challengeRow.Scan, selectChallenge, id)
}

// ChallengeByTicket returns the challenge whose ticket has this digest, or [db.ErrNotFound].
func (s Rows) ChallengeByTicket(ctx context.Context, digest string) (Challenge, error) {
	return db.One(ctx, s, challengeRow.Scan, selectByTicket, digest)
}

// OpenChallenge returns the newest open challenge of a subject, expired or not, or [db.ErrNotFound].
func (s Rows) OpenChallenge(ctx context.Context, subject, purpose string) (Challenge, error) {
	return db.One(ctx, s, challengeRow.Scan, selectOpen, subject, purpose)
}

var (
	reseal      = db.Q(`UPDATE @challenge SET sealed = ? WHERE id = ? AND state = 'open'`)
	madeOf      = db.Q(`UPDATE @challenge SET sealed = '', made = ? WHERE id = ?`)
	registering = db.Q(`SELECT ` + challengeRow.Names() + ` FROM @challenge WHERE mailbox = ? AND state = 'open'
		AND sealed <> '' AND decoy = 0 @lock()`)
)

// Reseal puts what an account will be made of into an open challenge.
func (t Tx) Reseal(ctx context.Context, id, sealed string) error {
	_, err := t.Exec(ctx, reseal, sealed, id)
	return err
}

// MadeOf says which account was made of what a challenge had sealed, which is removed.
func (t Tx) MadeOf(ctx context.Context, id, subject string) error {
	_, err := t.Exec(ctx, madeOf, subject, id)
	return err
}

// Registering returns the open challenges at a mailbox that an account will be made of, locked.
func (t Tx) Registering(ctx context.Context, mailbox string) ([]Challenge, error) {
	return db.All(ctx, t, challengeRow.Scan, registering, mailbox)
}

// BegunBy returns the challenges that the letter of another has let browsers begin.
func (t Tx) BegunBy(ctx context.Context, origin string) ([]Challenge, error) {
	return db.All(ctx, t, challengeRow.Scan, selectBegunBy, origin)
}

// Lately returns the challenges of a purpose at a mailbox whose cap is not over at now, whatever has
// become of them, the oldest first; but for those whose own browser began another.
func (t Tx) Lately(ctx context.Context, mailbox, purpose string, now time.Time) ([]Challenge, error) {
	return db.All(ctx, t, challengeRow.Scan, selectLately, mailbox, purpose, db.Millis(now))
}

// lettersByNetwork are those that browsers which are not known have asked for, but for what an account asks for itself.
var lettersByNetwork = db.Q(`SELECT t.network, COUNT(*) FROM @trail t JOIN @challenge c ON c.id = t.challenge
	WHERE t.mailbox = ? AND t.at > ? AND t.what IN ('begun', 'resent') AND t.network <> '' AND c.browser = ''
	AND c.purpose NOT IN ('stepup', 'reverify') GROUP BY t.network`)

// LettersByNetwork returns how many letters strangers have asked for at a mailbox since an instant, by the network that
// asked.
func (s Rows) LettersByNetwork(ctx context.Context, mailbox string, since time.Time) (map[string]int, error) {
	return byNetwork(db.All(ctx, s, scanNetwork, lettersByNetwork, mailbox, db.Millis(since)))
}

// LettersByNetwork is the same in a transaction.
func (t Tx) LettersByNetwork(ctx context.Context, mailbox string, since time.Time) (map[string]int, error) {
	return byNetwork(db.All(ctx, t, scanNetwork, lettersByNetwork, mailbox, db.Millis(since)))
}

var begunFrom = db.Q(`SELECT network FROM @trail WHERE challenge = ? AND what = 'begun' LIMIT 1`)

// BegunFrom returns the network from which a challenge was begun, "" if nobody knows, or [db.ErrNotFound].
func (s Rows) BegunFrom(ctx context.Context, id string) (string, error) {
	return db.One(ctx, s, db.Scalar[string], begunFrom, id)
}

type networkCount struct {
	network string
	n       int
}

func scanNetwork(r db.Scanner) (networkCount, error) {
	var one networkCount
	err := r.Scan(&one.network, &one.n)
	return one, err
}

func byNetwork(all []networkCount, err error) (map[string]int, error) {
	had := make(map[string]int, len(all))
	for _, one := range all {
		had[one.network] = one.n
	}
	return had, err
}

var spendTry = db.Q(`UPDATE @challenge SET tries = tries + 1, tried = ?
	WHERE ticket = ? AND state = 'open' AND tries < tries_allowed AND tries = ? RETURNING ` + challengeRow.Names())

// SpendTry counts one try of a code against the challenge of a ticket, in a transaction of its
// own, and returns the row as it is then: the try is gone whatever follows. [db.ErrNotFound] means
// that no try could be spent, for whatever reason: none is left, or another came in between, so
// that spent is not how many were.
func (s Rows) SpendTry(ctx context.Context, digest string, spent int, now time.Time) (Challenge, error) {
	return db.Only(db.Change(ctx, s.Database, challengeRow.Scan, spendTry, db.Millis(now), digest, spent))
}

var markProved = db.Together(`UPDATE @challenge SET proved = ?, proved_by = ? WHERE id = ? AND state = 'open'`,
	addresses.NewStep.Alone())

// MarkProved records that the proof of an open challenge was seen.
func (t Tx) MarkProved(ctx context.Context, id string, by challenge.Form, step addresses.Step) error {
	return t.Together(ctx, markProved, []any{db.Millis(step.At), string(by), id}, addresses.NewStep.Args(step))
}

var accept = db.Q(`UPDATE @challenge SET state = 'accepted', accepted = ? WHERE id = ? AND state = 'open'
	AND proved > 0 AND decoy = 0 AND action = ? AND (purpose = 'reverify' OR NOT EXISTS (SELECT 1 FROM @change c
	WHERE c.subject = illumicode_challenge.subject AND c.state = 'frozen')) AND (purpose NOT IN ('signin', 'stepup')
	OR EXISTS (SELECT 1 FROM @address a WHERE a.subject = illumicode_challenge.subject
	AND a.mailbox = illumicode_challenge.mailbox AND a.standing IN ` + addresses.Held + `)) RETURNING ` +
	challengeRow.Names())

// Accept turns a proven challenge from open to accepted and returns it: of all callers, exactly one gets it, and only
// if its transaction commits; the others get [db.ErrNotFound]. action is the digest of what it is accepted for. While a
// change of the subject's address is frozen, nothing is accepted but fresh proofs of its addresses; a sign-in or a
// step-up only while the subject has the address.
func (t Tx) Accept(ctx context.Context, id, action string, now time.Time) (Challenge, error) {
	return db.One(ctx, t, challengeRow.Scan, accept, db.Millis(now), id, action)
}

var openOf = db.Q(`SELECT ` + challengeRow.Names() + ` FROM @challenge WHERE subject = ? AND state = 'open'`)

// OpenOf returns all open challenges of a subject.
func (t Tx) OpenOf(ctx context.Context, subject string) ([]Challenge, error) {
	return db.All(ctx, t, challengeRow.Scan, openOf, subject)
}

var callOff = db.Q(`UPDATE @challenge SET state = 'ended', sealed = '', why = ? WHERE id = ? AND state = 'open'`)

var callOffChanging = db.Q(`UPDATE @challenge SET state = 'ended', why = ? WHERE state = 'open'
	AND id IN (SELECT challenge FROM @change WHERE subject = ? AND state = 'pending') RETURNING ` +
	challengeRow.Names())

// CallOffChanging ends the open challenges that changes of a subject's address wait for, and returns them.
func (t Tx) CallOffChanging(ctx context.Context, subject, why string) ([]Challenge, error) {
	return db.All(ctx, t, challengeRow.Scan, callOffChanging, why, subject)
}

// CallOff ends an open challenge and reports whether it did.
func (t Tx) CallOff(ctx context.Context, id, why string) (bool, error) {
	n, err := t.Exec(ctx, callOff, why, id)
	return n == 1, err
}

var anyOpen = db.Q(`SELECT EXISTS (SELECT 1 FROM @challenge WHERE subject = ? AND address = ? AND state = 'open')`)

// AnyOpen reports whether a challenge of a subject at an address is open.
func (t Tx) AnyOpen(ctx context.Context, subject, address string) (bool, error) {
	return db.One(ctx, t, db.Scalar[bool], anyOpen, subject, address)
}

var selectLapsed = db.Q(`SELECT ` + challengeRow.Names() +
	` FROM @challenge WHERE state = 'open' AND ends <= ? AND heard <= ? ORDER BY ends LIMIT ?`)

// Lapsed returns up to n open challenges whose cap is over. Those whose service hears of it are for a process that
// hears.
func (s Rows) Lapsed(ctx context.Context, now time.Time, hears bool, n int) ([]Challenge, error) {
	return db.All(ctx, s, challengeRow.Scan, selectLapsed, db.Millis(now), db.Flag(hears), n)
}

var resend = db.Q(`UPDATE @challenge SET generation = ?, code_from = ?, previous_until = ?, link_from = ?, resends =
	?, resend_after = ?, sent = ? WHERE id = ? AND state = 'open' AND resends = ?`)

// Resend writes what [proof.Challenge.Resend] decided and reports whether it did: false
// means that another resend came first, so that the decision must be taken again.
func (t Tx) Resend(ctx context.Context, next proof.Challenge) (bool, error) {
	n, err := t.Exec(ctx, resend, next.Generation, db.Millis(next.CodeFrom), db.Millis(next.PreviousUntil),
		db.Millis(next.LinkFrom),
		next.Resends, db.Millis(next.ResendAfter), db.Millis(next.Sent), next.ID, next.Resends-1)
	return n == 1, err
}

var handedOver = db.Q(`UPDATE @challenge SET link_from = ?, code_from = ? WHERE id = ?`)

// HandedOver starts the lives that begin with a letter's hand-over at now.
func (t Tx) HandedOver(ctx context.Context, id string, generation int, now time.Time) error {
	c, err := db.One(ctx, t, challengeRow.Scan, lockChallenge, id)
	if err != nil {
		return err
	}
	next := c.HandedOver(generation, now)
	if next == c.Challenge {
		return nil
	}
	_, err = t.Exec(ctx, handedOver, db.Millis(next.LinkFrom), db.Millis(next.CodeFrom), id)
	return err
}
