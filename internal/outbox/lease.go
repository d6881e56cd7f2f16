package outbox

import (
	"context"
	"errors"
	"sync"
	"time"

	"github.com/illumicode/illumicode/internal/store"
)

// A lease is how long a worker may rely on what it has claimed. It is safe for concurrent use.
type lease struct {
	mu   sync.Mutex // guards what follows
	from time.Time  // before its last renewal was sent
	life time.Duration
	over bool // its Run has returned
}

// renewed says that a renewal has succeeded that was sent at a time.
func (l *lease) renewed(sent time.Time, life time.Duration) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.from, l.life = sent, life
}

// end says that nothing leaves any more.
func (l *lease) end() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.over = true
}

// Why a letter must not leave.
var (
	errOver  = errors.New("the worker has ended")
	errLease = errors.New("the worker's lease may have run out, so that another has the letter; it could not renew it")
)

// holds returns why the lease does not hold, and how old a begin may be that it covers. A fifth of it is kept back, for
// clocks that differ.
func (l *lease) holds() (covers time.Duration, err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	switch {
	case l.over:
		return 0, errOver
	case elapsed(l.from) > l.life-l.life/5:
		return 0, errLease
	}
	return l.life / 3, nil
}

// elapsed returns how much time has passed, by the clock that says more: a machine that was suspended stops one of
// them.
func elapsed(since time.Time) time.Duration {
	now := time.Now()
	return max(now.Sub(since), now.Round(0).Sub(since.Round(0)))
}

// final says whether a letter may leave: whether it is still this worker's. It is asked right before what cannot be
// taken back. Where its begin is old, the database knows.
func (t *try) final(ctx context.Context) error {
	covers, err := t.lease.holds()
	if err != nil || elapsed(t.begun) <= covers {
		return err
	}
	ours, err := t.store.Owns(ctx, t.d)
	if err == nil && !ours {
		err = store.ErrFenced
	}
	if err == nil {
		_, err = t.lease.holds() // the question may have taken long
	}
	return err
}
