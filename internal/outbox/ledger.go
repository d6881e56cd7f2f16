package outbox

import (
	"context"
	"time"

	"github.com/illumicode/illumicode/internal/store"
)

// A ledger groups the writes of all senders of a worker into few transactions: while one
// commits, which costs a flush to disk, others gather for the next.
type ledger struct {
	entries chan *entry
	store   *store.Store
	enough  int           // entries for which it is not worth waiting for more
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
func newLedger(ctx context.Context, st *store.Store, senders int) *ledger {
	l := &ledger{entries: make(chan *entry), store: st, enough: max(1, senders/4), done: make(chan struct{})}
	go l.run(ctx)
	return l
}

// write writes an entry in a transaction that it may share with others, and returns when that has
// committed, or why it could not. [store.ErrFenced] concerns this entry alone; every other error
// undoes the whole group, and each of its writers is told. ctx bounds the wait for a place in a
// group.
func (l *ledger) write(ctx context.Context, d store.Delivery, begin *store.Attempt, end *store.End) error {
	e := &entry{delivery: d, begin: begin, end: end, out: make(chan error, 1)}
	select {
	case l.entries <- e:
	case <-l.done: // the worker is stopping: write alone
		l.commit(ctx, []*entry{e})
	case <-ctx.Done():
		return ctx.Err()
	}
	return <-e.out // the ledger always answers; giving up here could lose a committed begin
}

func (l *ledger) run(ctx context.Context) {
	defer close(l.done)
	var wait time.Duration // how long the next group may gather
	for {
		select {
		case <-ctx.Done():
			return
		case e := <-l.entries:
			group := l.gather(e, wait)
			began := time.Now()
			// What has been sent must be recorded: a commit does not end with the worker.
			l.commit(context.WithoutCancel(ctx), group)
			// A busy ledger spends half of its time committing, and the other half lets the next
			// group grow; an idle one does not wait at all.
			wait = 0
			if len(group) > 1 {
				wait = min(time.Since(began), maxWait)
			}
		}
	}
}

// maxWait bounds how long a group gathers.
const maxWait = 5 * time.Millisecond

// gather returns first and what comes after it for a while.
func (l *ledger) gather(first *entry, wait time.Duration) []*entry {
	group := append(make([]*entry, 0, maxGroup), first)
	timer := time.NewTimer(wait)
	defer timer.Stop()
	over := wait == 0
	for e := first; len(group) < maxGroup; group = append(group, e) {
		over = over || len(group) >= l.enough
		if over {
			select {
			case e = <-l.entries:
				continue
			default:
				return group
			}
		}
		select {
		case e = <-l.entries:
		case <-timer.C:
			return group
		}
	}
	return group
}

// commit writes a group and answers its writers.
func (l *ledger) commit(ctx context.Context, group []*entry) {
	begins, ends := make([]store.Beginning, 0, len(group)), make([]store.End, 0, len(group))
	for _, e := range group {
		if e.begin != nil {
			begins = append(begins, store.Beginning{Delivery: e.delivery, Attempt: *e.begin})
		}
		if e.end != nil {
			ends = append(ends, *e.end)
		}
	}
	begun, err := l.store.Record(ctx, begins, ends)
	for _, e := range group {
		switch {
		case err != nil:
			e.out <- err
		case e.begin != nil && !begun[e.delivery.ClaimKey()]:
			e.out <- store.ErrFenced
		default:
			e.out <- nil
		}
	}
}
