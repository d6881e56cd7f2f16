package outbox

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"github.com/illumicode/illumicode/core/retry"
	"github.com/illumicode/illumicode/core/route"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/store"
)

// A Composer turns a delivery into a letter at the moment it leaves. The same delivery gives
// the same bytes: what dates the letter is Delivery.Fixed, which is set.
type Composer interface {
	// Compose returns a [*Drop] as error if the delivery is not needed any more, and wraps
	// [ErrLater] if time may mend what is wrong, or [ErrUnknown] if a newer version of this
	// program may know better. Every other error means that the letter can never be composed, and
	// fails the delivery.
	Compose(ctx context.Context, d store.Delivery) (Letter, error)
}

// A Letter is a composed delivery.
type Letter struct {
	Envelope  provider.Envelope
	Message   provider.Message // nil for SMS
	Contents  provider.Letter
	SMS       string // empty for mail
	Signature string // the DKIM-Signature fields in it, to be kept for every attempt; may be empty
}

// A Drop is the reason why a delivery is ended without an attempt.
type Drop struct {
	State store.State // Cancelled, Expired or Suppressed
	Note  string
	Decoy bool // the lives of its challenge begin as if it had been handed over
}

func (d *Drop) Error() string { return "outbox: " + string(d.State) + ": " + d.Note }

// What Compose can wrap. In both cases the delivery goes on waiting.
var (
	ErrLater   = errors.New("outbox: later")
	ErrUnknown = errors.New("outbox: this version does not know it")
)

// Config holds the optional settings. The zero Config is all defaults.
type Config struct {
	Senders  int           // letters in work at once, from composing to the record of the answer; 0 or less means 64. Providers bound how many they carry
	Reserved int           // of these, for the urgent lane alone; 0 means a quarter, less than 0 none
	Lease    time.Duration // how long a dead worker's claims hold; 0 or less means 30 s
	Poll     time.Duration // how often to look without having been woken; 0 or less means 500 ms
	Attempt  time.Duration // the longest attempt; 0 or less means 11 m, past the final reply's 10
	Grace    time.Duration // how long Run lets attempts finish at its end; 0 or less means 20 s
	Keep     time.Duration // how long ended deliveries are kept; 0 means 30 days, less than 0 for ever
	KeepOnce time.Duration // how long de-duplication keys are kept; 0 or less means 7 days
	Retry    retry.Policy
	Order    route.Order            // which provider is preferred; empty means the order of the list
	Terms    map[string]route.Terms // of providers, by name: caps, weights, costs, recipients
	Guard    Guard                  // what may leave; the zero Guard is live
	Observer Observer               // is told what workers do; nil means nobody

	// Weights are the shares of lanes that have something to send. Missing ones are 16 for urgent,
	// 4 for normal and 1 for bulk.
	Weights map[store.Lane]int

	Site     string                                                                                   // the base URL that the database must send for; empty for any
	Feedback func(ctx context.Context) (n int, err error)                                             // applies some of what came back; nil for none
	Events   func(ctx context.Context) (n int, err error)                                             // turns some events that wait into deliveries; nil for none
	Screen   func(ctx context.Context, claimed []store.Delivery) (notes map[string]string, err error) // why some must not be sent, by their ids; nil for nobody
	Care     func(ctx context.Context) (n int, err error)                                             // does what time asks for, beside deliveries, every 20 polls and as long as there is more; nil for none
}

func (c Config) withDefaults() Config {
	if c.Senders <= 0 {
		c.Senders = 64
	}
	if c.Reserved == 0 {
		c.Reserved = c.Senders / 4
	}
	c.Reserved = min(max(c.Reserved, 0), c.Senders-1)
	const day = 24 * time.Hour
	for _, d := range []struct {
		field *time.Duration
		value time.Duration
	}{{&c.Lease, 30 * time.Second}, {&c.Poll, 500 * time.Millisecond}, {&c.Attempt, 11 * time.Minute}, {&c.Grace, 20 * time.Second}, {&c.KeepOnce, 7 * day}} {
		if *d.field <= 0 {
			*d.field = d.value
		}
	}
	c.Keep = cmp.Or(c.Keep, 30*day)
	if c.Guard.Mode == "" {
		c.Guard.Mode = Live
	}
	if c.Observer == nil {
		c.Observer = nobody{}
	}
	weights := map[store.Lane]int{store.Urgent: 16, store.Normal: 4, store.Bulk: 1}
	for lane, w := range c.Weights {
		weights[lane] = max(w, 1)
	}
	c.Weights = weights
	return c
}

