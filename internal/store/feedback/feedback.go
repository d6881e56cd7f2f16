package feedback

import (
	"context"
	"strings"
	"time"

	"github.com/illumicode/illumicode/internal/core/report"
	"github.com/illumicode/illumicode/internal/store/db"
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
	// how many letters have its Remote, where it is known by that alone: with more than one it says nothing of any
	Letters int
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

// feedbackRow are the columns of a feedback.
var feedbackRow = db.Columns[Feedback]{
	db.Text("id", func(f *Feedback) *string { return &f.ID }),
	db.Text("source", func(f *Feedback) *string { return &f.Source }),
	db.Text("delivery", func(f *Feedback) *string { return &f.Delivery }),
	db.Text("remote", func(f *Feedback) *string { return &f.Remote }),
	db.Text("mailbox", func(f *Feedback) *string { return &f.Mailbox }),
	db.Text("kind", func(f *Feedback) *report.Kind { return &f.Kind }),
	db.Text("status", func(f *Feedback) *string { return &f.Status }),
	db.Text("words", func(f *Feedback) *string { return &f.Words }),
	db.Time("happened", func(f *Feedback) *time.Time { return &f.Happened }),
	db.Time("taken", func(f *Feedback) *time.Time { return &f.Taken }),
	db.Text("state", func(f *Feedback) *FeedbackState { return &f.State }),
	db.Text("note", func(f *Feedback) *string { return &f.Note }),
}

// dueRow are the columns of a feedback that is due, with when its letter was sent.
var dueRow = append(feedbackRow[:len(feedbackRow):len(feedbackRow)],
	db.Time("sent", func(f *Feedback) *time.Time { return &f.Sent }),
	db.Number("letters", func(f *Feedback) *int { return &f.Letters }))

// A feedback that is new waits, and is looked at at once.
var insertFeedback = db.Q(`INSERT INTO @feedback (` + feedbackRow.Names() + `, next)
	SELECT ` + feedbackRow.FromEach("r", db.Values{"mailbox": "''", "state": "'waiting'", "note": "''"}) + `,
		CAST(r.value ->> 'taken' AS BIGINT)
	FROM @each(r) WHERE TRUE ON CONFLICT (id) DO NOTHING`)

// InsertFeedback adds what came back, and returns how much of it was new.
func (t Tx) InsertFeedback(ctx context.Context, all ...Feedback) (int64, error) {
	return t.Exec(ctx, insertFeedback, feedbackRow.Objects(all))
}

// byRemote is the delivery of a feedback. A letter that came with its provider's id alone is found by the attempt that
// has this id.
const byRemote = `CASE WHEN delivery <> '' THEN delivery ELSE COALESCE((SELECT a.delivery FROM @attempt a
	WHERE a.remote = illumicode_feedback.remote AND a.remote <> '' AND a.provider = source
	ORDER BY a.delivery DESC LIMIT 1), '') END AS delivery`

// lettersOf counts the letters that have the provider's id by which alone a feedback's is known.
const lettersOf = `CASE WHEN delivery <> '' THEN 0 ELSE (SELECT COUNT(DISTINCT a.delivery) FROM @attempt a
	WHERE a.remote = illumicode_feedback.remote AND a.remote <> '' AND a.provider = source) END AS letters`

var (
	dueFeedback = db.Q(`SELECT ` + feedbackRow.Names() + `, COALESCE((SELECT MAX(a.begun) FROM @attempt a
			WHERE a.delivery = f.delivery AND a.ended > 0), 0), letters
		FROM (SELECT ` + strings.Replace(feedbackRow.Names(), "delivery", byRemote, 1) + `, ` + lettersOf + `
			FROM @feedback WHERE state = 'waiting' AND next <= ? ORDER BY next LIMIT ?) f`)
	postponeFeedback = db.Q(`UPDATE @feedback SET next = CAST(r.value ->> 'next' AS BIGINT) FROM @each(r)
		WHERE illumicode_feedback.id = r.value ->> 'id' AND state = 'waiting'`)
	settled        = feedbackRow.Pick("id", "state", "delivery", "mailbox", "note")
	settleFeedback = db.Q(`UPDATE @feedback SET state = r.value ->> 'state', delivery = r.value ->> 'delivery',
		mailbox = r.value ->> 'mailbox', note = r.value ->> 'note' FROM @each(r)
		WHERE illumicode_feedback.id = r.value ->> 'id' AND state = 'waiting' RETURNING illumicode_feedback.id`)
	softBounces = db.Q(`SELECT COUNT(DISTINCT delivery) FROM @feedback WHERE mailbox = ? AND mailbox <> ''
		AND kind = 'soft bounce'
		AND happened > ? AND delivery <> ?`)
	feedbackOn = db.Q(`SELECT ` + feedbackRow.Names() + ` FROM @feedback WHERE delivery = ? AND delivery <> ''
		ORDER BY taken, id`)
	feedbackIn = db.Q(`SELECT ` + feedbackRow.Names() + ` FROM @feedback WHERE state = ? ORDER BY taken DESC, id
		LIMIT ?`)
	countKinds = db.Q(`SELECT kind, state, COUNT(*) FROM @feedback GROUP BY kind, state`)
)

// DueFeedback returns up to n feedbacks that wait and are due at now, with their deliveries as far as
// these are known.
func (s Rows) DueFeedback(ctx context.Context, now time.Time, n int) ([]Feedback, error) {
	return db.All(ctx, s, dueRow.Scan, dueFeedback, db.Millis(now), n)
}

// PostponeFeedback makes feedbacks due again, each at an instant.
func (s Rows) PostponeFeedback(ctx context.Context, until map[string]time.Time) error {
	rows := make([]map[string]any, 0, len(until))
	for id, at := range until {
		rows = append(rows, map[string]any{"id": id, "next": db.Millis(at)})
	}
	_, err := s.Exec(ctx, postponeFeedback, db.List(rows))
	return err
}

// SettleFeedback records what became of feedbacks, and returns the ids of those of which that was not
// recorded yet.
func (t Tx) SettleFeedback(ctx context.Context, all ...Feedback) ([]string, error) {
	return db.All(ctx, t, db.Scalar[string], settleFeedback, settled.Objects(all))
}

// SoftBounces counts the letters, but for one, that came back softly from a mailbox after an instant.
func (t Tx) SoftBounces(ctx context.Context, mailbox string, after time.Time, but string) (int64, error) {
	return db.One(ctx, t, db.Scalar[int64], softBounces, mailbox, db.Millis(after), but)
}

// FeedbackOn returns what came back about a delivery, in the order of arrival.
func (s Rows) FeedbackOn(ctx context.Context, delivery string) ([]Feedback, error) {
	return db.All(ctx, s, feedbackRow.Scan, feedbackOn, delivery)
}

var feedbackAmong = db.Q(`SELECT ` + feedbackRow.Names() + ` FROM @feedback
	WHERE delivery @listed() AND delivery <> '' ORDER BY taken, id`)

// FeedbackAmong returns what came back about some deliveries in the order of arrival, by delivery.
func (s Rows) FeedbackAmong(ctx context.Context, deliveries []string) (map[string][]Feedback, error) {
	all, err := db.All(ctx, s, feedbackRow.Scan, feedbackAmong, db.List(deliveries))
	by := make(map[string][]Feedback)
	for _, f := range all {
		by[f.Delivery] = append(by[f.Delivery], f)
	}
	return by, err
}

// FeedbackIn returns up to n feedbacks in a state, the latest first.
func (s Rows) FeedbackIn(ctx context.Context, state FeedbackState, n int) ([]Feedback, error) {
	return db.All(ctx, s, feedbackRow.Scan, feedbackIn, string(state), n)
}

// A FeedbackCount is how many feedbacks there are of a kind in a state.
type FeedbackCount struct {
	Kind  report.Kind
	State FeedbackState
	Count int
}

// CountFeedback counts the feedbacks that are kept.
func (s Rows) CountFeedback(ctx context.Context) ([]FeedbackCount, error) {
	return db.All(ctx, s, func(r db.Scanner) (c FeedbackCount, err error) {
		return c, r.Scan(&c.Kind, &c.State, &c.Count)
	}, countKinds)
}
