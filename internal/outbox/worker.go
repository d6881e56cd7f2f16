package outbox

import (
	"context"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/illumicode/illumicode/internal/store"
)

// A worker is one Run: a row in the store, senders, and a ledger for their writes.
type worker struct {
	*Outbox
	row    store.Worker
	ledger *ledger
	urgent *ledger // of the urgent lane: what it has to record does not wait for a group of others
	queue  *queue
	marks  map[store.Lane]*trail
	paused atomic.Pointer[paused]
	holds  atomic.Bool // nothing may be sent
	home   atomic.Bool // the database is no copy
	lease  *lease

	looked  chan struct{} // closed when it has looked for letters once
	looking sync.Once     // closes it

	hard context.Context // ends when even attempts under way must stop
	busy sync.WaitGroup
}

// minQueue is the least room for claimed deliveries of a lane that no sender has begun: enough
// that one claim serves several, little enough that few are given back at the end.
const minQueue = 64

// newWorker makes a worker and starts its ledger, which ends with hard.
func (o *Outbox) newWorker(hard context.Context, l *lease) *worker {
	host, _ := os.Hostname() // for people; the pid beside it helps even without
	now := o.now()
	w := &worker{
		Outbox: o, hard: hard, lease: l,
		row:   store.Worker{ID: newID(), Host: host, PID: os.Getpid(), Started: now},
		queue: newQueue(max(minQueue, 2*o.cfg.Senders), o.cfg.Weights),
		marks: map[store.Lane]*trail{store.Normal: {}, store.Bulk: {}}, looked: make(chan struct{}),
	}
	w.paused.Store(&paused{})
	w.ledger, w.urgent = newLedger(hard, o.store, o.cfg.Senders), newLedger(hard, o.store, 0)
	return w
}

// renew takes a lease of d from now.
func (w *worker) renew(ctx context.Context, d time.Duration) error {
	sent := time.Now()
	w.row.Seen = w.now()
	w.row.Lease = w.row.Seen.Add(d)
	if err := w.store.Beat(ctx, w.row); err != nil {
		return err
	}
	w.lease.renewed(sent, d)
	return nil
}

// beat renews the lease, then gives back what dead workers held.
func (w *worker) beat(ctx context.Context) error {
	if err := w.renew(ctx, w.cfg.Lease); err != nil {
		return err
	}
	then := func(d store.Delivery) store.Sequel { return w.sequel(d, store.Unknown, store.Lost, w.row.Seen) }
	found, err := w.store.Recover(ctx, w.row.Seen, then)
	if err != nil {
		return err
	}
	if found.Released > 0 {
		w.log.Warn("recovered deliveries of a worker that stopped", "released", found.Released, "perhaps_sent",
			found.UnderWay)
	}
	mine := store.Unheard{Worker: w.row.ID, Before: w.row.Seen.Add(-w.cfg.Lease / 3), Known: w.queue.ids()}
	unheard, err := w.store.RecoverUnheard(ctx, mine, w.row.Seen, then)
	if err != nil {
		return err
	}
	if unheard.Released > 0 {
		w.log.Warn("gave back what a claim took whose answer was lost with its connection", "released",
			unheard.Released)
	}
	if found.Released+unheard.Released > 0 {
		w.Wake()
	}
	for _, d := range slices.Concat(found.Unknown, unheard.Unknown) {
		w.ended(d, store.Unknown, store.Lost)
	}
	if _, err := w.store.ReleaseStray(ctx); err != nil {
		return err
	}
	return w.shareOut(ctx)
}

// Run delivers until ctx ends. It then claims nothing more, lets attempts under way finish for
// Config.Grace, gives the rest back and returns nil. A database that is away is waited for.
// Several Runs, in one process or many, share the work. Without senders it does what time asks for, and nothing else.
//
// It returns no later than 2 s after the grace period, and leaves behind what cannot be interrupted.
func (o *Outbox) Run(ctx context.Context) error {
	ended, l := make(chan struct{}), new(lease)
	defer l.end()
	go func() {
		defer close(ended)
		if o.cfg.Senders < 0 {
			(&worker{Outbox: o}).housekeep(ctx)
		} else {
			o.work(ctx, l)
		}
	}()
	select {
	case <-ended:
		return nil
	case <-ctx.Done():
	}
	select {
	case <-ended:
	case <-time.After(o.cfg.Grace + farewell):
		o.log.Warn("what a worker waits for cannot be interrupted, and is left behind; its claims run out with its "+
			"lease", "waited", o.cfg.Grace+farewell)
	}
	return nil
}

// farewell is how long after the grace period what is left may take; half of it is for attempts that were told to end.
const farewell = 2 * time.Second

