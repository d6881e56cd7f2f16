package outbox

import (
	"fmt"
	"sync"
	"time"
)

// loops are those of the workers of a process that must come round: what claims, what reads guard and pauses, what
// renews the lease. It is safe for concurrent use, and its zero value is ready.
type loops struct {
	mu  sync.Mutex
	all map[*loop]bool
}

// A loop is one of them.
type loop struct {
	what  string
	of    *loops
	every time.Duration
	last  time.Time // when it last came round, or began
}

// begin adds a loop.
func (l *loops) begin(what string, every time.Duration) *loop {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.all == nil {
		l.all = make(map[*loop]bool)
	}
	one := &loop{what: what, of: l, every: every, last: time.Now()}
	l.all[one] = true
	return one
}

// round says that the loop has done all of its work once.
func (o *loop) round() {
	o.of.mu.Lock()
	defer o.of.mu.Unlock()
	o.last = time.Now()
}

// end removes the loop.
func (o *loop) end() {
	o.of.mu.Lock()
	defer o.of.mu.Unlock()
	delete(o.of.all, o)
}

// statement bounds how long a statement may take before a loop counts as stuck.
const statement = 3 * time.Second

// Stuck returns why the workers of this process do not get on, or "" if they do, or if there are none: a loop that has
// not come round within three times its period and a statement's time.
func (o *Outbox) Stuck() string {
	o.loops.mu.Lock()
	defer o.loops.mu.Unlock()
	for one := range o.loops.all {
		if since := time.Since(one.last); since > 3*one.every+statement {
			return fmt.Sprintf("the worker has not %s for %v", one.what, since.Round(time.Second))
		}
	}
	return ""
}

// Works reports whether a worker runs in this process.
func (o *Outbox) Works() bool { return o.runs.Load() > 0 }
