package outbox

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"

	"github.com/google/uuid"

	"github.com/illumicode/illumicode/core/retry"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/store"
)

// A Composer turns a delivery into a letter at the moment it leaves. The same delivery gives
// the same bytes: what dates the letter is Delivery.Fixed, which is set.
type Composer interface {
	// Compose returns a [*Drop] as error if the delivery is not needed any more, and wraps
	// [ErrLater] if time may mend what is wrong. Every other error means that the letter can
	// never be composed, and fails the delivery.
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
	State store.State // Cancelled or Expired
	Note  string
}

func (d *Drop) Error() string { return "outbox: " + string(d.State) + ": " + d.Note }

// ErrLater wraps an error of Compose that time may mend, such as a database that is away: the
// delivery goes on waiting.
var ErrLater = errors.New("outbox: later")

// Config holds the optional settings. The zero Config is all defaults.
type Config struct {
	Senders int           // letters on their way at once; 0 or less means 8
	Lease   time.Duration // how long a dead worker's claims hold; 0 or less means 30 s
	Poll    time.Duration // how often to look without having been woken; 0 or less means 500 ms
	Attempt time.Duration // the longest attempt; 0 or less means 11 m, past the final reply's 10
	Grace   time.Duration // how long Run lets attempts finish at its end; 0 or less means 20 s
	Retry   retry.Policy
}

func (c Config) withDefaults() Config {
	if c.Senders <= 0 {
		c.Senders = 8
	}
	for _, d := range []struct {
		field *time.Duration
		value time.Duration
	}{{&c.Lease, 30 * time.Second}, {&c.Poll, 500 * time.Millisecond}, {&c.Attempt, 11 * time.Minute}, {&c.Grace, 20 * time.Second}} {
		if *d.field <= 0 {
			*d.field = d.value
		}
	}
	return c
}

// An Outbox delivers. It is safe for concurrent use. Use [New].
type Outbox struct {
	store     *store.Store
	composer  Composer
	providers []provider.Provider
	cfg       Config
	log       *slog.Logger
	now       func() time.Time

	wake chan struct{}
}

// New returns an outbox that sends what waits in st through providers, the preferred one first;
// there is at least one. now is the service's clock.
func New(st *store.Store, composer Composer, providers []provider.Provider, now func() time.Time, log *slog.Logger, c Config) *Outbox {
	return &Outbox{store: st, composer: composer, providers: providers, cfg: c.withDefaults(), log: log, now: now,
		wake: make(chan struct{}, 1)}
}

// Wake makes a Run in this process look at once. It never blocks; several wakes are one.
func (o *Outbox) Wake() {
	select {
	case o.wake <- struct{}{}:
	default:
	}
}

// A worker is one Run: a row in the store, senders, and a ledger for their writes.
type worker struct {
	*Outbox
	row    store.Worker
	ledger *ledger
	jobs   chan store.Delivery
	room   chan struct{} // something was taken from jobs

	hard context.Context // ends when even attempts under way must stop
	busy sync.WaitGroup
}

// minQueue is the least room for claimed deliveries that no sender has begun: enough that one
// claim serves several, little enough that an urgent letter does not wait behind it for long.
const minQueue = 8

// newWorker registers a worker and starts its ledger, which ends with hard.
func (o *Outbox) newWorker(hard context.Context) *worker {
	host, _ := os.Hostname() // for people; the pid beside it helps even without
	now := o.now()
	w := &worker{
		Outbox: o, hard: hard,
		row:  store.Worker{ID: uuid.Must(uuid.NewV7()).String(), Host: host, PID: os.Getpid(), Started: now},
		jobs: make(chan store.Delivery, max(minQueue, 2*o.cfg.Senders)),
		room: make(chan struct{}, 1),
	}
	w.ledger = newLedger(hard, o.store)
	return w
}

// beat renews the lease, then gives back what dead workers held.
func (w *worker) beat(ctx context.Context) error {
	w.row.Seen = w.now()
	w.row.Lease = w.row.Seen.Add(w.cfg.Lease)
	if err := w.store.Beat(ctx, w.row); err != nil {
		return err
	}
	released, underWay, err := w.store.Recover(ctx, w.row.Seen)
	if released > 0 {
		w.log.Warn("recovered deliveries of a worker that stopped", "released", released, "perhaps_sent", underWay)
		w.Wake()
	}
	return err
}

