package illumicode

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/composer"
	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/limits"
	"github.com/illumicode/illumicode/internal/outbox"
	rows "github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/limit"
)

// A Holding is an address of a subject.
type Holding struct{ Subject, Address string }

// ChangeAddress begins the change of a subject's address from one that it has confirmed to the one of the request. The
// new one is pending until it is proven, and the old one keeps working; it is told in a letter with a link by which
// its holder can take the change back for some days (Config.Undo), before and after it is made. An earlier change that
// is pending stops.
//
// The caller must be sure that the subject itself asks: by its session and, best, a password or a
// step-up. The error matches [message.ErrAddress] or [ErrNotConfirmed].
func (s *Service) ChangeAddress(ctx context.Context, of Holding, r Request) (Pending, error) {
	from, err := s.p.Recipient(of.Address)
	if err != nil {
		return Pending{}, err
	}
	confirmed, err := s.confirmedAt(ctx, of.Subject, from.Mailbox())
	if err != nil {
		return Pending{}, err
	}
	r.Purpose, r.Subject, r.Locale = challenge.Reverify, of.Subject, cmp.Or(r.Locale, confirmed.Locale)
	// Every change is told to the old address, so it counts there too: apart from what strangers ask for, as a
	// subject's own letters do.
	old := s.p.Keyed(ctx, flow.LimitRequest{To: from, Purpose: challenge.StepUp, Subject: of.Subject,
		Stage: limit.First})
	old.Purpose = challenge.Reverify
	told, _, err := s.spend(ctx, spending{old, from, "", limits.ByPerson})
	if err != nil {
		return Pending{}, err
	}
	var p Pending
	err = s.admitted(ctx, r, func(ctx context.Context, t Tx, a Admission) (err error) {
		p, err = t.beginChange(ctx, a, confirmed)
		return err
	})
	if err != nil {
		s.p.Limits.Refund(ctx, told)
	}
	return p, err
}

func (t Tx) beginChange(ctx context.Context, a Admission, from rows.Address) (Pending, error) {
	now := t.s.p.Now()
	if _, err := t.rows().BeginByFailures(ctx, changing(from.Subject), now); err != nil {
		return Pending{}, err
	}
	if err := t.s.p.CallOffChanging(ctx, t.rows(), from.Subject, proof.Superseded); err != nil {
		return Pending{}, err
	}
	if err := t.rows().StopChanges(ctx, from.Subject); err != nil {
		return Pending{}, err
	}
	addresses, err := t.rows().AddressesOf(ctx, from.Subject)
	if err != nil {
		return Pending{}, err
	}
	if _, err := confirmedAmong(addresses, from.Mailbox); err != nil { // an earlier change was made since
		return Pending{}, err
	}
	p, err := t.begin(ctx, a, start{purpose: challenge.Reverify, subject: from.Subject})
	if err != nil {
		return Pending{}, err
	}
	c := rows.Change{
		ID: flow.NewID(), Subject: from.Subject, Old: from.Address, OldMailbox: from.Mailbox, New: a.address.String(),
		NewMailbox: a.address.Mailbox(), Challenge: p.id, State: rows.Pending, Made: now,
		UndoEnds: now.Add(t.s.p.Undo), Locale: from.Locale,
	}
	flow.BindChange(t.s.p.Keys.Active(), &c)
	if err := t.rows().InsertChange(ctx, c); err != nil {
		return Pending{}, err
	}
	return p, t.tellOld(ctx, c, a)
}

// tellOld adds the letter that tells the old address of a change that was begun.
func (t Tx) tellOld(ctx context.Context, c rows.Change, a Admission) error {
	return t.tell(ctx, c, told{letter: flow.ChangeLetter, name: a.address.Name, locale: a.locale, due: t.s.p.Now()})
}

// correctChange puts another address into a change that is pending, and tells the old one again: it
// must know where its account goes.
func (t Tx) correctChange(ctx context.Context, from, to string, a Admission) error {
	c, err := t.rows().ChangeFor(ctx, from)
	if errors.Is(err, rows.ErrNotFound) { // an address asked again
		return nil
	}
	if err != nil {
		return err
	}
	key, err := t.s.p.ChangeKey(c)
	if err != nil {
		return unusable(err)
	}
	c.Challenge, c.New, c.NewMailbox = to, a.address.String(), a.address.Mailbox()
	flow.BindChange(key, &c)
	switch corrected, err := t.rows().CorrectChange(ctx, c); {
	case err != nil:
		return err
	case !corrected: // taken back, or superseded, since
		return ErrCalledOff
	}
	return t.tellOld(ctx, c, a)
}

