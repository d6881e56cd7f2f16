// Package limits judges requests by the rules of a service and debits them, for all processes on one database.
// [Limits] is the type to read first; what a rule says is computed in package judge.
package limits

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/limit"
)

// patience is how long a transaction of the limits waits for a connection or a lock.
const patience = 5 * time.Second

// An Asker is who asks for a letter to be sent again.
type Asker string

// The askers. The limits hold for the first two. An operator is never refused; letters that an operator sends count.
const (
	ByPerson      Asker = "person"
	ByApplication Asker = "application"
	ByOperator    Asker = "operator"
)

// A Watcher is told of every judgement: the rule that refused, the rule that only observes and would have refused, or
// neither for an admitted request. Many goroutines call it; it must return at once.
type Watcher func(refused, noted *limit.Rule)

// A RefusedError says which rule refused a request, and when the same request would pass; zero for never.
type RefusedError struct {
	Rule  *limit.Rule
	At    time.Time
	Vouch bool // the same request would pass if it was vouched for
}

func (e *RefusedError) Error() string { return "limits: refused by rule " + e.Rule.Name }

// A Charge is what an admitted request has spent. The zero Charge is nothing.
type Charge struct {
	id    string // of the challenge that it is for
	bound []judge.Bound
	at    time.Time
}

// UnusedAfter is how long an admission may wait for its challenge, before its charge is refunded.
const UnusedAfter = time.Minute

// Limits are the rules of one service, and the admissions that may still lead to a challenge. They are safe for
// concurrent use. Use [New].
type Limits struct {
	Set *judge.Set

	batch *batch
	store *store.Store
	now   func() time.Time
	log   *slog.Logger
	watch Watcher

	byNetwork bool      // a rule counts by it
	unknown   sync.Once // a network was missing

	mu    sync.Mutex // guards open and timed
	open  []Charge   // oldest first
	timed bool       // a timer will refund what is unused
}

// New returns the limits of some rules. watch may be nil.
func New(set *judge.Set, st *store.Store, now func() time.Time, log *slog.Logger, watch Watcher) *Limits {
	if watch == nil {
		watch = func(_, _ *limit.Rule) {}
	}
	return &Limits{
		Set: set, batch: &batch{store: st, now: now}, store: st, now: now, log: log, watch: watch,
		byNetwork: slices.ContainsFunc(set.Rules(), func(r limit.Rule) bool { return r.By == limit.Network }),
	}
}

// Spend judges a request and debits its rules, in a transaction of its own. id is the challenge that it may begin.
// The error is a [*RefusedError], or the database's.
func (l *Limits) Spend(ctx context.Context, a judge.Request, id string, by Asker) (Charge, error) {
	return l.spend(a, id, by, func(bound []judge.Bound) (judge.Decision, error) { return l.batch.judgeOne(ctx, bound) })
}

// SpendInside is Spend in a transaction that has the whole database, which saves a transaction that every other
// writer would wait for.
func (l *Limits) SpendInside(ctx context.Context, t store.Tx, a judge.Request, id string) (Charge, error) {
	return l.spend(a, id, ByPerson, func(bound []judge.Bound) (judge.Decision, error) {
		return l.batch.judgeInside(ctx, t, bound)
	})
}

func (l *Limits) spend(a judge.Request, id string, by Asker,
	decide func([]judge.Bound) (judge.Decision, error)) (Charge, error) {
	if a.Network == "" && by == ByPerson && l.byNetwork {
		l.unknown.Do(func() {
			l.log.Warn("a request came without its network, so rules by network do not hold for it; " +
				"take it from pages.Request, or say it with FromNetwork or, over JSON, in the Forwarded field")
		})
	}
	bound := l.Set.Bind(a)
	if len(bound) == 0 {
		return Charge{}, nil
	}
	d, err := decide(bound)
	if err != nil {
		return Charge{}, err
	}
	if d.Noted != nil {
		l.log.Info("a rule that observes would have refused", "rule", d.Noted.Name, "purpose", a.Purpose)
	}
	if d.Allowed {
		l.watch(nil, d.Noted)
		return Charge{id: id, bound: bound, at: l.now()}, nil
	}
	l.watch(d.Refuser, d.Noted)
	if by == ByOperator {
		return Charge{}, nil
	}
	l.log.Info("a limit refused a request", "rule", d.Refuser.Name, "purpose", a.Purpose, "stage", a.Stage, "again",
		d.At)
	return Charge{}, &RefusedError{Rule: d.Refuser, At: d.At, Vouch: d.Vouch}
}

// Refund returns what a request has spent that led to nothing. What strangers can ask for without end stays spent: by
// network, and global rules. An error, which is logged, means that all stays spent.
func (l *Limits) Refund(ctx context.Context, c Charge) error {
	_, bound := c.split()
	return l.after(ctx, bound, "the charge of an unused admission could not be refunded", l.batch.refund)
}

// SpendAgain debits, after a rollback that has refunded everything, what Refund would have left spent.
func (l *Limits) SpendAgain(ctx context.Context, c Charge) {
	bound, _ := c.split()
	l.after(ctx, bound, "the charge of a stranger's request could not be kept",
		func(ctx context.Context, bound []judge.Bound) error {
			_, err := l.batch.judgeOne(ctx, bound)
			return err
		})
}