// Run delivers until ctx ends. It then claims nothing more, lets attempts under way finish for
// Config.Grace, gives the rest back and returns nil. A database that is away is waited for.
// Several Runs, in one process or many, share the work.
func (o *Outbox) Run(ctx context.Context) error {
	hard, stop := context.WithCancel(context.WithoutCancel(ctx))
	defer stop()
	w := o.newWorker(hard)
	for pause := time.Duration(0); ; pause = nextPause(pause) {
		err := w.beat(ctx)
		if err == nil {
			break
		}
		if ctx.Err() != nil {
			return nil
		}
		o.log.Error("the worker cannot reach the database", "error", err)
		sleep(ctx, nextPause(pause))
	}
	for range o.cfg.Senders {
		w.busy.Go(func() {
			for d := range w.jobs {
				select {
				case w.room <- struct{}{}:
				default:
				}
				if ctx.Err() != nil { // no more than what has begun
					w.giveBack(d, w.now(), "")
					continue
				}
				w.deliver(hard, d)
			}
		})
	}
	beating, stopBeat := context.WithCancel(hard)
	var heart sync.WaitGroup
	heart.Go(func() {
		for sleep(beating, o.cfg.Lease/3) {
			if err := w.beat(beating); err != nil && beating.Err() == nil {
				o.log.Error("the worker cannot renew its lease", "error", err)
			}
		}
	})
	w.fetch(ctx)
	return w.drain(stop, func() { stopBeat(); heart.Wait() })
}

// fetch claims and queues until ctx ends.
func (w *worker) fetch(ctx context.Context) {
	pause := time.Duration(0)
	for ctx.Err() == nil {
		full, err := w.fill(ctx)
		switch {
		case err != nil && ctx.Err() == nil:
			pause = nextPause(pause)
			w.log.Error("the worker cannot claim", "error", err, "again_in", pause)
			sleep(ctx, pause)
			continue
		case full: // more may wait: go on as soon as there is room
			select {
			case <-ctx.Done():
			case <-w.room:
			}
		default:
			select {
			case <-ctx.Done():
			case <-w.wake:
			case <-time.After(w.cfg.Poll):
			}
		}
		pause = 0
	}
}

// fill claims as much as there is room for, lane by lane, and reports whether there was no room
// for everything. A lane is probed before it is claimed from: the probe takes no lock.
func (w *worker) fill(ctx context.Context) (full bool, err error) {
	for _, lane := range store.Lanes {
		room := cap(w.jobs) - len(w.jobs)
		if room < cap(w.jobs)/2 {
			return true, nil // rather a larger claim a little later
		}
		now := w.now()
		if due, err := w.store.AnyDue(ctx, lane, now); err != nil || !due {
			if err != nil {
				return false, err
			}
			continue
		}
		claimed, err := w.store.Claim(ctx, w.row.ID, lane, room, now)
		if err != nil {
			return false, err
		}
		for _, d := range claimed {
			w.jobs <- d // never blocks: only this goroutine adds, and there was room
		}
		if len(claimed) == room {
			return true, nil
		}
	}
	return false, nil
}

// drain ends a Run: what is queued and not begun goes back, what is under way may finish.
func (w *worker) drain(stop func(), stopHeart func()) error {
	defer stopHeart()
	close(w.jobs) // the senders give back what they had not begun
	done := make(chan struct{})
	go func() { w.busy.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(w.cfg.Grace):
		w.log.Warn("attempts were still under way at the end of the grace period")
		stop()
		<-done
	}
	stopHeart()
	leave, cancel := context.WithTimeout(context.WithoutCancel(w.hard), 5*time.Second)
	defer cancel()
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
// Another worker may have been faster: then it returns the row as it is.
func (o *Outbox) DeliverOne(ctx context.Context, id string) (store.Delivery, error) {
	hard, stop := context.WithCancel(ctx)
	defer stop()
	w := o.newWorker(hard)
	if err := w.store.Beat(ctx, w.leased(o.cfg.Attempt)); err != nil {
		return store.Delivery{}, err
	}
	d, err := o.store.ClaimOne(ctx, w.row.ID, id, o.now())
	if err == nil {
		w.deliver(hard, d)
	} else if !errors.Is(err, store.ErrNotFound) {
		return store.Delivery{}, err
	}
	if err := o.store.Leave(context.WithoutCancel(ctx), w.row.ID, o.now()); err != nil {
		return store.Delivery{}, fmt.Errorf("outbox: after the attempt: %w", err)
	}
	return o.store.Delivery(ctx, id)
}

// leased returns the worker's row with a lease of d from now.
func (w *worker) leased(d time.Duration) store.Worker {
	w.row.Seen = w.now()
	w.row.Lease = w.row.Seen.Add(d)
	return w.row
}