// makeChange makes the change that an accepted proof is for, if it is for one. frozen says that the
// account has a change that was taken back: then the proof counts for desk.Desk.Decide alone.
func (t Tx) makeChange(ctx context.Context, won rows.Challenge) (frozen bool, err error) {
	if frozen, err = t.rows().AnyFrozen(ctx, won.Subject); err != nil || frozen {
		return frozen, err
	}
	c, err := t.rows().ChangeFor(ctx, won.ID)
	if errors.Is(err, rows.ErrNotFound) { // an address asked again
		return false, nil
	}
	if err == nil {
		_, err = t.s.p.ChangeKey(c)
		err = unusable(err)
	}
	if err != nil {
		return false, err
	}
	addresses, err := t.rows().AddressesOf(ctx, c.Subject)
	if err != nil {
		return false, err
	}
	has := slices.ContainsFunc(addresses, func(a rows.Address) bool {
		return a.Mailbox == c.OldMailbox && a.Standing.Holds()
	})
	if c.State != rows.Pending || !has { // taken back in the moment in which it was corrected, or another was made
		return false, ErrCalledOff
	}
	switch moved, err := t.rows().MoveChange(ctx, c, rows.Made, time.Time{}); {
	case err != nil:
		return false, err
	case !moved:
		return false, ErrCalledOff
	}
	// The mailbox stays the subject's until nobody can take the change back: nobody else may confirm
	// it meanwhile. What was begun there must not bring the address back.
	if err := t.s.p.CallOffOpen(ctx, t.rows(), flow.Opened{Subject: c.Subject, Mailbox: c.OldMailbox,
		Why: proof.Moved}); err != nil {
		return false, err
	}
	if err := t.rows().RemoveAddress(ctx, c.Subject, c.Old); err != nil {
		return false, err
	}
	return false, t.tellMade(ctx, c, won.Name)
}

// onceMore is how long after a change was made its old address is told a second time: somebody who had the mailbox for
// some minutes cannot have deleted that letter.
const onceMore = 24 * time.Hour

// tellMade adds the letters that tell the old address of a change that was made, now and once more a day later.
func (t Tx) tellMade(ctx context.Context, c rows.Change, name string) error {
	now := t.s.p.Now()
	for _, due := range []time.Time{now, now.Add(onceMore)} {
		if !due.Before(c.UndoEnds) {
			break
		}
		if err := t.tell(ctx, c, told{letter: flow.ChangedLetter, name: name, due: due}); err != nil {
			return err
		}
	}
	return nil
}

// A told is what the old address of a change is told, and when.
type told struct {
	letter, name, locale string
	due                  time.Time
}

// tell adds a letter to the old address of a change, in the language of who proved it: whoever asks for the change may
// be somebody else.
func (t Tx) tell(ctx context.Context, c rows.Change, what told) error {
	what.name = flow.Greeted(what.name)
	data, err := json.Marshal(map[string]string{composer.ChangeID: c.ID, "name": what.name})
	if err != nil {
		return err
	}
	return t.rows().InsertDelivery(ctx, rows.Delivery{
		ID: flow.NewID(), Letter: what.letter, Locale: cmp.Or(c.Locale, t.s.Locale(what.locale)), Address: c.Old,
		Name: what.name, Data: string(data), Lane: rows.Urgent, Created: t.s.p.Now(), Due: what.due,
		DeliverBefore: c.UndoEnds, Trace: outbox.Trace(ctx),
	})
}

// A Doubt says why an address is not to be relied on any more.
type Doubt struct {
	Bounced bool   // letters to it came back; false means that it is old
	Reason  string // in words, for the trail and for who asks later
}

// MarkStale says that a confirmed address of a subject is not to be relied on any more. Workers ask it again, a few at
// a time (Config.Recheck), and it works for a time of grace, at whose end the application is told.
func (t Tx) MarkStale(ctx context.Context, of Holding, why Doubt) error {
	if err := t.ok(); err != nil {
		return err
	}
	to, err := t.s.p.Recipient(of.Address)
	if err != nil {
		return err
	}
	now := t.s.p.Now()
	next := rows.Address{
		Subject: of.Subject, Mailbox: to.Mailbox(), Standing: rows.Stale, Since: now, Reason: why.Reason,
		GraceEnds: now.Add(t.s.p.Grace),
	}
	if why.Bounced {
		next.Standing = rows.Bounced
	}
	changed, err := t.rows().SetStanding(ctx, next)
	if err != nil || !changed {
		return err
	}
	return t.rows().Record(ctx, rows.Step{
		Subject: of.Subject, Mailbox: to.Mailbox(), At: now, What: "standing", Outcome: string(next.Standing) + ": " +
			why.Reason,
		Network: flow.Network(ctx),
	})
}
