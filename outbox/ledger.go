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

// An entry is one sender's write, and where it waits for the outcome.
type entry struct {
	write func(context.Context, store.Tx) error
	out   chan error
}

// maxGroup bounds a transaction, so that other writers of the same file get their turn.
const maxGroup = 64

// newLedger starts a ledger that ends soon after ctx does.
func newLedger(ctx context.Context, st *store.Store) *ledger {
	l := &ledger{entries: make(chan entry), store: st, done: make(chan struct{})}
	go l.run(ctx)
	return l
}

// write runs fn in a transaction that it may share with others, and returns when that has
// committed, or why it could not. [store.ErrFenced] from fn concerns fn alone; every other error
// undoes the whole group, and each of its writers is told. ctx bounds the wait for a place in
// a group; fn is given a context that none of the group's members can end.
func (l *ledger) write(ctx context.Context, fn func(context.Context, store.Tx) error) error {
	e := entry{write: fn, out: make(chan error, 1)}
	select {
	case l.entries <- e:
	case <-l.done: // the worker is stopping: write alone
		return l.store.Write(ctx, func(t store.Tx) error { return fn(ctx, t) })
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
			l.commit(l.gather(e))
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

// commit writes a group. It does not end with the worker's context: what has been sent must be
// recorded.
func (l *ledger) commit(group []entry) {
	fenced := make([]error, len(group))
	ctx := context.Background()
	err := l.store.Write(ctx, func(t store.Tx) error {
		for i, e := range group {
			fenced[i] = nil
			if err := e.write(ctx, t); errors.Is(err, store.ErrFenced) {
				fenced[i] = err // it wrote nothing
			} else if err != nil {
				return err
			}
		}
		return nil
	})
	for i, e := range group {
		if err == nil {
			e.out <- fenced[i]
		} else {
			e.out <- err
		}
	}
}
