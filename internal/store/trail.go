package store

import (
	"context"
	"time"

	"github.com/illumicode/illumicode/internal/core/proof"
)

// A Step is one line of the trail of a challenge, or of an address. It holds no code and no token.
type Step struct {
	Challenge string // empty where it is about an address alone
	Subject   string
	Mailbox   string
	At        time.Time
	What      string // begun, resent, tried, proved, accepted, ended, standing
	Outcome   string
	Network   string // who asked; empty where the application did not say
	Actor     string // who did it at a desk; empty for the flows
}

var trailInsert = insert{
	into:   `INSERT INTO illumicode_trail (challenge, subject, mailbox, at, what, outcome, network, actor)`,
	values: `?, ?, ?, ?, ?, ?, ?, ?`}

var insertTrail = trailInsert.alone()

func (s Step) args() []any {
	return []any{s.Challenge, s.Subject, s.Mailbox, millis(s.At), s.What, s.Outcome, s.Network, s.Actor}
}

var addStep = q(insertTrail)

// Record adds a line to the trail.
func (t Tx) Record(ctx context.Context, s Step) error {
	_, err := t.exec(ctx, addStep, s.args()...)
	return err
}

// StepOf returns a line about a challenge.
func (c Challenge) StepOf(what, outcome, network string, now time.Time) Step {
	return Step{Challenge: c.ID, Subject: c.Subject, Mailbox: c.Mailbox, At: now, What: what, Outcome: outcome,
		Network: network}
}

const stepColumns = `challenge, subject, mailbox, at, what, outcome, network, actor`

var (
	trailOfMailbox = q(`SELECT ` + stepColumns + ` FROM illumicode_trail WHERE mailbox = ? ORDER BY seq DESC LIMIT ?`)
	trailOfSubject = q(`SELECT ` + stepColumns +
		` FROM illumicode_trail WHERE subject = ? AND subject <> '' ORDER BY seq DESC LIMIT ?`)
)

func scanStep(r scanner) (s Step, err error) {
	var at int64
	err = r.Scan(&s.Challenge, &s.Subject, &s.Mailbox, &at, &s.What, &s.Outcome, &s.Network, &s.Actor)
	s.At = instant(at)
	return s, err
}

// Trail returns up to n lines about a mailbox, the latest first.
func (s *Store) Trail(ctx context.Context, mailbox string, n int) ([]Step, error) {
	rows, err := s.query(ctx, trailOfMailbox, mailbox, n)
	return collect(s, rows, err, scanStep)
}

// TrailOf returns up to n lines about a subject, the latest first.
func (s *Store) TrailOf(ctx context.Context, subject string, n int) ([]Step, error) {
	rows, err := s.query(ctx, trailOfSubject, subject, n)
	return collect(s, rows, err, scanStep)
}

// lockedFailure ends a statement that makes the row of a name, or locks the one that is there.
const lockedFailure = ` ON CONFLICT (name) DO UPDATE SET at = illumicode_failure.at RETURNING failures, at`

var (
	selectFailure = q(`SELECT failures, at FROM illumicode_failure WHERE name = ?`)
	upsertFailure = q(`INSERT INTO illumicode_failure (name, failures, at) VALUES (?, ?, ?)
		ON CONFLICT (name) DO UPDATE SET failures = excluded.failures, at = excluded.at`)
	lockFailure    = q(`INSERT INTO illumicode_failure (name, failures, at) VALUES (?, 0, ?)` + lockedFailure)
	beginByFailure = q(
		`INSERT INTO illumicode_failure (name, failures, at) SELECT CAST(? AS TEXT), 0, CAST(? AS BIGINT) WHERE ` +
			`BY_INDEX` + lockedFailure)
)

func scanRecord(r scanner) (rec proof.Record, err error) {
	var thousandths, at int64
	err = r.Scan(&thousandths, &at)
	return proof.Record{Failures: float64(thousandths) / 1000, At: instant(at)}, err
}

// Failures returns what is remembered of wrong codes under a name; the zero record if nothing.
func (s *Store) Failures(ctx context.Context, name string) (proof.Record, error) {
	rows, err := s.query(ctx, selectFailure, name)
	all, err := collect(s, rows, err, scanRecord)
	if len(all) == 0 {
		return proof.Record{}, err
	}
	return all[0], err
}

// LockFailures is Failures for a transaction which no other with the same name overtakes.
func (t Tx) LockFailures(ctx context.Context, name string, now time.Time) (proof.Record, error) {
	return t.lockFailure(ctx, lockFailure, name, now)
}

func (t Tx) lockFailure(ctx context.Context, text, name string, now time.Time) (proof.Record, error) {
	rows, err := t.query(ctx, text, name, millis(now))
	return one(t.s, rows, err, scanRecord)
}

// BeginByFailures is LockFailures as the first statement of a transaction in which nothing of the application's
// runs: those that follow go by the indexes that they are made for, as with [Dialect].ByIndex.
func (t Tx) BeginByFailures(ctx context.Context, name string, now time.Time) (proof.Record, error) {
	return t.lockFailure(ctx, beginByFailure, name, now)
}

// SetFailures remembers what [proof.Record.Failed] came to.
func (t Tx) SetFailures(ctx context.Context, name string, r proof.Record) error {
	_, err := t.exec(ctx, upsertFailure, name, int64(r.Failures*1000), millis(r.At))
	return err
}
