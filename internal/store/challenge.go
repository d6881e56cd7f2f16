package store

import (
	"context"
	"time"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/proof"
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

	Proved   time.Time
	ProvedBy challenge.Form
	Accepted time.Time
}

const challengeColumns = `id, purpose, subject, address, name, locale, kid, ticket, state, decoy, created, ends,
	code_life, link_life, digits, tries, tries_allowed, generation, code_from, previous_until, link_from,
	resends, resend_after, letter, data, forms, action, mailbox, browser, sent, typed, why, tried, proved, proved_by,
	accepted`

func scanChallenge(row scanner) (Challenge, error) {
	var c Challenge
	var decoy int
	var created, ends, codeLife, linkLife, codeFrom, previous, linkFrom, resendAfter, sent, tried, proved,
		accepted int64
	err := row.Scan(&c.ID, &c.Purpose, &c.Subject, &c.Address, &c.Name, &c.Locale, &c.Kid, &c.Ticket, &c.State,
		&decoy, &created, &ends, &codeLife, &linkLife, &c.Digits, &c.Tries, &c.TriesAllowed, &c.Generation, &codeFrom,
		&previous, &linkFrom, &c.Resends, &resendAfter, &c.Letter, &c.Data, &c.Forms, &c.Action, &c.Mailbox, &c.Browser,
		&sent, &c.Typed, &c.Why, &tried, &proved, &c.ProvedBy, &accepted)
	c.Created, c.Ends, c.CodeFrom, c.PreviousUntil = instant(created), instant(ends), instant(codeFrom),
		instant(previous)
	c.CodeLife, c.LinkLife = time.Duration(codeLife)*time.Millisecond, time.Duration(linkLife)*time.Millisecond
	c.LinkFrom, c.ResendAfter, c.Sent, c.Tried = instant(linkFrom), instant(resendAfter), instant(sent), instant(tried)
	c.Proved, c.Accepted = instant(proved), instant(accepted)
	c.Known, c.Decoy = c.Browser != "", decoy == 1
	return c, err
}

const challengeValues = `?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?,
	'', 0, 0, '', 0`

// An admission begins one challenge: a second one with its id has no effect.
const insertChallenge = `INSERT INTO illumicode_challenge (` + challengeColumns + `) VALUES (` + challengeValues +
	`) ON CONFLICT (id) DO NOTHING`

func (c Challenge) args() []any {
	return []any{c.ID, c.Purpose, c.Subject, c.Address, c.Name, c.Locale, c.Kid, c.Ticket,
		string(c.State), flag(c.Decoy), millis(c.Created), millis(c.Ends), c.CodeLife.Milliseconds(),
		c.LinkLife.Milliseconds(),
		c.Digits, c.Tries, c.TriesAllowed, c.Generation, millis(c.CodeFrom), millis(c.PreviousUntil),
		millis(c.LinkFrom),
		c.Resends, millis(c.ResendAfter), c.Letter, c.Data, string(c.Forms), c.Action, c.Mailbox, c.Browser,
		millis(c.Sent), c.Typed}
}

// What follows the insert of a challenge, if it was one.
var (
	begin        = following(insertChallenge, deliveryInsert, trailInsert)
	beginAddress = following(insertChallenge, addressInsert, deliveryInsert, trailInsert)
)

// A NewChallenge is what a new challenge adds.
type NewChallenge struct {
	Challenge  Challenge
	Letter     Delivery
	NewAddress bool   // its address becomes unconfirmed, unless the subject has it already
	Network    string // that asked
}

// Begin adds a new challenge, its letter and the first line of its trail, in as few statements as the database allows.
// It reports whether it did: not if there is a challenge with the id. No statement fails on a conflict.
func (t Tx) Begin(ctx context.Context, b NewChallenge) (bool, error) {
	c := b.Challenge
	first := Step{Challenge: c.ID, Subject: c.Subject, Mailbox: c.Mailbox, At: c.Created, What: "begun",
		Outcome: c.Purpose, Network: b.Network}
	if !b.NewAddress {
		return t.follow(ctx, begin, c.args(), b.Letter.values(), first.args())
	}
	return t.follow(ctx, beginAddress, c.args(), []any{c.Subject, c.Address, c.Mailbox, millis(c.Created)},
		b.Letter.values(), first.args())
}

// flag is a truth value in the INTEGER columns that both databases have.
func flag(b bool) int {
	if b {
		return 1
	}
	return 0
}

