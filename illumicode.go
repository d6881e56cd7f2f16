// Package illumicode adds signup confirmation, re-verification and sign-in by code, and the durable
// mail behind them, to a service that has a database and a users table of its own. [Service] is the
// one value an application holds; [New] makes it from a [Config].
//
// The flows begin with [Service.Signup], [Service.SignIn], [Service.ChangeAddress], [Service.StepUp] or,
// for purposes of the application's own, [Tx.Begin]. All are challenges: a letter carries their proof,
// [Service.Resend] sends it again, [Service.NotMe] lets its reader end them.
//
// How a letter travels:
//
//  1. [Service.Admit] checks the request, and spends from the limits, before the application's
//     transaction.
//  2. [Tx.BeginSignup] inserts a challenge and a delivery in that transaction: they commit with
//     the account, or not at all. [Service.Signup] is these two in one call.
//  3. A worker ([Service.Run], in this process or another) claims the delivery, makes code and
//     link, composes the letter, and hands it to a provider. Neither code nor link was ever at
//     rest: the code is derived again when it is compared, the link is signed.
//  4. The person proves the address: [Service.ProveLink] checks a link, [Service.Prove] spends a
//     try and compares a code. Both write in transactions of their own, which no rollback of the
//     caller undoes.
//  5. [Tx.Accept] marks the challenge accepted in the application's transaction; of any number of
//     callers, one. [Service.Confirm] and [Service.ConfirmCode] are steps 4 and 5 in one call. For
//     sign-ins they are [Tx.AcceptSignIn] and [Service.SignInCode], for step-ups [Tx.AcceptAction] and
//     [Service.ActionCode].
//  6. What comes back about the letter names its signed return path (Config.ReturnPath):
//     [Service.TakeFeedback], or package feedback and web.NewWebhooks, put it on record, and a worker
//     suppresses what has bounced, until the address is proven again.
//
// Illumicode owns no accounts: a subject is whatever string the application knows one by.
// Nothing is ever sent inside a transaction.
package illumicode

import (
	"context"
	"database/sql"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/illumicode/illumicode/core/challenge"
	"github.com/illumicode/illumicode/core/letter"
	"github.com/illumicode/illumicode/core/limit"
	"github.com/illumicode/illumicode/core/message"
	"github.com/illumicode/illumicode/core/token"
	"github.com/illumicode/illumicode/outbox"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/store"
)

// Config says what a [Service] works with. Store, Keys, Site.BaseURL, Site.Name, From and
// Providers are required. New copies it; changing it afterwards has no effect.
type Config struct {
	Store     *store.Store
	Keys      *token.Keyring
	Site      Site
	From      message.Address     // who every letter is from; a provider must accept it as sender
	Providers []provider.Provider // the ways out, the preferred one first

	// ReturnPath is where what comes back about letters goes: a domain of its own, such as
	// bounces.ferry.example, or an address at whose host sub-addresses (RFC 5233) arrive, such as
	// bounces@ferry.example. Each letter's envelope is from an address there that is signed; see
	// [Service.TakeFeedback]. Empty means that envelopes are from From. A provider whose senders lack
	// it sends with From.
	ReturnPath string
	Bounces    Bounces // what follows from what comes back

	Sign Signer // signs letters, as a dkim.Signer does; nil means unsigned
	// Data describes the values of the application's own letters: for each letter's name a struct
	// of the type that its notices will carry. New refuses a letter that uses a field which its
	// struct lacks.
	Data map[string]any

	Events []EventRule // what events lead to; none by default

	// Guard says what may leave; the zero Guard is live. Capture is what it captures letters with,
	// such as a provider that writes to an inbox: required with outbox.Capture, else nil.
	Guard   outbox.Guard
	Capture provider.Provider

	MaxAttachments int64 // of one letter, in bytes; 0 or less means 20 MiB

	Letters *letter.Set // nil means letters.Default

	// Signup, Reverify, SignIn and StepUp are the lives, tries and resends of these flows; the zero
	// Policy is all defaults. Purposes are the application's own besides, each under its name.
	Signup, Reverify, SignIn, StepUp challenge.Policy
	Purposes                         map[string]Purpose

	// Limits are the rules on how often letters can be asked for; nil means [DefaultLimits], and an
	// empty slice none. They hold across all processes on the same database.
	Limits []limit.Rule

	// Admit refuses addresses that the application does not want, such as those of [Domains]. Its
	// error may be shown to who asked, so it must not tell whether the address has an account. It
	// may be called at any time from any goroutine. Nil admits all.
	Admit func(ctx context.Context, a message.Address) error

	// TellOwner lets the owner of an address know what must not be told to who asked: that a sign-in
	// was tried and there is no account, or a signup and there is one already. False writes nothing.
	TellOwner bool

	Welcome bool          // whether a confirmed signup is followed by the letter "welcome"
	Undo    time.Duration // how long the holder of an old address can take a change back; 0 or less means 7 days
	Recheck Recheck       // how stale and bounced addresses are asked again

	// Lapsed is told once, by a worker and in the transaction that closes it, of every signup that
	// nobody confirmed in time, so that the application can drop its account; and, with Lapse.Grace,
	// of every stale address whose time of grace is over. An error rolls back and is tried again. Nil
	// means that nobody need be told.
	Lapsed func(ctx context.Context, tx *sql.Tx, l Lapse) error

	Outbox outbox.Config // how workers work; the zero Config is all defaults
	Log    *slog.Logger  // one line an attempt, no addresses, no secrets; nil means slog.Default

	// Now is the service's clock: every instant in rows, tokens and decisions comes from it.
	// Nil means time.Now. Tests and rehearsals set it.
	Now func() time.Time
}

