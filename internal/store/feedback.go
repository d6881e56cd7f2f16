package store

import (
	"context"
	"strconv"
	"time"

	"github.com/illumicode/illumicode/internal/core/report"
)

// A Feedback is what somebody has said of a letter that was sent: the row.
type Feedback struct {
	ID       string // a repeat has the same
	Source   string // a provider, or [FromMail]
	Delivery string // empty while only Remote is known
	Remote   string // the provider's own id of the letter
	Mailbox  string // of one that something followed from
	Kind     report.Kind
	Status   string
	Words    string
	Happened time.Time
	Taken    time.Time
	State    FeedbackState
	Note     string // what followed, or why nothing did

	Sent time.Time // when the last attempt of the delivery began that has ended; zero while there is none
}

// FromMail is the source of reports that came by mail.
const FromMail = "mail"

// A FeedbackState is where a feedback is.
type FeedbackState string

// The states of feedback.
const (
	FeedbackWaiting FeedbackState = "waiting" // perhaps for its own attempt, which it has overtaken
	FeedbackApplied FeedbackState = "applied"
	FeedbackAside   FeedbackState = "aside" // nobody knows the letter
)

var insertFeedback = q(
	`INSERT INTO illumicode_feedback (id, source, delivery, remote, mailbox, kind, status, words, happened, taken,
		next, state, note)
	SELECT r.value ->> 0, r.value ->> 1, r.value ->> 2, r.value ->> 3, '', r.value ->> 4, r.value ->> 5, r.value ->> 6,
		CAST(r.value ->> 7 AS BIGINT), CAST(r.value ->> 8 AS BIGINT), CAST(r.value ->> 8 AS BIGINT), 'waiting', ''
	FROM json_each(?) AS r WHERE TRUE ON CONFLICT (id) DO NOTHING`)

// InsertFeedback adds what came back, and returns how much of it was new.
func (t Tx) InsertFeedback(ctx context.Context, all ...Feedback) (int64, error) {
	rows := make([][]any, len(all))
	for i, f := range all {
		rows[i] = []any{f.ID, f.Source, f.Delivery, f.Remote, string(f.Kind), f.Status, f.Words, millis(f.Happened),
			millis(f.Taken)}
	}
	return t.exec(ctx, insertFeedback, list(rows))
}

// refused returns what a provider has said that refused a letter's recipient. Of an interface that is no
// SMTP server's the class is all there is to go by, and it is lasting.
func refused(a Attempt) Feedback {
	kind := report.HardBounce
	if a.Enhanced != "" || a.Code/100 == 5 {
		kind = report.Severity(a.Enhanced, a.Code)
	}
	return Feedback{ID: "attempt " + a.Delivery + " " + strconv.Itoa(a.Number), Source: a.Provider,
		Delivery: a.Delivery, Kind: kind, Status: a.Enhanced, Words: a.Reply, Happened: a.Ended, Taken: a.Ended}
}

const feedbackColumns = `id, source, delivery, remote, mailbox, kind, status, words, happened, taken, state, note`

func scanFeedback(r scanner) (f Feedback, err error) {
	var happened, taken, sent int64
	err = r.Scan(&f.ID, &f.Source, &f.Delivery, &f.Remote, &f.Mailbox, &f.Kind, &f.Status, &f.Words, &happened, &taken,
		&f.State, &f.Note, &sent)
	f.Happened, f.Taken, f.Sent = instant(happened), instant(taken), instant(sent)
	return f, err
}

