package outbox

import (
	"cmp"
	"context"
	"errors"
	"log/slog"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"github.com/illumicode/illumicode/internal/core/mask"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
	"github.com/illumicode/illumicode/route"
)

// A Composer turns a delivery into a letter at the moment it leaves. The same delivery gives
// the same bytes: what dates the letter is Delivery.Fixed, which is set.
type Composer interface {
	// Compose returns a [*Drop] as error if the delivery is not needed any more, and wraps
	// [ErrLater] if time may mend what is wrong, [ErrElsewhere] if another process has what it takes, or
	// [ErrUnknown] if a newer version of this program may know better. Every other error means that the letter can
	// never be composed, and fails the delivery.
	Compose(ctx context.Context, d Addressed) (Letter, error)
}

// A Letter is a composed delivery.
type Letter struct {
	Envelope  provider.Envelope
	Message   provider.Message // nil for SMS
	Contents  provider.Letter
	SMS       string // empty for mail
	Signature string // the DKIM-Signature fields in it, to be kept for every attempt; may be empty
	Withheld  string // why nobody gets it: it is a decoy's; empty where somebody does

	Secrets mask.Secrets // what a peer may repeat of it, and must not be kept
}

// A Drop is the reason why a delivery is ended without an attempt.
type Drop struct {
	State store.State // Cancelled, Expired or Suppressed
	Note  string
}

func (d *Drop) Error() string { return "outbox: " + string(d.State) + ": " + d.Note }

// What Compose can wrap. In all cases the delivery goes on waiting.
var (
	ErrLater   = errors.New("outbox: later")
	ErrUnknown = errors.New("outbox: this version does not know it")

	ErrElsewhere = errors.New("outbox: another worker may be able to send it")
)

// Config holds the optional settings. The zero Config is all defaults.
type Config struct {
	// letters in work at once, from composing to the record of the answer; 0 or less means 64. Providers bound how
	// many they carry
	Senders  int
	Reserved int           // of these, for the urgent lane alone; 0 means a quarter, less than 0 none
	Lease    time.Duration // how long a dead worker's claims hold; 0 or less means 30 s
	Poll     time.Duration // how often to look without having been woken; 0 or less means 500 ms
	Attempt  time.Duration // the longest attempt; 0 or less means 11 m, past the final reply's 10
	Grace    time.Duration // how long Run lets attempts finish at its end; 0 or less means 20 s
	Keep     time.Duration // how long ended deliveries are kept; 0 means 30 days, less than 0 for ever
	KeepOnce time.Duration // how long de-duplication keys are kept; 0 or less means 7 days
	Retry    retry.Policy
	Fallback time.Duration          // how long a letter with a fallback is tried before that goes; 0 or less means 15 m
	Order    route.Order            // which provider is preferred; empty means the order of the list
	Terms    map[string]route.Terms // of providers, by name: caps, weights, costs, recipients
	Guard    Guard                  // what may leave; the zero Guard is live
	Observer Observer               // is told what workers do; nil means nobody
	Log      *slog.Logger           // required

	// Weights are the shares of lanes that have something to send. Missing ones are 16 for urgent,
	// 4 for normal and 1 for bulk.
	Weights map[store.Lane]int

	// is told of what failed, or may have, for good; nil for nobody
	Failed func(d store.Delivery, state store.State, note string)
	// the event that tells of the same, in the commit of its end; nil, or a nil event, for none
	FailureEvent func(d store.Delivery, state store.State, note string, now time.Time) *store.Event
	// the base URL that the database must send for; empty for any
	Site string
	// applies some of what came back; nil for none
	Feedback func(ctx context.Context) (n int, err error)
	// turns some events that wait into deliveries; nil for none
	Events func(ctx context.Context) (n int, err error)
	// where a delivery to a subject goes, or a [*Drop] or [*HoldError]; nil if there are none
	Find func(ctx context.Context, d store.Delivery) (store.Delivery, error)
	// why some must not be sent, by their ids; nil for nobody
	Screen func(ctx context.Context, claimed []Addressed) (notes map[string]string, err error)
	// does what time asks for, beside deliveries, every 20 polls and as long as there is more; nil for none
	Housekeep func(ctx context.Context) (n int, err error)
}

func (c Config) withDefaults() Config {
	if c.Senders == 0 {
		c.Senders = 64
	}
	if c.Reserved == 0 {
		c.Reserved = c.Senders / 4
	}
	c.Reserved = max(0, min(c.Reserved, c.Senders-1))
	const day = 24 * time.Hour
	for _, d := range []struct {
		field *time.Duration
		value time.Duration
	}{{&c.Lease, 30 * time.Second}, {&c.Poll, 500 * time.Millisecond}, {&c.Attempt, 11 * time.Minute},
		{&c.Grace, 20 * time.Second}, {&c.KeepOnce, 7 * day},
		{&c.Fallback, 15 * time.Minute}} {
		if *d.field <= 0 {
			*d.field = d.value
		}
	}
	c.Keep = cmp.Or(c.Keep, KeepByDefault)
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

	runs atomic.Int32

	saidElsewhere atomic.Int64 // when it was last said that a letter is left to others, in Unix nanoseconds

	loops loops
	wake  chan struct{} // for what is due
	hurry chan struct{} // for what is due in the urgent lane
	stir  chan struct{} // for lists and events
}

// New returns an outbox that sends what waits in st through providers, the preferred one first;
// there is at least one. now is the service's clock.
func New(st *store.Store, composer Composer, providers []provider.Provider, now func() time.Time, c Config) *Outbox {
	c = c.withDefaults()
	return &Outbox{id: newID(), store: st, composer: composer, ways: waysOf(st, providers, now, c), cfg: c,
		log: c.Log, now: now,
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