// A Signer returns the header fields that sign a message, to be put in front of it. It is called once
// for each delivery, at its first attempt.
type Signer interface {
	Sign(message io.WriterTo) (fields string, err error)
}

// A Site is what letters say about who is writing, and where their links lead.
type Site struct {
	BaseURL  string // absolute, https (or http on loopback), without a slash at its end
	Name     string // of the service, as people know it
	HomePage string // in the letters' foot; empty means none
	Imprint  string // postal address and the like, several lines; empty means none

	Mark      string         // a picture beside the name: an https URL; empty means none
	MarkImage []byte         // the same, to travel with each letter: PNG, JPEG or GIF; nil means none
	Colours   letter.Colours // of letters; empty ones have defaults

	ConfirmPath     string // where package web serves the page behind a link; empty means /confirm
	NotMePath       string // where it serves the page behind "this was not me" and "take it back"; empty means /not-me
	UnsubscribePath string // where it serves the page behind a notice's List-Unsubscribe; empty means /unsubscribe
}

// A Service is Illumicode in an application. It is safe for concurrent use. Use [New].
type Service struct {
	store     *store.Store
	keys      *token.Keyring
	links     *token.Signer
	site      Site
	from      message.Address
	froms     map[string]message.Address // of letters that have their own
	back      returnPath                 // where bounces go
	bounces   Bounces
	sign      Signer // nil for unsigned
	letters   *letter.Set
	purposes  map[string]Purpose
	admit     func(context.Context, message.Address) error
	limits    limits
	tellOwner bool
	welcome   bool
	undo      time.Duration
	recheck   Recheck
	asked     hourly
	swept     time.Time  // when counts were last swept
	caring    sync.Mutex // held by care: guards asked and swept
	lapsed    func(context.Context, *sql.Tx, Lapse) error

	feedbackWatch FeedbackWatcher // nil for none

	writer  letter.Writer
	mark    *message.Part // inline; nil for none
	zones   zones
	maxFile int64
	sms     bool // a provider carries SMS
	rules   []EventRule
	outbox  *outbox.Outbox
	log     *slog.Logger
	clock   *clock
	now     func() time.Time // the clock's

	announcing atomic.Bool // workers elsewhere are about to be told
}

