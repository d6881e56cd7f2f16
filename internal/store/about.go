package store

import (
	"context"
	"errors"

	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/message"
)

// Known is what the tables hold about a mailbox, newest first.
type Known struct {
	Addresses  []Address
	Changes    []Change // of every subject that has the mailbox
	Suppressed []Suppression
	Trail      []Step
	Failures   proof.Record
	Letters    []Delivery
	Attempts   map[string][]Attempt  // by delivery
	Feedback   map[string][]Feedback // by delivery
}

var (
	changesAt = q(`SELECT ` + changeColumns +
		` FROM illumicode_change WHERE subject IN (SELECT value FROM json_each(?)) ORDER BY made DESC`)
	attemptsOn = q(`SELECT ` + attemptColumns + ` FROM illumicode_attempt
		WHERE delivery IN (SELECT value FROM json_each(?)) ORDER BY delivery, number`)
	feedbackOnAll = q(`SELECT ` + feedbackColumns + `, 0 FROM illumicode_feedback
		WHERE delivery IN (SELECT value FROM json_each(?)) AND delivery <> '' ORDER BY taken, id`)
)

// About returns up to n of each kind that is known of an address, in a fixed number of queries. thumbs are the
// thumbprints of its mailbox under all keys.
func (s *Store) About(ctx context.Context, to message.Address, thumbs []string, n int) (k Known, err error) {
	mailbox := to.Mailbox()
	if k.Addresses, err = s.AddressesAt(ctx, mailbox); err != nil {
		return k, err
	}
	var subjects []string
	for _, a := range k.Addresses {
		subjects = append(subjects, a.Subject)
	}
	rows, err := s.query(ctx, changesAt, list(subjects))
	if k.Changes, err = collect(s, rows, err, scanChange); err != nil {
		return k, err
	}
	k.Suppressed, err = s.SuppressedAmong(ctx, thumbs)
	trail, trailErr := s.Trail(ctx, mailbox, n)
	failures, failErr := s.Failures(ctx, "address:"+mailbox)
	letters, lettersErr := s.LettersTo(ctx, mailbox, to.String(), n)
	k.Trail, k.Failures, k.Letters = trail, failures, letters
	if err := errors.Join(err, trailErr, failErr, lettersErr); err != nil {
		return k, err
	}
	return k, s.aboutLetters(ctx, &k)
}

// aboutLetters adds what happened to the letters that are known.
func (s *Store) aboutLetters(ctx context.Context, k *Known) error {
	ids := make([]string, len(k.Letters))
	for i, d := range k.Letters {
		ids[i] = d.ID
	}
	k.Attempts, k.Feedback = make(map[string][]Attempt), make(map[string][]Feedback)
	rows, err := s.query(ctx, attemptsOn, list(ids))
	attempts, err := collect(s, rows, err, scanAttempt)
	if err != nil {
		return err
	}
	for _, a := range attempts {
		k.Attempts[a.Delivery] = append(k.Attempts[a.Delivery], a)
	}
	rows, err = s.query(ctx, feedbackOnAll, list(ids))
	feedback, err := collect(s, rows, err, scanFeedback)
	for _, f := range feedback {
		k.Feedback[f.Delivery] = append(k.Feedback[f.Delivery], f)
	}
	return err
}