// after changes rules when a request has ended, whatever has become of its context.
func (l *Limits) after(ctx context.Context, bound []judge.Bound, trouble string,
	do func(context.Context, []judge.Bound) error) error {
	if len(bound) == 0 {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), patience)
	defer cancel()
	if err := do(ctx, bound); err != nil {
		l.log.Warn(trouble, "error", err)
		return err
	}
	return nil
}

// split parts the rules that strangers can use up without end from the others.
func (c Charge) split() (strangers, rest []judge.Bound) {
	for _, b := range c.bound {
		if b.Rule.By == limit.Network || b.Rule.By == limit.All {
			strangers = append(strangers, b)
		} else {
			rest = append(rest, b)
		}
	}
	return strangers, rest
}

// Keep remembers a charge until it is known whether its challenge was begun.
func (l *Limits) Keep(c Charge) {
	if len(c.bound) == 0 {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.open = append(l.open, c)
	l.arm()
}

// Used says that an admission was used for something that is not a challenge with its id.
func (l *Limits) Used(id string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.open = slices.DeleteFunc(l.open, func(c Charge) bool { return c.id == id })
}

// arm has a timer refund what is unused, also in processes without a worker. The caller holds mu.
func (l *Limits) arm() {
	if l.timed || len(l.open) == 0 {
		return
	}
	l.timed = true
	time.AfterFunc(UnusedAfter+time.Second, func() {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		if err := l.RefundUnused(ctx); err != nil {
			l.log.Warn("unused admissions could not be refunded; they are tried again", "error", err)
		}
		l.mu.Lock()
		defer l.mu.Unlock()
		l.timed = false
		l.arm()
	})
}

// mostRefunds bounds how many admissions one call of RefundUnused looks at.
const mostRefunds = 256

// ripe takes the charges that are older than a minute.
func (l *Limits) ripe(now time.Time) []Charge {
	l.mu.Lock()
	defer l.mu.Unlock()
	n := 0
	for n < len(l.open) && n < mostRefunds && now.Sub(l.open[n].at) >= UnusedAfter {
		n++
	}
	out := l.open[:n:n]
	l.open = l.open[n:]
	return out
}

// RefundUnused refunds admissions without a challenge a minute after they were granted: the application's transaction
// was rolled back. If the process dies before, they stay spent. Housekeeping and a timer call it; no request waits for
// the refunds of others.
func (l *Limits) RefundUnused(ctx context.Context) error {
	ripe := l.ripe(l.now())
	if len(ripe) == 0 {
		return nil
	}
	ids := make([]string, len(ripe))
	for i, c := range ripe {
		ids[i] = c.id
	}
	begun, err := l.store.Begun(ctx, ids)
	for err == nil && len(ripe) > 0 {
		if !begun[ripe[0].id] {
			if err = l.Refund(ctx, ripe[0]); err != nil {
				break
			}
		}
		ripe = ripe[1:]
	}
	if err != nil {
		l.mu.Lock()
		defer l.mu.Unlock()
		l.open = slices.Concat(ripe, l.open) // for the next call
	}
	return err
}

// Look returns the states of rules as they are, and spends nothing.
func (l *Limits) Look(ctx context.Context, bound []judge.Bound) ([]judge.State, error) {
	return l.batch.look(ctx, bound)
}

// Guess debits the rules on wrong codes before a code is looked at, so that no number of tries at once gets past them.
// right gives back what a right code has cost. The error is a [*RefusedError], or the database's.
func (l *Limits) Guess(ctx context.Context, a judge.Request) (right func(context.Context), err error) {
	a.Stage = limit.Wrong
	bound := l.Set.Bind(a)
	if len(bound) == 0 {
		return func(context.Context) {}, nil
	}
	d, err := l.batch.judgeOne(ctx, bound)
	if err != nil {
		return nil, err
	}
	l.watch(d.Refuser, d.Noted)
	if !d.Allowed {
		return nil, &RefusedError{Rule: d.Refuser, At: d.At}
	}
	return func(ctx context.Context) {
		l.after(ctx, bound, "what a right code has cost could not be given back", l.batch.refund)
	}, nil
}

// SpendTold debits the rules on such messages alone, and reports whether they had room. Without such a rule there is
// none.
func (l *Limits) SpendTold(ctx context.Context) (ok bool, err error) {
	a := judge.Request{Purpose: judge.Told, Stage: limit.First, Medium: limit.SMS}
	bound := slices.DeleteFunc(l.Set.Bind(a), func(b judge.Bound) bool { return len(b.Rule.On) == 0 })
	if len(bound) == 0 {
		return false, nil
	}
	d, err := l.batch.judgeOne(ctx, bound)
	return d.Allowed, err
}

// SpendNew debits the rules for letters to addresses that are not confirmed, for a letter that nobody asked for by
// name. It reports whether they had room.
func (l *Limits) SpendNew(ctx context.Context, a judge.Request) (ok bool, err error) {
	var bound []judge.Bound
	for _, b := range l.Set.Bind(a) {
		if b.Rule.New {
			bound = append(bound, b)
		}
	}
	if len(bound) == 0 {
		return true, nil
	}
	d, err := l.batch.judgeOne(ctx, bound)
	if err != nil {
		return false, fmt.Errorf("limits: letters to new addresses: %w", err)
	}
	return d.Allowed, nil
}