var (
	// A letter that came with its provider's id alone is found by the attempt that has this id.
	dueFeedback = q(`SELECT ` + feedbackColumns +
		`, COALESCE((SELECT MAX(a.begun) FROM illumicode_attempt a WHERE a.delivery = f.delivery AND a.ended > 0), 0)
		FROM (SELECT id, source, CASE WHEN delivery <> '' THEN delivery ELSE COALESCE((SELECT a.delivery FROM
		illumicode_attempt a
				WHERE a.remote = illumicode_feedback.remote AND a.remote <> '' AND a.provider = source ORDER BY
				a.delivery DESC LIMIT 1), '') END AS delivery,
			remote, mailbox, kind, status, words, happened, taken, state, note
			FROM illumicode_feedback WHERE state = 'waiting' AND next <= ? ORDER BY next LIMIT ?) f`)
	postponeFeedback = q(
		`UPDATE illumicode_feedback SET next = CAST(r.value ->> 1 AS BIGINT) FROM json_each(?) AS r WHERE ` +
			`illumicode_feedback.id = r.value ->> 0 AND state = 'waiting'`)
	settleFeedback = q(
		`UPDATE illumicode_feedback SET state = r.value ->> 1, delivery = r.value ->> 2, mailbox = r.value ->> 3, note
			= r.value ->> 4
		FROM json_each(?) AS r WHERE illumicode_feedback.id = r.value ->> 0 AND state = 'waiting' RETURNING
		illumicode_feedback.id`)
	softBounces = q(
		`SELECT COUNT(DISTINCT delivery) FROM illumicode_feedback WHERE mailbox = ? AND kind = 'soft bounce' AND ` +
			`happened > ? AND delivery <> ?`)
	feedbackOn = q(`SELECT ` + feedbackColumns +
		`, 0 FROM illumicode_feedback WHERE delivery = ? AND delivery <> '' ORDER BY taken, id`)
	feedbackIn = q(`SELECT ` + feedbackColumns +
		`, 0 FROM illumicode_feedback WHERE state = ? ORDER BY taken DESC, id LIMIT ?`)
	countKinds = q(`SELECT kind, state, COUNT(*) FROM illumicode_feedback GROUP BY kind, state`)
)

// DueFeedback returns up to n feedbacks that wait and are due at now, with their deliveries as far as
// these are known.
func (s *Store) DueFeedback(ctx context.Context, now time.Time, n int) ([]Feedback, error) {
	rows, err := s.query(ctx, dueFeedback, millis(now), n)
	return collect(s, rows, err, scanFeedback)
}

// PostponeFeedback makes feedbacks due again, each at an instant.
func (s *Store) PostponeFeedback(ctx context.Context, until map[string]time.Time) error {
	rows := make([][]any, 0, len(until))
	for id, at := range until {
		rows = append(rows, []any{id, millis(at)})
	}
	return s.Write(ctx, func(t Tx) error {
		_, err := t.exec(ctx, postponeFeedback, list(rows))
		return err
	})
}

// SettleFeedback records what became of feedbacks, and returns the ids of those of which that was not
// recorded yet.
func (t Tx) SettleFeedback(ctx context.Context, all ...Feedback) ([]string, error) {
	rows := make([][]any, len(all))
	for i, f := range all {
		rows[i] = []any{f.ID, string(f.State), f.Delivery, f.Mailbox, f.Note}
	}
	found, err := t.query(ctx, settleFeedback, list(rows))
	return collect(t.s, found, err, scanText)
}

// SoftBounces counts the letters, but for one, that came back softly from a mailbox after an instant.
func (t Tx) SoftBounces(ctx context.Context, mailbox string, after time.Time, but string) (int64, error) {
	rows, err := t.query(ctx, softBounces, mailbox, millis(after), but)
	return one(t.s, rows, err, scanInt)
}

// FeedbackOn returns what came back about a delivery, in the order of arrival.
func (s *Store) FeedbackOn(ctx context.Context, delivery string) ([]Feedback, error) {
	rows, err := s.query(ctx, feedbackOn, delivery)
	return collect(s, rows, err, scanFeedback)
}

// FeedbackIn returns up to n feedbacks in a state, the latest first.
func (s *Store) FeedbackIn(ctx context.Context, state FeedbackState, n int) ([]Feedback, error) {
	rows, err := s.query(ctx, feedbackIn, string(state), n)
	return collect(s, rows, err, scanFeedback)
}

// A FeedbackCount is how many feedbacks there are of a kind in a state.
type FeedbackCount struct {
	Kind  report.Kind
	State FeedbackState
	Count int
}

// CountFeedback counts the feedbacks that are kept.
func (s *Store) CountFeedback(ctx context.Context) ([]FeedbackCount, error) {
	rows, err := s.query(ctx, countKinds)
	return collect(s, rows, err, func(r scanner) (c FeedbackCount, err error) {
		return c, r.Scan(&c.Kind, &c.State, &c.Count)
	})
}
