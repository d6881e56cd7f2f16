package illumicode

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/illumicode/illumicode/event"
	"github.com/illumicode/illumicode/internal/core/events"
	"github.com/illumicode/illumicode/internal/flow"
	rows "github.com/illumicode/illumicode/internal/store"
)

// spoolFor is how long a list that is arriving is kept when nothing comes any more.
const spoolFor = time.Hour

// ReceiveList takes an event whose recipients follow it, however many they are, and returns how many they were. r is
// JSON in lines: the event as in [Service.Receive], then a line for each recipient as at [EventRule].To, of at most
// 64 KiB, and at last {"end": N} with their number. It is read once and kept in pieces that nobody sees; with the last
// line the list is there as a whole. Without that line, or if a line is wrong, which the error names, nothing of it is.
// An error of the database can leave open whether it is: the same lines once more do no harm. An event with the source
// and the id of an earlier one has no effect; if anything in it differs, it is refused with [ErrDifferent]. The error
// matches [event.ErrMalformed] if the lines are at fault, and [event.ErrNoRule] if no rule for its type has its
// recipients in the event.
//
// Of each recipient 16 bytes are remembered until the end. A reader that gives nothing for an hour has lost its list.
func (s *Service) ReceiveList(ctx context.Context, r io.Reader) (recipients int, err error) {
	lines, err := events.ReadLines(r)
	if err != nil {
		return 0, err
	}
	arriving := &arrival{s: s, lines: lines, spool: rows.Spool{ID: flow.NewID()}}
	stands, err := s.p.Store.OnceOf(ctx, eventName(lines.Event))
	switch {
	case err == nil:
		return arriving.again(stands)
	case !errors.Is(err, rows.ErrNotFound):
		return 0, err
	}
	return arriving.take(ctx)
}

// An arrival is an event while its recipients arrive.
type arrival struct {
	s      *Service
	lines  *events.Lines
	values map[string]any
	lists  []*listing
	rest   []EventRule // that take their recipients from elsewhere
	spool  rows.Spool
	count  int
}

// again compares a list with what stands under its source and id.
func (a *arrival) again(stands rows.Once) (int, error) {
	for _, err := range a.lines.Recipients() {
		if err != nil {
			return 0, err
		}
		a.count++
	}
	if stands.Digest != a.lines.Digest() {
		return 0, differs(a.lines.Event)
	}
	return a.count, nil
}

// take reads the list, and makes it one.
func (a *arrival) take(ctx context.Context) (int, error) {
	e := a.lines.Event
	ctx = askedByEvent(ctx, e)
	if err := a.begin(); err != nil {
		return 0, err
	}
	if err := a.s.p.Store.BeginSpool(ctx, a.spool, a.s.p.Now()); err != nil {
		return 0, err
	}
	err := a.read(ctx)
	if err == nil {
		err = a.s.write(ctx, func(t Tx) error { return a.publish(ctx, t) })
	}
	if err == nil {
		return a.count, nil
	}
	// What is left is removed in an hour at the latest.
	if giveUp := a.s.p.Store.GiveUpSpool(context.WithoutCancel(ctx), a.spool, a.s.p.Now()); giveUp != nil {
		a.s.p.Log.Warn("what came of a list is removed later", "source", e.Source, "id", e.ID, "error", giveUp)
	}
	if errors.Is(err, errRepeated) {
		return a.count, nil
	}
	return 0, err
}

// begin finds the rules that a list is for.
func (a *arrival) begin() (err error) {
	e := a.lines.Event
	if a.values, err = events.Values(e); err != nil {
		return fmt.Errorf("%w: line 1: %w", event.ErrMalformed, err)
	}
	for _, r := range a.s.rules {
		switch {
		case !r.fits(e.Type):
		case r.To == "":
			a.rest = append(a.rest, r)
		default:
			if err := a.list(r); err != nil {
				return err
			}
		}
	}
	switch {
	case a.lists == nil && a.rest == nil:
		return a.s.noRule(e.Type)
	case a.lists == nil:
		return fmt.Errorf("%w: the rules for %q have recipients of their own, so none can follow the event",
			event.ErrNoRule, e.Type)
	}
	return nil
}

// list begins the list of a rule.
func (a *arrival) list(r EventRule) error {
	if r.Gather > 0 {
		return fmt.Errorf("%w: the rule for letter %q gathers, which recipients in lines cannot",
			event.ErrMalformed, r.Letter)
	}
	if _, there := events.At(a.values, r.To); there {
		return fmt.Errorf("%w: line 1: its data have something at %s, where the recipients are that follow in lines",
			event.ErrMalformed, r.To)
	}
	n, err := r.notice(a.values, a.s.p.Now())
	if err != nil {
		return err
	}
	l, err := a.s.listing(n, func(ctx context.Context, p rows.Piece) error {
		return a.s.p.Store.AddSpooled(ctx, a.spool.ID, p, a.s.p.Now())
	})
	if err != nil {
		return err
	}
	a.lists = append(a.lists, l)
	a.spool.Lists = append(a.spool.Lists, l.id)
	return nil
}

// read takes the recipients.
func (a *arrival) read(ctx context.Context) error {
	for r, err := range a.lines.Recipients() {
		if err != nil {
			return err
		}
		for _, l := range a.lists {
			if err := l.add(ctx, addresseeOf(r)); err != nil {
				if errors.Is(err, rows.ErrDatabase) || errors.Is(err, rows.ErrGivenUp) || ctx.Err() != nil {
					return err
				}
				return fmt.Errorf("%w: line %d: %w", event.ErrMalformed, a.lines.Line(), err)
			}
		}
		a.count++
	}
	if a.count == 0 {
		return fmt.Errorf("%w: no recipients follow it", event.ErrMalformed)
	}
	for _, l := range a.lists {
		if err := l.flush(ctx); err != nil {
			return err
		}
	}
	return nil
}

// errRepeated undoes the publication of what another has published meanwhile.
var errRepeated = errors.New("illumicode: the same event came twice at a time")

// publish makes the pieces lists, and applies the other rules.
func (a *arrival) publish(ctx context.Context, t Tx) error {
	if err := t.rows().PublishSpool(ctx, a.spool.ID); err != nil {
		return err
	}
	first, err := t.firstOf(ctx, a.lines.Event, a.lines.Digest())
	if err == nil && !first {
		err = errRepeated
	}
	if err != nil {
		return err
	}
	for _, l := range a.lists {
		if err := l.end(ctx, t); err != nil {
			return err
		}
	}
	for _, r := range a.rest {
		if err := t.apply(ctx, r, a.lines.Event, a.values); err != nil {
			return err
		}
	}
	return nil
}
