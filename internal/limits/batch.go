package limits

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/limit"
)

// A batch judges requests by what all processes have counted. Requests that arrive while a transaction runs share
// the next one, so that a key which every request needs costs each of them little.
type batch struct {
	store *store.Store
	now   func() time.Time

	last    map[string]judge.State // as this process wrote them; only round uses it
	careful time.Time              // until when others are known to write the same; only round uses it

	mu      sync.Mutex // guards what follows
	waiting []*question
	busy    bool // a goroutine answers
}

// A question is one request that waits for its answer.
type question struct {
	bound []judge.Bound
	back  bool // it refunds
	d     judge.Decision
	out   chan error
}

var errJudge = errors.New("limits: the request could not be judged")

// maxQuestions bounds a transaction of the batch.
const maxQuestions = 64

// judgeOne judges one request and spends from its rules if it is allowed.
func (c *batch) judgeOne(ctx context.Context, bound []judge.Bound) (judge.Decision, error) {
	qu := &question{bound: bound, out: make(chan error, 1)}
	if err := c.put(ctx, qu); err != nil {
		return judge.Decision{}, err // it may be judged at this moment
	}
	return qu.d, nil
}

// judgeInside is judgeOne in a transaction that has the whole database: its rollback takes back what was spent.
func (c *batch) judgeInside(ctx context.Context, t store.Tx, bound []judge.Bound) (judge.Decision, error) {
	g := groupOf([]*question{{bound: bound}})
	_, err := c.judgeIn(ctx, t, g)
	return g.all[0].d, err
}

// refund returns what one request has spent.
func (c *batch) refund(ctx context.Context, bound []judge.Bound) error {
	return c.put(ctx, &question{bound: bound, back: true, out: make(chan error, 1)})
}

