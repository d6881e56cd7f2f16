package store

import (
	"context"
	"time"

	"github.com/illumicode/illumicode/core/challenge"
)

// A Challenge is the row of one proof of address: what the decisions need, and what its letters
// need besides.
type Challenge struct {
	challenge.Challenge

	Name   string // display name
	Locale string
	Kid    string
	Ticket string // digest

	Proved   time.Time
	ProvedBy challenge.Form
	Accepted time.Time
}

const challengeColumns = `id, purpose, subject, address, name, locale, kid, ticket, state, decoy, created, ends,
	code_life, link_life, digits, tries, tries_allowed, generation, code_from, previous_until, link_from,
	resends, resend_after, proved, proved_by, accepted`

func scanChallenge(row scanner) (Challenge, error) {
	var c Challenge
	var created, ends, codeLife, linkLife, codeFrom, previous, linkFrom, resendAfter, proved, accepted int64
	err := row.Scan(&c.ID, &c.Purpose, &c.Subject, &c.Address, &c.Name, &c.Locale, &c.Kid, &c.Ticket, &c.State, &c.Decoy,
		&created, &ends, &codeLife, &linkLife, &c.Digits, &c.Tries, &c.TriesAllowed, &c.Generation, &codeFrom,
		&previous, &linkFrom, &c.Resends, &resendAfter, &proved, &c.ProvedBy, &accepted)
	c.Created, c.Ends, c.CodeFrom, c.PreviousUntil = instant(created), instant(ends), instant(codeFrom), instant(previous)
	c.CodeLife, c.LinkLife = time.Duration(codeLife)*time.Millisecond, time.Duration(linkLife)*time.Millisecond
	c.LinkFrom, c.ResendAfter = instant(linkFrom), instant(resendAfter)
	c.Proved, c.Accepted = instant(proved), instant(accepted)
	return c, err
}

var insertChallenge = q(`INSERT INTO illumicode_challenge (` + challengeColumns + `)
	VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 0, '', 0)`)

// InsertChallenge adds a new challenge. It cannot conflict: ID and Ticket are random.
func (t Tx) InsertChallenge(ctx context.Context, c Challenge) error {
	_, err := t.exec(ctx, insertChallenge, c.ID, c.Purpose, c.Subject, c.Address, c.Name, c.Locale, c.Kid, c.Ticket,
		string(c.State), flag(c.Decoy), millis(c.Created), millis(c.Ends), c.CodeLife.Milliseconds(), c.LinkLife.Milliseconds(),
		c.Digits, c.Tries, c.TriesAllowed, c.Generation, millis(c.CodeFrom), millis(c.PreviousUntil), millis(c.LinkFrom),
		c.Resends, millis(c.ResendAfter))
	return err
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
)

// Challenge returns the challenge with this id, or [ErrNotFound].
func (s *Store) Challenge(ctx context.Context, id string) (Challenge, error) {
	rows, err := s.query(ctx, selectChallenge, id)
	return one(s, rows, err, scanChallenge)
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

var spendTry = q(`UPDATE illumicode_challenge SET tries = tries + 1
	WHERE ticket = ? AND state = 'open' AND tries < tries_allowed RETURNING ` + challengeColumns)

// SpendTry counts one try of a code against the challenge of a ticket, in a transaction of its
// own, and returns the row as it is then: the try is gone whatever follows. [ErrNotFound] means
// that no try could be spent, for whatever reason.
func (s *Store) SpendTry(ctx context.Context, digest string) (Challenge, error) {
	return only(change(ctx, s, scanChallenge, spendTry, digest))
}

var markProved = q(`UPDATE illumicode_challenge SET proved = ?, proved_by = ? WHERE id = ? AND state = 'open'`)

// MarkProved records that the proof of an open challenge was seen.
func (s *Store) MarkProved(ctx context.Context, id string, by challenge.Form, now time.Time) error {
	_, err := s.exec(ctx, markProved, millis(now), string(by), id)
	return err
}

var accept = q(`UPDATE illumicode_challenge SET state = 'accepted', accepted = ?
	WHERE id = ? AND state = 'open' AND proved > 0 AND decoy = 0`)

// Accept turns a proven challenge from open to accepted and reports whether it did: of all
// callers, exactly one is told true, and only if its transaction commits.
func (t Tx) Accept(ctx context.Context, id string, now time.Time) (bool, error) {
	n, err := t.exec(ctx, accept, millis(now), id)
	return n == 1, err
}

var resend = q(`UPDATE illumicode_challenge SET generation = ?, code_from = ?, previous_until = ?, resends = ?, resend_after = ?
	WHERE id = ? AND state = 'open' AND resends = ?`)

// Resend writes what [challenge.Challenge.Resend] decided and reports whether it did: false
// means that another resend came first, so that the decision must be taken again.
func (t Tx) Resend(ctx context.Context, next challenge.Challenge) (bool, error) {
	n, err := t.exec(ctx, resend, next.Generation, millis(next.CodeFrom), millis(next.PreviousUntil),
		next.Resends, millis(next.ResendAfter), next.ID, next.Resends-1)
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
