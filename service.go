package illumicode

import (
	"context"
	"sync"
	"time"

	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/internal/bounce"
	"github.com/illumicode/illumicode/internal/composer"
	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/internal/core/keyring"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/limits"
	"github.com/illumicode/illumicode/internal/outbox"
	rows "github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/store"
)

// inside lets the other public packages of this module reach the parts of a service.
type inside = flow.Held

// A Service is Illumicode in an application. It is safe for concurrent use. Use [New].
type Service struct {
	inside
	p *flow.Parts

	db      *store.Store
	admit   func(context.Context, message.Address) error
	welcome bool
	recheck delivery.Recheck
	lapsed  func(context.Context, Tx, Lapse) error
	rules   []EventRule
	maxFile int64
	clock   *flow.Clock

	presence *presence

	caring sync.Mutex // held by housekeeping: guards asked, swept and spools
	asked  hourly
	swept  time.Time // when counts were last swept
	spools time.Time // when lists that never ended were last looked for
}

// New checks c and returns a service. It connects to the database, whose tables must be those of this version
// ([store.ErrVersion] otherwise), and to nothing else. Errors name the field of Config and what to put there.
func New(c Config) (*Service, error) {
	c, err := c.checked()
	if err != nil {
		return nil, err
	}
	p, err := c.parts()
	if err != nil {
		return nil, err
	}
	set, err := c.limits(p.Purposes)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(context.Background(), starting)
	defer cancel()
	if err := p.Store.Ready(ctx); err != nil {
		return nil, err
	}
	for _, w := range p.Store.Warnings() {
		c.Log.Warn(w)
	}
	s := &Service{
		inside: flow.Hold(p), p: p, db: c.Store, admit: c.Admit, welcome: c.Welcome, recheck: c.Recheck,
		lapsed: c.Lapsed, rules: c.Events, maxFile: c.MaxAttachments,
	}
	if s.clock, err = flow.NewClock(ctx, c.Now, p.Store); err != nil {
		return nil, err
	}
	watch := observing{c.Observer}
	p.Now, p.CameBack = s.clock.Now, watch.cameBack
	p.Limits = limits.New(set, p.Store, p.Now, p.Log, watch.judged)
	if err := s.checkEvents(); err != nil {
		return nil, err
	}
	if err := s.checkKeys(ctx); err != nil {
		return nil, err
	}
	s.presence = newPresence(p, c.KeySource, c.Outbox.Poll)
	p.Here = s.presence.here
	p.Outbox = outbox.New(p.Store, composer.New(p), c.ways(), p.Now, s.outboxConfig(c, watch))
	p.Waker = flow.NewWaker(p.Store, p.Outbox, p.Log)
	return s, nil
}

// outboxConfig returns how the workers of a service work.
func (s *Service) outboxConfig(c Config, watch observing) outbox.Config {
	o := c.Outbox
	cfg := outbox.Config{
		Senders: o.Senders, Reserved: o.Reserved, Lease: o.Lease, Poll: o.Poll, Attempt: o.Attempt, Grace: o.Grace,
		Keep: o.Keep, KeepOnce: o.KeepOnce, Retry: o.Retry, Fallback: o.FallbackAfter, Order: o.Order, Terms: o.Terms,
		Guard: guardInside(c.Guard), Site: c.Site.BaseURL, Observer: watch, Log: c.Log,
		Failed: c.failed(), FailureEvent: s.failureEvent(), Events: s.takeEvents,
		Housekeep: s.housekeep, Screen: bounce.For(s.p).Screen, Find: s.p.Find, Feedback: bounce.For(s.p).Apply,
	}
	cfg.Weights = make(map[rows.Lane]int, len(o.Weights))
	for lane, weight := range o.Weights {
		cfg.Weights[rows.Lane(lane)] = weight
	}
	return cfg
}

// parts returns the parts of a service that need no database.
func (c Config) parts() (*flow.Parts, error) {
	froms, err := c.senders()
	if err != nil {
		return nil, err
	}
	back, err := c.returnPath()
	if err != nil {
		return nil, wrong("ReturnPath", err.Error())
	}
	writer, mark, err := c.Site.writer()
	if err != nil {
		return nil, wrong("Site", err.Error())
	}
	if err := c.checkSamples(writer); err != nil {
		return nil, err
	}
	purposes, err := c.purposes()
	if err != nil {
		return nil, err
	}
	keys := keyring.Of(c.Keys)
	return &flow.Parts{
		Store: rows.Of(c.Store), Keys: keys, Links: keyring.NewSigner(keys, c.Site.BaseURL, linkPurposes(purposes)...),
		Site: flow.Site{
			Name: c.Site.Name, HomePage: c.Site.HomePage, Imprint: c.Site.Imprint, Mark: c.Site.Mark,
			BaseURL:     c.Site.BaseURL,
			ConfirmPath: c.Site.ConfirmPath, NotMePath: c.Site.NotMePath, UnsubscribePath: c.Site.UnsubscribePath,
		},
		From: c.From, Froms: froms, Back: back, Sign: c.Sign, Letters: c.set(), Writer: writer, Mark: mark,
		Purposes: purposes, Zones: new(flow.Zones), Log: c.Log, SMS: c.carriesSMS(),
		TellOwner: c.TellOwner, TellTexts: c.TellOwner && c.TellOwnerByText, Conventions: c.Conventions, Undo: c.Undo,
		Grace: c.Recheck.Grace, Bounces: flow.Bounces(c.Bounces),
	}, nil
}

// Run delivers letters until ctx ends. It then claims nothing more, lets attempts under way finish for Outbox.Grace,
// gives the rest back and returns nil, no later than 2 s after that: what cannot be interrupted, such as a provider
// that does not heed its context, is left behind and logged. A database that is away is waited for. Call it in a
// goroutine of its own, in one process or in several: all share the work.
func (s *Service) Run(ctx context.Context) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	go s.clock.Run(ctx, s.p.Log)
	gone := make(chan struct{})
	go func() { s.presence.run(ctx); close(gone) }()
	err := s.p.Outbox.Run(ctx)
	stop()
	select { // it began to go when ctx ended
	case <-gone:
	case <-time.After(appearWithin):
	}
	return err
}

// Wake makes workers look for letters at once: the one in this process and, on PostgreSQL, those that listen elsewhere.
// Call it after committing a transaction in which [Tx] methods were used; without it letters wait for the next poll. It
// returns at once.
func (s *Service) Wake() { s.p.Waker.Wake() }

// Now returns the instant by the service's clock.
func (s *Service) Now() time.Time { return s.p.Now() }

// Store returns the store, on which the application's own tables can stand.
func (s *Service) Store() *store.Store { return s.db }

// Locale returns the best language of the service's letters for a reader's wishes: BCP 47 tags or an Accept-Language
// value.
func (s *Service) Locale(wishes ...string) string { return s.p.Locale(wishes...) }

// starting is how long [New] waits for the database: some hundred queries are prepared, one after the other, and it may
// be far away.
const starting = 30 * time.Second

// limits returns the rules.
func (c Config) limits(purposes map[string]flow.Purpose) (*judge.Set, error) {
	if err := c.checkLimits(purposes); err != nil {
		return nil, err
	}
	set, err := judge.NewSet(c.Limits...)
	if err != nil {
		return nil, wrong("Limits", err.Error())
	}
	return set, nil
}
