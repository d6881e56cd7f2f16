package outbox

import (
	"context"
	"errors"

	"github.com/illumicode/illumicode/store"
)

// A ledger groups the writes of all senders of a worker into few transactions: while one
// commits, which costs a flush to disk, others gather for the next.
type ledger struct {
	entries chan entry
	store   *store.Store
	done    chan struct{} // closed when the ledger's goroutine has ended
}

// An entry is one sender's write, and where it waits for the outcome: the begin of an attempt,
// its end, or both.
type entry struct {
	delivery store.Delivery
	begin    *store.Attempt
	end      *store.End
	out      chan error
}

// maxGroup bounds a transaction, so that other writers of the same file get their turn.
const maxGroup = 64

// newLedger starts a ledger that ends soon after ctx does.
func newLedger(ctx context.Context, st *store.Store) *ledger {
	l := &ledger{entries: make(chan entry), store: st, done: make(chan struct{})}
	go l.run(ctx)
	return l
}

// write writes an entry in a transaction that it may share with others, and returns when that has
// committed, or why it could not. [store.ErrFenced] concerns this entry alone; every other error
// undoes the whole group, and each of its writers is told. ctx bounds the wait for a place in a
// group.
func (l *ledger) write(ctx context.Context, d store.Delivery, begin *store.Attempt, end *store.End) error {
	e := entry{delivery: d, begin: begin, end: end, out: make(chan error, 1)}
	select {
	case l.entries <- e:
	case <-l.done: // the worker is stopping: write alone
		l.commit(ctx, []entry{e})
	case <-ctx.Done():
		return ctx.Err()
	}
	return <-e.out // the ledger always answers; giving up here could lose a committed begin
}

func (l *ledger) run(ctx context.Context) {
	defer close(l.done)
	for {
		select {
		case <-ctx.Done():
			return
		case e := <-l.entries:
			// What has been sent must be recorded: a commit does not end with the worker.
			l.commit(context.Background(), l.gather(e))
		}
	}
}

// gather returns first and whatever else waits already.
func (l *ledger) gather(first entry) []entry {
	group := []entry{first}
	for len(group) < maxGroup {
		select {
		case e := <-l.entries:
			group = append(group, e)
		default:
			return group
		}
	}
	return group
}

// commit writes a group and answers its writers.
func (l *ledger) commit(ctx context.Context, group []entry) {
	fenced := make([]error, len(group))
	err := l.store.Write(ctx, func(t store.Tx) error {
		var ends []store.End
		for i, e := range group {
			fenced[i] = nil
			if e.begin != nil {
				if err := t.BeginAttempt(ctx, e.delivery, *e.begin); errors.Is(err, store.ErrFenced) {
					fenced[i] = err // it wrote nothing
					continue
				} else if err != nil {
					return err
				}
			}
			if e.end != nil {
				ends = append(ends, *e.end)
			}
		}
		return t.EndAttempts(ctx, ends)
	})
	for i, e := range group {
		if err == nil {
			e.out <- fenced[i]
		} else {
			e.out <- err
		}
	}
}
