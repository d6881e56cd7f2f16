package illumicode

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/illumicode/illumicode/core/limit"
	"github.com/illumicode/illumicode/core/message"
	"github.com/illumicode/illumicode/store"
)

// A Story is all that is known of an address, newest first, for who has to explain to its owner
// where a code went. It holds no code, no link and no ticket.
type Story struct {
	Mailbox    string
	Addresses  []store.Address     // for every subject that has it
	Suppressed []store.Suppression // why it is not written to, the widest first
	Changes    []store.Change
	Trail      []store.Step
	Deliveries []StoryLetter
	Refused    []Refused // what could not be asked for now
	Failures   float64   // wrong codes, as they count now: from 5 on tries are some seconds apart
}

// A Refused is a letter that could not be asked for now: "I got no code" may mean that. Past refusals are
// not kept, as strangers could fill the database with them. Limits by network are not among these: they
// know who asks, and not for whom.
type Refused struct {
	Purpose string
	Again   bool      // only a letter that is sent again
	Rule    string    // the rule that refuses it longest
	Limit   string    // what it allows, in words
	Until   time.Time // zero if for ever
}

// A StoryLetter is a delivery with its attempts and what came back.
type StoryLetter struct {
	store.Delivery
	Tried    []store.Attempt
	Feedback []store.Feedback
}

// storyLength is how much of each kind a story has at most.
const storyLength = 50

// Story returns all that is known of an address.
func (s *Service) Story(ctx context.Context, address string) (Story, error) {
	to, err := s.anyRecipient(address)
	if err != nil {
		return Story{}, err
	}
	st := Story{Mailbox: to.Mailbox()}
	if st.Addresses, err = s.store.AddressesAt(ctx, st.Mailbox); err != nil {
		return st, err
	}
	seen := make(map[string]bool)
	for _, a := range st.Addresses {
		if seen[a.Subject] {
			continue
		}
		seen[a.Subject] = true
		changes, err := s.store.Changes(ctx, a.Subject)
		if err != nil {
			return st, err
		}
		st.Changes = append(st.Changes, changes...)
	}
	if st.Suppressed, err = s.store.SuppressedAmong(ctx, s.thumbs(st.Mailbox)); err != nil {
		return st, err
	}
	if st.Trail, err = s.store.Trail(ctx, st.Mailbox, storyLength); err != nil {
		return st, err
	}
	failures, err := s.store.Failures(ctx, "address:"+st.Mailbox)
	if err != nil {
		return st, err
	}
	st.Failures = failures.Count(s.now())
	if st.Refused, err = s.refusedNow(ctx, to); err != nil {
		return st, err
	}
	letters, err := s.store.LettersTo(ctx, st.Mailbox, to.String(), storyLength)
	for _, d := range letters {
		one := StoryLetter{Delivery: d}
		if one.Tried, err = s.store.Attempts(ctx, d.ID); err != nil {
			return st, err
		}
		if one.Feedback, err = s.store.FeedbackOn(ctx, d.ID); err != nil {
			return st, err
		}
		st.Deliveries = append(st.Deliveries, one)
	}
	return st, err
}

// refusedNow returns what the limits would refuse to an address at this moment, to a browser that has never
// signed in.
func (s *Service) refusedNow(ctx context.Context, to message.Address) ([]Refused, error) {
	var out []Refused
	for _, purpose := range slices.Sorted(maps.Keys(s.purposes)) {
		for _, stage := range []limit.Stage{limit.First, limit.Again} {
			bound := s.limits.set.Bind(s.ask(ctx, to, purpose, "", "", stage))
			states, err := s.limits.clerk.look(ctx, bound)
			if err != nil {
				return nil, err
			}
			d := limit.Judge(bound, states, 1, s.now(), make([]limit.State, len(bound)))
			if !d.Allowed {
				out = append(out, Refused{purpose, stage == limit.Again, d.Refuser.Name, d.Refuser.String(), d.At})
				break // what refuses a first letter need not be told of the next ones
			}
		}
	}
	return out, nil
}

// anyRecipient reads an address that is in the tables already, so that it need not be one which
// could be written to today.
func (s *Service) anyRecipient(address string) (message.Address, error) {
	return message.ParseRecipient(strings.TrimSpace(address))
}

// thumbs returns the thumbprints under which a mailbox may be suppressed, that of new rows first.
func (s *Service) thumbs(mailbox string) []string {
	var all []string
	for _, key := range s.keys.Index() {
		all = append(all, key.Lookup(mailbox))
	}
	return all
}

// screen returns which deliveries go to addresses that must not be written to, with the reason.
func (s *Service) screen(ctx context.Context, claimed []store.Delivery) (map[string]string, error) {
	var thumbs []string
	whose := make(map[string][]store.Delivery, len(claimed))
	for _, d := range claimed {
		to, err := message.ParseRecipient(d.Address)
		if err != nil {
			continue // it will not be composed either
		}
		for _, thumb := range s.thumbs(to.Mailbox()) {
			thumbs = append(thumbs, thumb)
			whose[thumb] = append(whose[thumb], d)
		}
	}
	found, err := s.store.SuppressedAmong(ctx, thumbs)
	notes := make(map[string]string, len(found))
	for _, sup := range found {
		for _, d := range whose[sup.Thumb] {
			if notes[d.ID] != "" {
				continue
			}
			keep, err := s.keepsBack(ctx, sup, d)
			if err != nil {
				return nil, err
			}
			if keep {
				notes[d.ID] = "its address is suppressed (" + string(sup.Scope) + "); `illumicode address show` says why"
			}
		}
	}
	return notes, err
}