// New checks c and returns a service. It connects to the database, whose tables must be those of
// this version ([store.ErrNotMigrated] otherwise), and to nothing else. Errors name the field of
// Config and what to put there.
func New(c Config) (*Service, error) {
	c, err := c.checked()
	if err != nil {
		return nil, err
	}
	froms, err := c.senders()
	if err != nil {
		return nil, err
	}
	back, err := c.returnPath()
	if err != nil {
		return nil, wrong("ReturnPath", err.Error())
	}
	writer, mark, err := c.Site.Writer()
	if err != nil {
		return nil, wrong("Site", err.Error())
	}
	purposes, err := c.purposes()
	if err != nil {
		return nil, err
	}
	rules, err := c.limits(purposes)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(context.Background(), starting)
	defer cancel()
	if err := c.Store.Ready(ctx); err != nil {
		return nil, err
	}
	for _, w := range c.Store.Warnings() {
		c.Log.Warn(w)
	}
	clock := &clock{machine: c.Now, store: c.Store}
	if err := clock.set(ctx); err != nil {
		return nil, err
	}
	s := &Service{
		store: c.Store, keys: c.Keys, links: token.NewSigner(c.Keys, c.Site.BaseURL, slices.Concat(slices.Sorted(maps.Keys(purposes)), []string{LinkNotMe, LinkUndo})...),
		site: c.Site, from: c.From, froms: froms, back: back, bounces: c.Bounces.withDefaults(), sign: c.Sign, letters: c.Letters, log: c.Log,
		purposes: purposes, admit: c.Admit, tellOwner: c.TellOwner, welcome: c.Welcome, undo: c.Undo, recheck: c.Recheck.withDefaults(), lapsed: c.Lapsed,
		clock: clock, now: clock.now,
		writer: writer, mark: mark, maxFile: c.MaxAttachments, rules: c.Events,
		sms: slices.ContainsFunc(c.Providers, func(p provider.Provider) bool { return p.Can().SMS }),
	}
	s.limits.set, s.limits.clerk = rules, &clerk{store: c.Store, now: clock.now}
	s.limits.watch, _ = c.Outbox.Observer.(LimitWatcher)
	s.feedbackWatch, _ = c.Outbox.Observer.(FeedbackWatcher)
	s.limits.byNetwork = slices.ContainsFunc(c.Limits, func(r limit.Rule) bool { return r.By == limit.Network })
	for i, r := range s.rules {
		if err := r.check(s); err != nil {
			return nil, wrong(fmt.Sprintf("Events[%d]", i), err.Error())
		}
	}
	if c.Guard.Mode == outbox.Capture {
		c.Providers = []provider.Provider{c.Capture}
	}
	c.Outbox.Guard, c.Outbox.Site = c.Guard, c.Site.BaseURL
	if len(s.rules) > 0 {
		c.Outbox.Events = s.takeEvents
	}
	c.Outbox.Care, c.Outbox.Screen, c.Outbox.Feedback = s.care, s.screen, s.applyFeedback
	s.outbox = outbox.New(c.Store, composer{s}, c.Providers, s.now, c.Log, c.Outbox)
	return s, nil
}

// Run delivers letters until ctx ends; see [outbox.Outbox.Run]. Call it in a goroutine of its own,
// in one process or in several.
func (s *Service) Run(ctx context.Context) error {
	var beside sync.WaitGroup
	beside.Go(func() { s.clock.run(ctx, s.log) })
	defer beside.Wait()
	return s.outbox.Run(ctx)
}

// Wake makes workers look for letters at once: the one in this process and, on PostgreSQL, those
// that listen elsewhere. Call it after committing a transaction in which [Tx] methods were used;
// without it letters wait for the next poll. It returns at once.
func (s *Service) Wake() {
	s.outbox.Wake()
	if !s.store.Announces() || !s.announcing.CompareAndSwap(false, true) {
		return
	}
	// Many wakes in a moment are one announcement.
	time.AfterFunc(announceAfter, func() {
		s.announcing.Store(false)
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		if err := s.store.Announce(ctx); err != nil {
			s.log.Warn("workers elsewhere were not woken; they find the letters by their poll", "error", err)
		}
	})
}

// announceAfter is how long wakes gather before other processes are told.
const announceAfter = 5 * time.Millisecond

// Now returns the instant by the service's clock.
func (s *Service) Now() time.Time { return s.now() }

// Site returns the site the service sends for.
func (s *Service) Site() Site { return s.site }

// Keys returns the keyring.
func (s *Service) Keys() *token.Keyring { return s.keys }

// Store returns the store, for the operator's views of it.
func (s *Service) Store() *store.Store { return s.store }

// Locale returns the best language of the service's letters for a reader's wishes: BCP 47 tags
// or an Accept-Language value.
func (s *Service) Locale(wishes ...string) string { return s.letters.Locale(wishes...).String() }

// In returns the calls that write in the application's own transaction. tx must be on the
// database of the service's store. The caller commits or rolls back, and calls [Service.Wake]
// after a commit.
func (s *Service) In(tx *sql.Tx) Tx { return s.On(s.store.In(tx)) }

// On is [Service.In] for a transaction of a driver's own, as postgres.In returns for a pgx.Tx.
func (s *Service) On(rows store.Tx) Tx { return Tx{s: s, rows: rows} }

// A Tx makes Illumicode's writes in a transaction of the application's. Its methods never judge a
// limit or a code and never fail on a conflict. Like the transaction, it is not safe for
// concurrent use.
type Tx struct {
	s    *Service
	rows store.Tx
}

// starting is how long [New] waits for the database: some hundred queries are prepared, one after the
// other, and it may be far away.
const starting = 30 * time.Second

// patience is how long the service's own transactions wait for a connection or a lock.
const patience = 5 * time.Second

// own runs fn, which works in transactions of the service's own, with a bound on the wait. The
// usual reason for a long one is a caller who holds a transaction already.
func (s *Service) own(ctx context.Context, fn func(context.Context) error) error {
	bounded, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	err := fn(bounded)
	if err != nil && bounded.Err() != nil && ctx.Err() == nil {
		return fmt.Errorf("%w after %v: %w", ErrStuck, patience, err)
	}
	return err
}