// An Outbox delivers. It is safe for concurrent use. Use [New].
type Outbox struct {
	id       string // of this process, for what it has of providers' caps
	store    *store.Store
	composer Composer
	ways     []*way
	cfg      Config
	log      *slog.Logger
	now      func() time.Time

	runs  atomic.Int32
	wake  chan struct{} // for what is due
	hurry chan struct{} // for what is due in the urgent lane
	stir  chan struct{} // for lists and events
}

// New returns an outbox that sends what waits in st through providers, the preferred one first;
// there is at least one. now is the service's clock.
func New(st *store.Store, composer Composer, providers []provider.Provider, now func() time.Time, log *slog.Logger, c Config) *Outbox {
	c = c.withDefaults()
	return &Outbox{id: newID(), store: st, composer: composer, ways: waysOf(st, providers, now, log, c), cfg: c, log: log, now: now,
		wake: make(chan struct{}, 1), hurry: make(chan struct{}, 1), stir: make(chan struct{}, 1)}
}

func newID() string { return uuid.Must(uuid.NewV7()).String() }

// Wake makes a Run in this process look at once. It never blocks; several wakes are one.
func (o *Outbox) Wake() {
	for _, sleeper := range []chan struct{}{o.wake, o.hurry, o.stir} {
		select {
		case sleeper <- struct{}{}:
		default:
		}
	}
}

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
	swept  time.Time

	hard context.Context // ends when even attempts under way must stop
	busy sync.WaitGroup
}

// minQueue is the least room for claimed deliveries of a lane that no sender has begun: enough
// that one claim serves several, little enough that few are given back at the end.
const minQueue = 64

// newWorker makes a worker and starts its ledger, which ends with hard.
func (o *Outbox) newWorker(hard context.Context) *worker {
	host, _ := os.Hostname() // for people; the pid beside it helps even without
	now := o.now()
	w := &worker{
		Outbox: o, hard: hard,
		row:   store.Worker{ID: newID(), Host: host, PID: os.Getpid(), Started: now},
		queue: newQueue(max(minQueue, 2*o.cfg.Senders), o.cfg.Weights),
		marks: map[store.Lane]*trail{store.Normal: {}, store.Bulk: {}},
	}
	w.paused.Store(&paused{})
	w.ledger, w.urgent = newLedger(hard, o.store, o.cfg.Senders), newLedger(hard, o.store, 0)
	return w
}

// beat renews the lease, then gives back what dead workers held, and now and then sweeps.
func (w *worker) beat(ctx context.Context) error {
	if err := w.store.Beat(ctx, w.leased(w.cfg.Lease)); err != nil {
		return err
	}
	released, underWay, err := w.store.Recover(ctx, w.row.Seen)
	if err != nil {
		return err
	}
	if released > 0 {
		w.log.Warn("recovered deliveries of a worker that stopped", "released", released, "perhaps_sent", underWay)
		w.Wake()
	}
	unheard, err := w.store.RecoverUnheard(ctx, w.row.ID, w.queue.ids(), w.row.Seen.Add(-w.cfg.Lease/3), w.row.Seen)
	if err != nil {
		return err
	}
	if unheard > 0 {
		w.log.Warn("gave back what a claim took whose answer was lost with its connection", "released", unheard)
		w.Wake()
	}
	if _, err := w.store.ReleaseStray(ctx); err != nil {
		return err
	}
	if err := w.shareOut(ctx); err != nil {
		return err
	}
	if now := w.now(); w.cfg.Keep > 0 && now.Sub(w.swept) >= time.Hour {
		w.swept = now
		n, err := w.store.Sweep(ctx, now.Add(-w.cfg.Keep), now.Add(-w.cfg.KeepOnce))
		if n > 0 {
			w.log.Info("removed what is older than it need be", "rows", n)
		}
		return err
	}
	return nil
}

