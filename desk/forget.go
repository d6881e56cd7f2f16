package desk

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
)

// A Forgotten is what an erasure came to, or what it has come to so far.
type Forgotten struct {
	Done   bool  // the erasure has ended
	Stage  int   // how many of its stages are done
	Stages int   // of which there are these
	Looked int64 // rows looked at
	Rows   int64 // of these, erased or changed
	// where the address still stands: nowhere, unless something was written since the erasure began, or a key of your
	// own names it
	Left []Found
	// other addresses that the same accounts have or had: they are kept, and may be forgotten in turn; nil for an
	// erasure that was resumed
	Akin []string
}

// A Found is where an address stands.
type Found struct {
	Table  string
	Column string
	Rows   int64
}

// A Trace says what an erasure leaves of a person.
type Trace string

// What can be left. A suppression that exists keeps its keyed thumbprint in either case.
const (
	LeaveNothing    Trace = "nothing"
	LeaveThumbprint Trace = "thumbprint" // so that nothing writes to the address again, an import included
)

// An Erasure says how somebody is forgotten. The zero Erasure leaves nothing.
type Erasure struct {
	Leave    Trace           // empty means LeaveNothing
	Progress func(Forgotten) // is told after each step; nil for nobody
}

// Forget erases a person by their address. Accounts, challenges and letters go first, by indexes, in small
// transactions; letters to the address wait for that alone. Then it walks through every table, 500 rows at a time,
// takes the address out of what mentions it, and counts where it remains. The contents of attachments are not looked
// at. The person is forgotten if there is no error and Forgotten.Left is empty. What is done is kept: called again
// after an error, it goes on. What was written since it began stays, and is in Left: a new call erases it. A person may
// have other addresses: Forgotten.Akin names them.
//
// An attempt at a letter to the address that is under way is waited for, for ten seconds, and is an error then.
func (d *Desk) Forget(ctx context.Context, address string, how Erasure) (Forgotten, error) {
	to, err := flow.KnownRecipient(address)
	if err != nil {
		return Forgotten{}, err
	}
	if how.Leave == LeaveThumbprint {
		found, err := d.p.Store.SuppressedAmong(ctx, d.p.Thumbs(to.Mailbox()))
		if err == nil && (len(found) == 0 || found[0].Scope != store.AllLetters) {
			err = d.Suppress(ctx, address, AllLetters, "its owner was forgotten")
		}
		if err != nil {
			return Forgotten{}, err
		}
	}
	akin, err := d.p.Store.Akin(ctx, to.Mailbox()) // before the link between them goes
	if err != nil {
		return Forgotten{}, err
	}
	e, err := d.p.Store.Erase(ctx, to.Mailbox(), to.String(), d.p.Now())
	if err != nil {
		return Forgotten{}, err
	}
	return d.erase(ctx, e, akin, how.Progress)
}

// ResumeForget goes on with the erasures that were begun and not ended, and returns what each came to.
func (d *Desk) ResumeForget(ctx context.Context, progress func(Forgotten)) ([]Forgotten, error) {
	left, err := d.p.Store.Erasures(ctx)
	if err != nil {
		return nil, err
	}
	all := make([]Forgotten, 0, len(left))
	for _, e := range left {
		f, err := d.erase(ctx, e, nil, progress)
		if all = append(all, f); err != nil {
			return all, err
		}
	}
	return all, nil
}

// patience is how long an erasure waits for an attempt that is under way.
const patience = 10 * time.Second

// erase takes all steps of an erasure. It rests after each as long as that took, so that others get their turn.
func (d *Desk) erase(ctx context.Context, e *store.Erasure, akin []string, progress func(Forgotten)) (f Forgotten,
	err error) {
	var waits time.Time // since when it waits for an attempt
	for !f.Done {
		began := time.Now()
		done, err := e.Step(ctx)
		rest := time.Since(began)
		if underWay := errors.Is(err, store.ErrUnderWay); !underWay {
			waits = time.Time{}
		} else if waits.IsZero() || time.Since(waits) < patience {
			waits = cmp.Or(waits, began)
			err, rest = nil, 100*time.Millisecond
		}
		f = Forgotten{Done: done, Stage: e.Stage, Stages: e.Stages(), Looked: e.Looked, Rows: e.Changed, Akin: akin,
			Left: remains(e.Remains)}
		if err != nil {
			return f, err
		}
		if progress != nil {
			progress(f)
		}
		if !sleep(ctx, min(rest, 100*time.Millisecond)) {
			return f, ctx.Err()
		}
	}
	return f, nil
}

func remains(counts map[string]int) []Found {
	var left []Found
	for _, place := range slices.Sorted(maps.Keys(counts)) {
		table, column, _ := strings.Cut(place, ".")
		left = append(left, Found{"illumicode_" + table, column, int64(counts[place])})
	}
	return left
}

func sleep(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}