// work is a Run with senders.
func (o *Outbox) work(ctx context.Context, l *lease) {
	o.announce()
	hard, stop := context.WithCancel(context.WithoutCancel(ctx))
	defer stop()
	w := o.newWorker(hard, l)
	o.runs.Add(1)
	starting := o.loops.begin("begun to work", o.cfg.Poll)
	defer starting.end()
	w.insist(ctx, "the worker cannot reach the database", w.beat)
	if ctx.Err() != nil {
		o.runs.Add(-1)
		return
	}
	for i := range o.cfg.Senders {
		w.busy.Go(func() { w.send(ctx, i < o.cfg.Reserved) })
	}
	beside, stopBeside := context.WithCancel(hard)
	var others sync.WaitGroup
	others.Go(func() {
		loop := o.loops.begin("renewed its lease", o.cfg.Lease/3)
		defer loop.end()
		for sleep(beside, o.cfg.Lease/3) {
			err := w.beat(beside)
			if err == nil {
				loop.round()
			} else if beside.Err() == nil {
				o.log.Error("the worker cannot renew its lease", "error", err)
			}
		}
	})
	others.Go(func() { w.listen(ctx) })
	others.Go(func() { w.sideWork(ctx) })
	others.Go(func() { w.housekeep(ctx) })
	others.Go(func() { w.sample(ctx) })
	others.Go(func() { w.sweeping(ctx) })
	// Nothing is claimed before the guard and the pauses are known, and what is urgent already comes
	// before everything else.
	w.insist(ctx, "the guard and the pauses cannot be read", w.look)
	starting.end()
	if !w.holds.Load() {
		w.fill(ctx, store.Urgent, true) // an error comes again
	}
	others.Go(func() {
		loop := o.loops.begin("read the guard and the pauses", o.cfg.Poll)
		defer loop.end()
		for sleep(ctx, o.cfg.Poll) {
			err := w.look(ctx)
			if err == nil {
				loop.round()
			} else if ctx.Err() == nil {
				o.log.Error("the guard and the pauses cannot be read; the last ones hold", "error", err)
			}
		}
	})
	others.Go(func() { w.fetch(ctx, o.hurry, store.Urgent) })
	w.fetch(ctx, o.wake, store.Normal, store.Bulk)
	w.drain(stop, func() { stopBeside(); others.Wait() })
}

// send is one sender.
func (w *worker) send(ctx context.Context, reserved bool) {
	for {
		d, ok := w.queue.take(reserved)
		if !ok {
			return
		}
		if ctx.Err() != nil { // no more than what has begun
			w.unclaim(d.Delivery, w.now(), "")
		} else {
			w.deliver(w.hard, d)
		}
		w.queue.done(d)
	}
}

// insist does something until it succeeds or ctx ends.
func (w *worker) insist(ctx context.Context, trouble string, do func(context.Context) error) {
	for pause := nextPause(0); ; pause = nextPause(pause) {
		err := do(ctx)
		if err == nil || ctx.Err() != nil {
			return
		}
		w.log.Error(trouble, "error", err, "again_in", pause)
		sleep(ctx, pause)
	}
}

// look reads the guard and the pauses, and holds what is due and was recalled.
func (w *worker) look(ctx context.Context) error {
	holds, err := w.holding(ctx)
	if err != nil {
		return err
	}
	w.holds.Store(holds)
	if err := w.readHealth(ctx); err != nil {
		return err
	}
	if err := w.readPauses(ctx); err != nil {
		return err
	}
	if _, err := w.store.HoldDue(ctx, w.now(), w.cfg.Poll/2); err != nil && ctx.Err() == nil {
		w.log.Error("what was recalled cannot be marked as held; it is not sent nevertheless", "error", err)
	}
	return nil
}

// drain ends a Run: what is queued and not begun goes back, what is under way may finish.
func (w *worker) drain(stop func(), stopBeside func()) {
	defer stopBeside()
	w.queue.close() // the senders give back what they had not begun
	done := make(chan struct{})
	go func() { w.busy.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(w.cfg.Grace):
		w.log.Warn("attempts were still under way at the end of the grace period")
		stop()
		select {
		case <-done:
		case <-time.After(farewell / 2): // its claims stay until the lease ends: the letters may be on their way
			w.runs.Add(-1)
			return
		}
	}
	stopBeside()
	leave, cancel := context.WithTimeout(context.WithoutCancel(w.hard), farewell/4)
	defer cancel()
	if w.runs.Add(-1) == 0 {
		w.handBack(leave)
	}
	if err := w.store.Leave(leave, w.row.ID, w.now()); err != nil {
		w.log.Warn("the worker could not sign off; its claims run out with its lease", "error", err)
	}
}

// nextPause doubles a pause between tries at the database, from 100 ms to 5 s.
func nextPause(d time.Duration) time.Duration {
	return min(max(2*d, 100*time.Millisecond), 5*time.Second)
}

// sleep waits for d and reports whether ctx was still good at its end.
func sleep(ctx context.Context, d time.Duration) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-t.C:
		return true
	}
}