// Run delivers until ctx ends. It then claims nothing more, lets attempts under way finish for
// Config.Grace, gives the rest back and returns nil. A database that is away is waited for.
// Several Runs, in one process or many, share the work.
func (o *Outbox) Run(ctx context.Context) error {
	o.announce()
	hard, stop := context.WithCancel(context.WithoutCancel(ctx))
	defer stop()
	w := o.newWorker(hard)
	o.runs.Add(1)
	w.insist(ctx, "the worker cannot reach the database", w.beat)
	if ctx.Err() != nil {
		o.runs.Add(-1)
		return nil
	}
	for i := range o.cfg.Senders {
		w.busy.Go(func() { w.send(ctx, i < o.cfg.Reserved) })
	}
	beside, stopBeside := context.WithCancel(hard)
	var others sync.WaitGroup
	others.Go(func() {
		for sleep(beside, o.cfg.Lease/3) {
			if err := w.beat(beside); err != nil && beside.Err() == nil {
				o.log.Error("the worker cannot renew its lease", "error", err)
			}
		}
	})
	others.Go(func() { w.listen(ctx) })
	others.Go(func() { w.chores(ctx) })
	others.Go(func() { w.care(ctx) })
	others.Go(func() { w.sample(ctx) })
	// Nothing is claimed before the guard and the pauses are known, and what is urgent already comes
	// before everything else.
	w.insist(ctx, "the guard and the pauses cannot be read", w.look)
	if !w.holds.Load() {
		w.fill(ctx, store.Urgent, true) // an error comes again
	}
	others.Go(func() {
		for sleep(ctx, o.cfg.Poll) {
			if err := w.look(ctx); err != nil && ctx.Err() == nil {
				o.log.Error("the guard and the pauses cannot be read; the last ones hold", "error", err)
			}
		}
	})
	others.Go(func() { w.fetch(ctx, o.hurry, store.Urgent) })
	w.fetch(ctx, o.wake, store.Normal, store.Bulk)
	return w.drain(stop, func() { stopBeside(); others.Wait() })
}

