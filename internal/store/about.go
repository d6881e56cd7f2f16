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
	Browsers   []Browser
	Letters    []Delivery
	Attempts   map[string][]Attempt  // by delivery
	Feedback   map[string][]Feedback // by delivery
}

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
	var failed [8]error
	k.Changes, failed[0] = s.ChangesAt(ctx, subjects)
	k.Suppressed, failed[1] = s.SuppressedAmong(ctx, thumbs)
	k.Trail, failed[2] = s.Trail(ctx, mailbox, n)
	k.Failures, failed[3] = s.Failures(ctx, "address:"+mailbox)
	k.Letters, failed[4] = s.LettersTo(ctx, mailbox, to.String(), n)
	k.Browsers, failed[7] = s.BrowsersAt(ctx, mailbox)
	ids := make([]string, len(k.Letters))
	for i, d := range k.Letters {
		ids[i] = d.ID
	}
	k.Attempts, failed[5] = s.AttemptsOn(ctx, ids)
	k.Feedback, failed[6] = s.FeedbackAmong(ctx, ids)
	return k, errors.Join(failed[:]...)
}
