package illumicode

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/illumicode/illumicode/challenge"
	rows "github.com/illumicode/illumicode/internal/store"
)

// An Action is one dangerous thing that somebody is about to do, and has to prove an address for
// once more.
type Action struct {
	// Exact says what exactly is to happen, such as "transfer 250.00 to account 8215": the proof is
	// good for these bytes and for nothing else. Only a digest of them is stored.
	Exact []byte

	// Words says the same to the person in the letter: "pay 250.00 to Ines Amdal". It stands on a line of its own.
	Words string

	// Translated has Words in other languages, by BCP 47 tags: readers of pt-PT get those of pt-PT, else of pt.
	Translated map[string]string
}

// in returns the words for readers of a locale.
func (a Action) in(locale string) string {
	for at := locale; at != ""; at = at[:max(0, strings.LastIndexByte(at, '-'))] {
		if words := a.Translated[at]; words != "" {
			return words
		}
	}
	return a.Words
}

// digest binds the action's kind of use in, so that it equals no other digest of the same bytes.
func (a Action) digest() string {
	sum := sha256.Sum256(append([]byte("illumicode/action/1\x00"), a.Exact...))
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

// StepUp asks a subject who is signed in to prove an address of theirs once more, for one action.
// The address must be one that the subject has confirmed: else the error is [ErrNotConfirmed].
func (s *Service) StepUp(ctx context.Context, subject string, r Request, action Action) (Pending, error) {
	if len(action.Exact) == 0 || action.Words == "" {
		return Pending{},
			fmt.Errorf("illumicode: an action needs Exact, which the proof is bound to, and Words, which the " +
				"letter says")
	}
	to, err := s.p.Recipient(r.Address)
	if err != nil {
		return Pending{}, err
	}
	confirmed, err := s.confirmedAt(ctx, subject, to.Mailbox())
	if err != nil {
		return Pending{}, err
	}
	locale := s.Locale(cmp.Or(r.Locale, confirmed.Locale))
	data, err := json.Marshal(map[string]string{"action": action.in(locale)})
	if err != nil {
		return Pending{}, err
	}
	r.Address = confirmed.Address // another spelling may be another mailbox
	r.Purpose, r.Subject, r.Locale = challenge.StepUp, subject, locale
	st := start{purpose: challenge.StepUp, subject: subject, action: action.digest(), data: string(data)}
	var p Pending
	err = s.admitted(ctx, r, func(ctx context.Context, t Tx, a Admission) (err error) {
		// The account may be closed, or leave the address, at this moment: what it begins is ended with it, or is not
		// begun.
		if _, err := t.rows().BeginByFailures(ctx, changing(subject), s.p.Now()); err != nil {
			return err
		}
		addresses, err := t.rows().AddressesOf(ctx, subject)
		if err != nil {
			return err
		}
		if _, err := confirmedAmong(addresses, confirmed.Mailbox); err != nil {
			return err
		}
		p, err = t.begin(ctx, a, st)
		return err
	})
	return p, err
}

// confirmedAt returns the address by which a subject has confirmed a mailbox, or [ErrNotConfirmed].
func (s *Service) confirmedAt(ctx context.Context, subject, mailbox string) (rows.Address, error) {
	addresses, err := s.p.Store.Addresses(ctx, subject)
	if err != nil {
		return rows.Address{}, err
	}
	return confirmedAmong(addresses, mailbox)
}

func confirmedAmong(addresses []rows.Address, mailbox string) (rows.Address, error) {
	for _, a := range addresses {
		if a.Mailbox == mailbox && a.Standing == rows.Confirmed {
			return a, nil
		}
	}
	return rows.Address{}, ErrNotConfirmed
}

// AcceptAction is [Tx.Accept] for a proof that is good for one action: the caller says which one it
// is about to do, in the same transaction, and gets [ErrOtherAction] if the proof is for another.
// Of all callers exactly one succeeds; the others get [ErrUsed], or [ErrCalledOff] if it was ended since.
func (t Tx) AcceptAction(ctx context.Context, p Proof, action Action) error {
	switch err := t.ok(); {
	case err != nil:
		return err
	case p.purpose != challenge.StepUp:
		return ErrPurpose
	case p.action != action.digest():
		return ErrOtherAction
	}
	if _, err := t.win(ctx, p); err != nil {
		return err
	}
	return t.rows().Record(ctx, p.accepted(ctx, t.s.p.Now()))
}

// ActionCode proves a code and accepts it for an action in one call. apply, which may be nil, does the action, in the
// same commit, for the one caller that wins.
func (s *Service) ActionCode(ctx context.Context, ticket Ticket, code string, action Action,
	apply func(ctx context.Context, tx Tx, p Proof) error) error {
	p, err := s.Prove(ctx, ticket, code)
	if err != nil {
		return err
	}
	return s.Transact(ctx, func(ctx context.Context, tx Tx) error {
		if err := tx.AcceptAction(ctx, p, action); err != nil || apply == nil {
			return err
		}
		return apply(ctx, tx, p)
	})
}
