package desk

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"iter"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
)

// A Choice says which letters are recalled. Its fields narrow the choice together, and at least one is set.
type Choice struct {
	Delivery string        // the id of one
	Letter   string        // its name
	Lane     delivery.Lane // that it is in
	Address  string        // as it was asked for
	Key      string        // the application's
	Subject  string        // that it goes to
	Since    time.Time     // asked for then or later
	Until    time.Time     // asked for earlier; zero takes what is asked for in future too
}

func (c Choice) filter() store.Filter {
	return store.Filter{ID: c.Delivery, Letter: c.Letter, Lane: store.Lane(c.Lane), Address: c.Address, Key: c.Key,
		Subject: c.Subject, CreatedAfter: c.Since, CreatedBefore: c.Until}
}

// A Recall says who has the letters that were recalled, at the moment of the call.
type Recall struct {
	ID        string
	Why       string
	HaveIt    int
	MayHaveIt int // an attempt is under way, or ended without an answer
	WillNot   int // unless they are released
	Lists     int // that are not expanded yet; those in them will not either
}

// Recall calls letters back. When it has returned, no worker of this version begins to send one of them, on any
// machine: neither what waits nor what a worker has claimed, nor fallbacks, lists that are not expanded, and letters
// that are asked for later. All are marked as held by "recall ID": what there is as far as that takes no second, the
// rest by workers when it is due. If the error comes after the recall holds, the Recall that comes with it has an ID.
func (d *Desk) Recall(ctx context.Context, which Choice, why Reason) (Recall, error) {
	if why == "" {
		return Recall{}, errors.New("desk: a recall needs a reason")
	}
	now := d.p.Now()
	r, err := d.p.Store.TakeBack(ctx, which.filter(), string(why), now)
	if err != nil {
		return Recall{}, err
	}
	count, lists, err := d.p.Store.Arrivals(ctx, r)
	if err == nil {
		_, err = d.p.Store.HoldRecalled(ctx, now, time.Second)
	}
	return Recall{r.ID, r.Why, count[store.Arrived], count[store.ArrivedPerhaps], count[store.NotArrived], lists}, err
}

// EndRecall ends a recall by its id and lets go what it holds. It returns how many letters that were; called again
// after an error it goes on.
func (d *Desk) EndRecall(ctx context.Context, id string) (released int64, err error) {
	r, err := d.recallOf(ctx, id)
	if err != nil {
		return 0, err
	}
	released, err = d.p.Store.EndReleasing(ctx, r, d.p.Now())
	d.svc.Wake()
	return released, err
}

// CancelRecalled cancels what a recall holds, and the lists that are not expanded, and ends the recall. It returns how
// many letters and lists that were; called again after an error it goes on.
func (d *Desk) CancelRecalled(ctx context.Context, id string) (cancelled int64, err error) {
	r, err := d.recallOf(ctx, id)
	if err != nil {
		return 0, err
	}
	return d.p.Store.EndCancelling(ctx, r, d.p.Now())
}

// ReleaseRecalled lets go some of what a recall holds, while the recall goes on for the others.
func (d *Desk) ReleaseRecalled(ctx context.Context, id string, which Choice) (int64, error) {
	if which == (Choice{}) {
		return 0, errors.New("desk: choose what is released; EndRecall lets all go")
	}
	r, err := d.recallOf(ctx, id)
	if err != nil {
		return 0, err
	}
	n, err := d.p.Store.ReleaseRecalled(ctx, r, which.filter())
	d.svc.Wake()
	return n, err
}

// Correct sends a notice to everybody who has what was recalled, and with perhaps also to those who may have it: once
// to each address, however often it is called. It returns how many are new. The notices have the key "correction of
// recall ID", for [illumicode.Tx.Cancel].
func (d *Desk) Correct(ctx context.Context, id string, n illumicode.Notice, perhaps bool) (int, error) {
	r, err := d.recallOf(ctx, id)
	if err != nil {
		return 0, err
	}
	n.Key = "correction of recall " + r.ID
	if r.Keeps(n.Letter, n.Key, store.Lane(n.Lane), d.p.Now()) {
		return 0, fmt.Errorf("desk: the recall would hold its own correction; give it another letter, or end the " +
			"recall first")
	}
	told, err := d.told(ctx, n.Key)
	if err != nil {
		return 0, err
	}
	nobody := false // has it, or all know
	people := func(yield func(illumicode.Recipient, error) bool) {
		nobody = true
		for one, err := range d.who(ctx, r, perhaps) {
			if told[one.Address] && err == nil {
				continue
			}
			nobody = false
			if !yield(illumicode.Recipient{Request: illumicode.Request{Address: one.Address, Name: one.Name,
				Locale: one.Locale, Zone: one.Zone}}, err) {
				return
			}
		}
	}
	count, err := d.svc.NotifyAll(flow.AskedBy(ctx, "the correction of recall "+r.ID), n, people)
	if nobody {
		return 0, nil // a list without anybody is refused
	}
	return count, err
}

// told returns the addresses that have a letter under a key.
func (d *Desk) told(ctx context.Context, key string) (map[string]bool, error) {
	f := store.Filter{Key: key}
	if waits, err := d.p.Store.AnyList(ctx, f); err != nil || waits {
		return nil, cmp.Or(err, errors.New("desk: the correction before this one is still being made out; call again "+
			"in a moment"))
	}
	told := make(map[string]bool)
	err := d.p.Store.Each(ctx, f, func(one store.Delivery) error { told[one.Address] = true; return nil })
	return told, err
}

// who yields the deliveries whose recipients have what was recalled.
func (d *Desk) who(ctx context.Context, r store.Recall, perhaps bool) iter.Seq2[store.Delivery, error] {
	done := errors.New("done")
	return func(yield func(store.Delivery, error) bool) {
		err := d.p.Store.EachRecalled(ctx, r, func(one store.Recalled) error {
			if one.Arrival == store.Arrived || perhaps && one.Arrival == store.ArrivedPerhaps {
				if !yield(one.Delivery, nil) {
					return done
				}
			}
			return nil
		})
		if err != nil && err != done {
			yield(store.Delivery{}, err)
		}
	}
}

func (d *Desk) recallOf(ctx context.Context, id string) (store.Recall, error) {
	r, err := d.p.Store.RecallOf(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return r, fmt.Errorf("desk: there is no recall %q: %w", id, err)
	}
	return r, err
}