var (
	selectChallenge = q(`SELECT ` + challengeColumns + ` FROM illumicode_challenge WHERE id = ?`)
	lockChallenge   = q(`SELECT ` + challengeColumns + ` FROM illumicode_challenge WHERE id = ? FOR UPDATE`)
	selectByTicket  = q(`SELECT ` + challengeColumns + ` FROM illumicode_challenge WHERE ticket = ?`)
	selectOpen      = q(`SELECT ` + challengeColumns + ` FROM illumicode_challenge
		WHERE subject = ? AND purpose = ? AND state = 'open' ORDER BY created DESC LIMIT 1`)
	selectLately = q(`SELECT ` + challengeColumns + ` FROM illumicode_challenge
		WHERE mailbox = ? AND purpose = ? AND ends > ? AND why <> 'superseded' ORDER BY created`)
)

var (
	selectOpenAt = q(`SELECT ` + challengeColumns + ` FROM illumicode_challenge
		WHERE mailbox = ? AND state = 'open' AND ends > ? AND decoy = 0 ORDER BY created DESC LIMIT 1`)
	selectBegun = q(`SELECT id FROM illumicode_challenge WHERE id IN (SELECT value FROM json_each(?))`)
)

// OpenAt returns the newest open challenge at a mailbox that can still be proven at now, or
// [ErrNotFound].
func (s *Store) OpenAt(ctx context.Context, mailbox string, now time.Time) (Challenge, error) {
	rows, err := s.query(ctx, selectOpenAt, mailbox, millis(now))
	return one(s, rows, err, scanChallenge)
}

// Begun returns which of some challenges exist.
func (s *Store) Begun(ctx context.Context, ids []string) (map[string]bool, error) {
	rows, err := s.query(ctx, selectBegun, list(ids))
	found, err := collect(s, rows, err, scanText)
	m := make(map[string]bool, len(found))
	for _, id := range found {
		m[id] = true
	}
	return m, err
}

// Challenge returns the challenge with this id, or [ErrNotFound].
func (s *Store) Challenge(ctx context.Context, id string) (Challenge, error) {
	rows, err := s.query(ctx, selectChallenge, id)
	return one(s, rows, err, scanChallenge)
}

// ChallengeOf is [Store.Challenge] in a transaction.
func (t Tx) ChallengeOf(ctx context.Context, id string) (Challenge, error) {
	rows, err := t.query(ctx, selectChallenge, id)
	return one(t.s, rows, err, scanChallenge)
}

// ChallengeByTicket returns the challenge whose ticket has this digest, or [ErrNotFound].
func (s *Store) ChallengeByTicket(ctx context.Context, digest string) (Challenge, error) {
	rows, err := s.query(ctx, selectByTicket, digest)
	return one(s, rows, err, scanChallenge)
}

// OpenChallenge returns the newest open challenge of a subject, expired or not, or [ErrNotFound].
func (s *Store) OpenChallenge(ctx context.Context, subject, purpose string) (Challenge, error) {
	rows, err := s.query(ctx, selectOpen, subject, purpose)
	return one(s, rows, err, scanChallenge)
}

// Lately returns the challenges of a purpose at a mailbox whose cap is not over at now, whatever has
// become of them, the oldest first; but for those whose own browser began another.
func (t Tx) Lately(ctx context.Context, mailbox, purpose string, now time.Time) ([]Challenge, error) {
	rows, err := t.query(ctx, selectLately, mailbox, purpose, millis(now))
	return collect(t.s, rows, err, scanChallenge)
}

var spendTry = q(`UPDATE illumicode_challenge SET tries = tries + 1, tried = ?
	WHERE ticket = ? AND state = 'open' AND tries < tries_allowed AND tries = ? RETURNING ` + challengeColumns)

// SpendTry counts one try of a code against the challenge of a ticket, in a transaction of its
// own, and returns the row as it is then: the try is gone whatever follows. [ErrNotFound] means
// that no try could be spent, for whatever reason: none is left, or another came in between, so
// that spent is not how many were.
func (s *Store) SpendTry(ctx context.Context, digest string, spent int, now time.Time) (Challenge, error) {
	return only(change(ctx, s, scanChallenge, spendTry, millis(now), digest, spent))
}

var markProved = together(`UPDATE illumicode_challenge SET proved = ?, proved_by = ? WHERE id = ? AND state = 'open'`,
	insertTrail)

// MarkProved records that the proof of an open challenge was seen.
func (t Tx) MarkProved(ctx context.Context, id string, by challenge.Form, step Step) error {
	return t.all(ctx, markProved, []any{millis(step.At), string(by), id}, step.args())
}