// send is one sender.
func (w *worker) send(ctx context.Context, reserved bool) {
	for {
		d, ok := w.queue.take(reserved)
		if !ok {
			return
		}
		if ctx.Err() != nil { // no more than what has begun
			w.giveBack(d, w.now(), "")
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

// look reads the guard and the pauses.
func (w *worker) look(ctx context.Context) error {
	holds, err := w.holding(ctx)
	if err != nil {
		return err
	}
	w.holds.Store(holds)
	if err := w.readHealth(ctx); err != nil {
		return err
	}
	return w.readPauses(ctx)
}

// fetch claims from some lanes, and queues, until ctx ends. wake is what it is woken by.
func (w *worker) fetch(ctx context.Context, wake chan struct{}, lanes ...store.Lane) {
	woken := false
	look := lanes // where something may be
	poll := time.NewTicker(w.cfg.Poll)
	defer poll.Stop()
	for pause := time.Duration(0); ctx.Err() == nil; {
		err := error(nil)
		var room chan struct{}
		var more []store.Lane // where there is more than there was room for
		if !w.holds.Load() {
			for _, lane := range look {
				left := false
				if left, err = w.fill(ctx, lane, woken); err != nil {
					break
				}
				if left { // go on as soon as there is room
					room = w.queue.room[lane]
					more = append(more, lane)
				}
			}
		}
		look = lanes
		if err != nil && ctx.Err() == nil {
			pause = nextPause(pause)
			w.log.Error("the worker cannot claim", "error", err, "again_in", pause)
			sleep(ctx, pause)
			continue
		}
		pause, woken = 0, false
		select {
		case <-ctx.Done():
		case <-room:
			look = more
		case <-wake:
			woken = true
			w.cfg.Observer.Woken()
		case <-poll.C:
		}
	}
}

// fill claims as much of a lane as there is room for, and reports whether it may have more. The
// lane is probed before it is claimed from, as the probe takes no lock; not so the urgent one when
// somebody has just said that something is there.
func (w *worker) fill(ctx context.Context, lane store.Lane, woken bool) (more bool, err error) {
	if (*w.paused.Load())[store.Pause{Kind: "lane", Name: string(lane)}.HeldBy()] {
		return false, nil
	}
	room := w.queue.free(lane)
	if room == 0 {
		return true, nil
	}
	now := w.now()
	mark := w.marks[lane].mark(now)
	if lane != store.Urgent || !woken {
		due, err := w.store.AnyDue(ctx, lane, mark, now)
		if err != nil || !due {
			return false, err
		}
	}
	claimed, err := w.store.Claim(ctx, w.row.ID, lane, mark, room, now)
	if err != nil {
		return false, err
	}
	w.marks[lane].claimed(claimed, now)
	w.queue.put(lane, w.screened(ctx, claimed))
	w.cfg.Observer.Claimed(lane, len(claimed))
	return len(claimed) == room, nil
}

// screened returns what of a claim may be sent, and ends the rest. One question for a whole claim
// costs little; one for each letter would cost a fifth of its delivery.
func (w *worker) screened(ctx context.Context, claimed []store.Delivery) []store.Delivery {
	if w.cfg.Screen == nil || len(claimed) == 0 {
		return claimed
	}
	notes, err := w.cfg.Screen(ctx, claimed)
	if err != nil {
		w.log.Error("it cannot be told who must not be written to, so nothing is sent", "error", err)
		for _, d := range claimed {
			w.giveBack(d, w.now().Add(w.cfg.Poll), "")
		}
		return nil
	}
	if len(notes) == 0 {
		return claimed
	}
	return slices.DeleteFunc(claimed, func(d store.Delivery) bool {
		note, suppressed := notes[d.ID]
		if suppressed {
			w.drop(d, store.Suppressed, note)
		}
		return suppressed
	})
}

// drain ends a Run: what is queued and not begun goes back, what is under way may finish.
func (w *worker) drain(stop func(), stopBeside func()) error {
	defer stopBeside()
	w.queue.close() // the senders give back what they had not begun
	done := make(chan struct{})
	go func() { w.busy.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(w.cfg.Grace):
		w.log.Warn("attempts were still under way at the end of the grace period")
		stop()
		<-done
	}
	stopBeside()
	leave, cancel := context.WithTimeout(context.WithoutCancel(w.hard), 5*time.Second)
	defer cancel()
	if w.runs.Add(-1) == 0 {
		w.handBack(leave)
	}
	if err := w.store.Leave(leave, w.row.ID, w.now()); err != nil {
		w.log.Warn("the worker could not sign off; its claims run out with its lease", "error", err)
	}
	return nil
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

// DeliverOne makes one attempt at a waiting delivery, due or not, and returns it as it is then.
// Another worker may have been faster: then it returns the row as it is. The guard and the pauses
// hold for it too.
func (o *Outbox) DeliverOne(ctx context.Context, id string) (store.Delivery, error) {
	hard, stop := context.WithCancel(ctx)
	defer stop()
	w := o.newWorker(hard)
	holding, err := w.holding(ctx)
	w.holds.Store(holding)
	if err == nil && holding {
		err = errors.New("outbox: the guard holds everything, so the letter waits")
	}
	if err == nil {
		err = w.readPauses(ctx)
	}
	if err == nil {
		err = errors.Join(w.readHealth(ctx), w.shareOut(ctx))
	}
	if err == nil {
		err = w.store.Beat(ctx, w.leased(o.cfg.Attempt))
	}
	if err != nil {
		return store.Delivery{}, err
	}
	d, claimErr := o.store.ClaimOne(ctx, w.row.ID, id, o.now())
	if claimErr == nil {
		for _, d := range w.screened(ctx, []store.Delivery{d}) {
			w.deliver(hard, d)
		}
	}
	if o.runs.Load() == 0 {
		o.handBack(context.WithoutCancel(ctx))
	}
	// Even after an error: the claim may have been made, and its answer lost.
	if err := o.store.Leave(context.WithoutCancel(ctx), w.row.ID, o.now()); err != nil {
		return store.Delivery{}, fmt.Errorf("outbox: after the attempt: %w", errors.Join(claimErr, err))
	}
	if claimErr != nil && !errors.Is(claimErr, store.ErrNotFound) {
		return store.Delivery{}, claimErr
	}
	return o.store.Delivery(ctx, id)
}

// leased returns the worker's row with a lease of d from now.
func (w *worker) leased(d time.Duration) store.Worker {
	w.row.Seen = w.now()
	w.row.Lease = w.row.Seen.Add(d)
	return w.row
}