// put hands a question in and waits for the answer. One that is not waited for any more may still be
// judged, and then has spent.
func (c *batch) put(ctx context.Context, qu *question) error {
	c.mu.Lock()
	c.waiting = append(c.waiting, qu)
	first := !c.busy
	c.busy = true
	c.mu.Unlock()
	if first && c.round() { // its own answer is in it; those of others are not its to wait for
		go c.work()
	}
	select {
	case err := <-qu.out:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// work answers until nobody waits.
func (c *batch) work() {
	for c.round() {
	}
}

// round answers those who wait, and reports whether others do by then. If not, nobody is at work any more.
func (c *batch) round() (more bool) {
	c.mu.Lock()
	n := min(len(c.waiting), maxQuestions)
	group := slices.Clone(c.waiting[:n])
	c.waiting = slices.Delete(c.waiting, 0, n)
	c.mu.Unlock()
	err := errJudge // of those who wait, if a panic comes in between
	defer func() {
		for _, qu := range group {
			qu.out <- err
		}
		c.mu.Lock()
		defer c.mu.Unlock()
		c.busy = len(c.waiting) > 0
		more = c.busy
	}()
	err = c.judgeAll(group)
	return false
}

// A group is the questions that share a transaction, with the rules that bind them.
type group struct {
	all   []*question
	rules map[string]*limit.Rule // by the names of their states
	names []string               // of the states, sorted
}

func groupOf(all []*question) group {
	g := group{all: all, rules: make(map[string]*limit.Rule)}
	for _, qu := range all {
		for _, b := range qu.bound {
			g.rules[b.Name] = b.Rule
		}
	}
	g.names = slices.Sorted(maps.Keys(g.rules))
	return g
}

// judgeAll answers a group: by what this process knows, in one statement that changes what no other has
// changed since; or, if another has, under locks.
func (c *batch) judgeAll(all []*question) error {
	ctx, cancel := context.WithTimeout(context.Background(), patience+time.Second) // who waits gives up before
	defer cancel()
	g := groupOf(all)
	if now := c.now(); c.store.OneWriter() || now.Before(c.careful) && c.careful.Sub(now) <= carefulFor {
		return c.judge(ctx, g)
	}
	done, err := c.guess(ctx, g)
	if done {
		return nil
	}
	if err != nil {
		c.careful = c.now().Add(carefulFor)
	}
	return c.judge(ctx, g)
}

const (
	// carefulFor is how long after another process was faster states are locked before they are judged.
	carefulFor = 100 * time.Millisecond
	// maxLast bounds how many states a batch remembers.
	maxLast = 10_000
)

// guess judges a group by the states that this process wrote last, those that it never wrote as unused,
// and reports whether that held: not if a request would be refused or is given back, or another process
// has written.
func (c *batch) guess(ctx context.Context, g group) (done bool, err error) {
	if len(c.last) > maxLast || c.last == nil {
		c.last = make(map[string]judge.State)
	}
	held, changed := make(map[string]judge.State, len(g.names)), make(map[string]judge.State, len(g.names))
	for _, name := range g.names {
		held[name] = c.last[name]
	}
	for _, qu := range g.all {
		if qu.back {
			return false, nil
		}
		if c.answer(qu, held, changed, c.now()); !qu.d.Allowed {
			return false, nil
		}
	}
	var all []store.Swap
	for _, name := range g.names {
		if s, ok := changed[name]; ok {
			all = append(all,
				store.Swap{Name: name, Was: c.last[name],
					Tally: store.Tally{State: s, Idle: judge.Idle(g.rules[name], s)}})
		}
	}
	switch {
	case len(all) == 0:
		return true, nil
	case len(all) > store.MostSwaps:
		return false, nil
	}
	did, err := c.store.SwapTallies(ctx, all)
	switch {
	case err != nil:
		return false, err
	case len(did) == len(all):
		maps.Copy(c.last, changed)
		return true, nil
	}
	c.careful = c.now().Add(carefulFor)
	if len(did) == 0 {
		return false, nil
	}
	return false, c.undo(ctx, all, did, g)
}

// undo takes back what held of a guess: the states become as they were; or, where another process has
// counted since, less by what was counted here, which is not the same for waits that grow.
func (c *batch) undo(ctx context.Context, all []store.Swap, did map[string]bool, g group) error {
	var before []store.Swap
	for _, one := range all {
		if did[one.Name] {
			before = append(before,
				store.Swap{Name: one.Name, Was: one.State,
					Tally: store.Tally{State: one.Was, Idle: judge.Idle(g.rules[one.Name], one.Was)}})
		}
	}
	undone, err := c.store.SwapTallies(ctx, before)
	if err != nil || len(undone) == len(before) {
		return err
	}
	var rest []*question
	for _, qu := range g.all {
		back := &question{back: true}
		for _, b := range qu.bound {
			if did[b.Name] && !undone[b.Name] {
				back.bound = append(back.bound, b)
			}
		}
		rest = append(rest, back)
	}
	return c.judge(ctx, groupOf(rest))
}

// judge answers a group in one transaction.
func (c *batch) judge(ctx context.Context, g group) error {
	return c.store.WriteRelaxed(ctx, func(t store.Tx) error {
		held, err := c.judgeIn(ctx, t, g)
		if c.last != nil {
			maps.Copy(c.last, held) // wrong after a rollback, which the next guess finds out
		}
		return err
	})
}

// judgeIn answers a group in a transaction, and returns the states after it.
func (c *batch) judgeIn(ctx context.Context, t store.Tx, g group) (map[string]judge.State, error) {
	held, err := t.LockTallies(ctx, g.names)
	if err != nil {
		return nil, err
	}
	now := c.now() // after the lock: what another process has just written is not of the future
	changed := make(map[string]judge.State)
	for _, qu := range g.all {
		c.answer(qu, held, changed, now)
	}
	if len(changed) == 0 {
		return held, nil
	}
	var all []store.Tally
	for _, name := range g.names {
		if s, ok := changed[name]; ok {
			all = append(all, store.Tally{Name: name, State: s, Idle: judge.Idle(g.rules[name], s)})
		}
	}
	return held, t.SetTallies(ctx, all)
}

// answer judges one question by what is held, and puts what it changes there and into changed.
func (c *batch) answer(qu *question, held, changed map[string]judge.State, now time.Time) {
	states, next := make([]judge.State, len(qu.bound)), make([]judge.State, len(qu.bound))
	for i, b := range qu.bound {
		states[i] = held[b.Name]
	}
	if qu.back {
		for i, b := range qu.bound {
			next[i] = judge.Return(b.Rule, states[i], 1, now)
		}
	} else {
		qu.d = judge.Judge(qu.bound, states, 1, now, next)
	}
	for i, b := range qu.bound {
		if next[i] != states[i] {
			held[b.Name], changed[b.Name] = next[i], next[i]
		}
	}
}

// look returns the states of rules as they are, and spends nothing.
func (c *batch) look(ctx context.Context, bound []judge.Bound) ([]judge.State, error) {
	names := make([]string, len(bound))
	for i, b := range bound {
		names[i] = b.Name
	}
	held, err := c.store.Tallies(ctx, names)
	states := make([]judge.State, len(bound))
	for i, name := range names {
		states[i] = held[name]
	}
	return states, err
}