var accept = q(`UPDATE illumicode_challenge SET state = 'accepted', accepted = ?
	WHERE id = ? AND state = 'open' AND proved > 0 AND decoy = 0 AND action = ? AND (purpose = 'reverify' OR NOT EXISTS
		(SELECT 1 FROM illumicode_change c WHERE c.subject = illumicode_challenge.subject AND c.state = 'frozen'))
	AND (purpose NOT IN ('signin', 'stepup') OR EXISTS (SELECT 1 FROM illumicode_address a WHERE a.subject =
	illumicode_challenge.subject
		AND a.mailbox = illumicode_challenge.mailbox AND a.standing IN ` + held + `))`)

// Accept turns a proven challenge from open to accepted and reports whether it did: of all
// callers, exactly one is told true, and only if its transaction commits. action is the digest of
// what it is accepted for. While a change of the subject's address is frozen, nothing is accepted but
// fresh proofs of its addresses; a sign-in or a step-up only while the subject has the address.
func (t Tx) Accept(ctx context.Context, id, action string, now time.Time) (bool, error) {
	n, err := t.exec(ctx, accept, millis(now), id, action)
	return n == 1, err
}

var openOf = q(`SELECT ` + challengeColumns + ` FROM illumicode_challenge WHERE subject = ? AND state = 'open'`)

// OpenOf returns all open challenges of a subject.
func (t Tx) OpenOf(ctx context.Context, subject string) ([]Challenge, error) {
	rows, err := t.query(ctx, openOf, subject)
	return collect(t.s, rows, err, scanChallenge)
}

var callOff = q(`UPDATE illumicode_challenge SET state = 'ended', why = ? WHERE id = ? AND state = 'open'`)

var callOffChanging = q(`UPDATE illumicode_challenge SET state = 'ended', why = ? WHERE state = 'open'
	AND id IN (SELECT challenge FROM illumicode_change WHERE subject = ? AND state = 'pending') RETURNING ` +
	challengeColumns)

// CallOffChanging ends the open challenges that changes of a subject's address wait for, and returns them.
func (t Tx) CallOffChanging(ctx context.Context, subject, why string) ([]Challenge, error) {
	rows, err := t.query(ctx, callOffChanging, why, subject)
	return collect(t.s, rows, err, scanChallenge)
}

// CallOff ends an open challenge and reports whether it did.
func (t Tx) CallOff(ctx context.Context, id, why string) (bool, error) {
	n, err := t.exec(ctx, callOff, why, id)
	return n == 1, err
}

var anyOpen = q(
	`SELECT EXISTS (SELECT 1 FROM illumicode_challenge WHERE subject = ? AND address = ? AND state = 'open')`)

// AnyOpen reports whether a challenge of a subject at an address is open.
func (t Tx) AnyOpen(ctx context.Context, subject, address string) (bool, error) {
	rows, err := t.query(ctx, anyOpen, subject, address)
	return one(t.s, rows, err, func(r scanner) (yes bool, err error) { return yes, r.Scan(&yes) })
}

var selectLapsed = q(`SELECT ` + challengeColumns +
	` FROM illumicode_challenge WHERE state = 'open' AND ends <= ? ORDER BY ends LIMIT ?`)

// Lapsed returns up to n open challenges whose cap is over.
func (s *Store) Lapsed(ctx context.Context, now time.Time, n int) ([]Challenge, error) {
	rows, err := s.query(ctx, selectLapsed, millis(now), n)
	return collect(s, rows, err, scanChallenge)
}

var resend = q(
	`UPDATE illumicode_challenge SET generation = ?, code_from = ?, previous_until = ?, link_from = ?, resends = ?,
		resend_after = ?, sent = ?
	WHERE id = ? AND state = 'open' AND resends = ?`)

// Resend writes what [proof.Challenge.Resend] decided and reports whether it did: false
// means that another resend came first, so that the decision must be taken again.
func (t Tx) Resend(ctx context.Context, next proof.Challenge) (bool, error) {
	n, err := t.exec(ctx, resend, next.Generation, millis(next.CodeFrom), millis(next.PreviousUntil),
		millis(next.LinkFrom),
		next.Resends, millis(next.ResendAfter), millis(next.Sent), next.ID, next.Resends-1)
	return n == 1, err
}

var handedOver = q(`UPDATE illumicode_challenge SET link_from = ?, code_from = ? WHERE id = ?`)

// HandedOver starts the lives that begin with a letter's hand-over at now.
func (t Tx) HandedOver(ctx context.Context, id string, generation int, now time.Time) error {
	rows, err := t.query(ctx, lockChallenge, id)
	c, err := one(t.s, rows, err, scanChallenge)
	if err != nil {
		return err
	}
	next := c.HandedOver(generation, now)
	if next == c.Challenge {
		return nil
	}
	_, err = t.exec(ctx, handedOver, millis(next.LinkFrom), millis(next.CodeFrom), id)
	return err
}