// bounceRest is how long an address that has bounced is left alone after a challenge was let through.
const bounceRest = 24 * time.Hour

// keepsBack reports whether a suppression keeps a delivery back. To an address that has bounced one
// challenge a day may go, so that it can be proven again; and the letters that ask it again, which are
// rarer than that.
func (s *Service) keepsBack(ctx context.Context, sup store.Suppression, d store.Delivery) (bool, error) {
	switch sup.Scope {
	case store.NoticesOnly:
		return !s.letters.Kind(d.Letter).Security(), nil
	case store.BouncedOnce:
		if d.Challenge == "" {
			return true, nil
		}
		if d.Letter == recheckLetter {
			return false, nil
		}
		let, err := s.store.LetThrough(ctx, sup.Thumb, d.Challenge, bounceRest, s.now())
		return !let, err
	}
	return true, nil
}

// Suppress keeps letters from an address: notices, or with all also those that its owner asks for.
// reason says why, for whoever looks later.
func (s *Service) Suppress(ctx context.Context, address string, scope store.Scope, reason string) error {
	to, err := s.anyRecipient(address)
	if err != nil {
		return err
	}
	if scope != store.AllLetters && scope != store.NoticesOnly {
		return fmt.Errorf("illumicode: what is suppressed is %q or %q, not %q", store.AllLetters, store.NoticesOnly, scope)
	}
	other := store.AllLetters
	if scope == other {
		other = store.NoticesOnly
	}
	return s.store.Write(ctx, func(t store.Tx) error {
		if _, err := t.Unsuppress(ctx, s.thumbs(to.Mailbox()), other); err != nil { // the later word is the one that holds
			return err
		}
		return s.suppress(ctx, t, to.Mailbox(), scope, reason)
	})
}

// suppress adds a suppression, with a line of the trail.
func (s *Service) suppress(ctx context.Context, t store.Tx, mailbox string, scope store.Scope, reason string) error {
	now, key := s.now(), s.keys.Index()[0]
	if err := t.Suppress(ctx, store.Suppression{Thumb: key.Lookup(mailbox), Kid: key.ID(), Mailbox: mailbox, Scope: scope, Reason: reason, Since: now}); err != nil {
		return err
	}
	return t.Record(ctx, store.Step{Mailbox: mailbox, At: now, What: "suppressed", Outcome: string(scope) + ": " + reason, Network: network(ctx)})
}

// Restore lets letters go to an address again. It reports whether any were kept back.
func (s *Service) Restore(ctx context.Context, address, reason string) (bool, error) {
	to, err := s.anyRecipient(address)
	if err != nil {
		return false, err
	}
	var any bool
	err = s.store.Write(ctx, func(t store.Tx) error {
		if any, err = t.Unsuppress(ctx, s.thumbs(to.Mailbox()), store.AllLetters, store.BouncedOnce, store.NoticesOnly); err != nil {
			return err
		}
		return t.Record(ctx, store.Step{Mailbox: to.Mailbox(), At: s.now(), What: "restored", Outcome: reason, Network: network(ctx)})
	})
	return any, err
}

// ConfirmAddress records an address as confirmed without a proof, on somebody's responsibility:
// reason says whose and why. The error is [ErrHeld] if another subject holds it.
func (s *Service) ConfirmAddress(ctx context.Context, subject, address, reason string) error {
	to, err := s.anyRecipient(address)
	if err != nil {
		return err
	}
	if subject == "" || reason == "" {
		return errors.New("illumicode: a confirmation without a proof needs a subject, and a reason that says on whose word")
	}
	now := s.now()
	return s.store.Write(ctx, func(t store.Tx) error {
		step := store.Step{Subject: subject, Mailbox: to.Mailbox(), At: now, What: "standing", Outcome: "confirmed by an operator: " + reason, Network: network(ctx)}
		held, err := t.Confirm(ctx, to.String(), s.thumbs(to.Mailbox()), step)
		if err == nil && !held {
			err = ErrHeld
		}
		return err
	})
}

// A Forgotten is what an erasure came to.
type Forgotten struct {
	Rows int64        // erased or changed
	Left []store.Find // where the address still stands: nowhere, unless something went wrong
	Akin []string     // other addresses that the same accounts have or had: they are kept, and may be forgotten in turn
}

// Forget erases a person by their address, everywhere: see [store.Store.Erase]. Then it searches
// every table for the address, and returns where it still stands. A suppression stays under its
// thumbprint, so that the next import does not write to them; keep says to leave one where there was
// none. Attachments are not searched. A person may have other addresses: Akin names them.
func (s *Service) Forget(ctx context.Context, address string, keep bool) (Forgotten, error) {
	to, err := s.anyRecipient(address)
	if err != nil {
		return Forgotten{}, err
	}
	if keep {
		found, err := s.store.SuppressedAmong(ctx, s.thumbs(to.Mailbox()))
		if err == nil && (len(found) == 0 || found[0].Scope != store.AllLetters) {
			err = s.Suppress(ctx, address, store.AllLetters, "its owner was forgotten")
		}
		if err != nil {
			return Forgotten{}, err
		}
	}
	var f Forgotten
	if f.Akin, err = s.store.Akin(ctx, to.Mailbox()); err != nil { // before the link between them goes
		return f, err
	}
	if f.Rows, err = s.store.Erase(ctx, to.Mailbox(), to.String()); err != nil {
		return f, err
	}
	f.Left, err = s.store.Search(ctx, to.Mailbox(), to.String())
	return f, err
}
