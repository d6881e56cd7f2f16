package illumicode

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/illumicode/illumicode/core/limit"
	"github.com/illumicode/illumicode/store"
)

// A clerk judges requests by what all processes have counted. While one transaction runs, the requests
// that come in gather for the next one: a key that everybody needs costs each of them little.
type clerk struct {
	store *store.Store
	now   func() time.Time

	last    map[string]limit.State // as this process wrote them; only turn uses it
	careful time.Time              // until when others are known to write the same; only turn uses it

	mu      sync.Mutex // guards what follows
	waiting []*question
	busy    bool // a goroutine answers
}

// A question is one request that waits for its answer.
type question struct {
	bound []limit.Bound
	back  bool // it gives back
	d     limit.Decision
	out   chan error
}

// maxQuestions bounds a transaction of the clerk.
const maxQuestions = 64

// ask judges one request and spends from its rules if it is allowed.
func (c *clerk) ask(ctx context.Context, bound []limit.Bound) (limit.Decision, error) {
	qu := &question{bound: bound, out: make(chan error, 1)}
	if err := c.put(ctx, qu); err != nil {
		return limit.Decision{}, err // it may be judged at this moment
	}
	return qu.d, nil
}

// askIn is ask in a transaction that has the whole database: its rollback takes back what was spent.
func (c *clerk) askIn(ctx context.Context, t store.Tx, bound []limit.Bound) (limit.Decision, error) {
	group := []*question{{bound: bound}}
	rules, names := rulesOf(group)
	_, err := c.judgeIn(ctx, t, group, rules, names)
	return group[0].d, err
}

// giveBack gives back what one request has spent.
func (c *clerk) giveBack(ctx context.Context, bound []limit.Bound) error {
	return c.put(ctx, &question{bound: bound, back: true, out: make(chan error, 1)})
}

// put hands a question in and waits for the answer. One that is not waited for any more may still be
// judged, and then has spent.
func (c *clerk) put(ctx context.Context, qu *question) error {
	c.mu.Lock()
	c.waiting = append(c.waiting, qu)
	first := !c.busy
	c.busy = true
	c.mu.Unlock()
	if first && c.turn() { // its own answer is in it; those of others are not its to wait for
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
func (c *clerk) work() {
	for c.turn() {
	}
}

// turn answers those who wait, and reports whether others do by then. If not, nobody is at work any more.
func (c *clerk) turn() (more bool) {
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

var errJudge = errors.New("illumicode: the limits could not be judged")

// rulesOf returns the rules that a group is bound by, under the names of their states, and these in order.
func rulesOf(group []*question) (rules map[string]*limit.Rule, names []string) {
	rules = make(map[string]*limit.Rule)
	for _, qu := range group {
		for _, b := range qu.bound {
			rules[b.Name] = b.Rule
		}
	}
	return rules, slices.Sorted(maps.Keys(rules))
}

// judgeAll answers a group: by what this process knows, in one statement that changes what no other has
// changed since; or, if another has, under locks.
func (c *clerk) judgeAll(group []*question) error {
	ctx, cancel := context.WithTimeout(context.Background(), patience+time.Second) // who waits gives up before
	defer cancel()
	rules, names := rulesOf(group)
	if now := c.now(); c.store.OneWriter() || now.Before(c.careful) && c.careful.Sub(now) <= carefulFor {
		return c.judge(ctx, group, rules, names)
	}
	done, err := c.guess(ctx, group, rules, names)
	if done {
		return nil
	}
	if err != nil {
		c.careful = c.now().Add(carefulFor)
	}
	return c.judge(ctx, group, rules, names)
}

const (
	// carefulFor is how long after another process was faster states are locked before they are judged.
	carefulFor = 100 * time.Millisecond
	// maxLast bounds how many states a clerk remembers.
	maxLast = 10_000
)

// guess judges a group by the states that this process wrote last, those that it never wrote as unused,
// and reports whether that held: not if a request would be refused or is given back, or another process
// has written.
func (c *clerk) guess(ctx context.Context, group []*question, rules map[string]*limit.Rule, names []string) (done bool, err error) {
	if len(c.last) > maxLast || c.last == nil {
		c.last = make(map[string]limit.State)
	}
	held, changed := make(map[string]limit.State, len(names)), make(map[string]limit.State, len(names))
	for _, name := range names {
		held[name] = c.last[name]
	}
	for _, qu := range group {
		if qu.back {
			return false, nil
		}
		if c.answer(qu, held, changed, c.now()); !qu.d.Allowed {
			return false, nil
		}
	}
	var all []store.Swap
	for _, name := range names {
		if s, ok := changed[name]; ok {
			all = append(all, store.Swap{Name: name, Was: c.last[name], Tally: store.Tally{State: s, Idle: rules[name].Idle(s)}})
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
	return false, c.undo(ctx, all, did, group, rules, names)
}

// undo takes back what held of a guess: the states become as they were; or, where another process has
// counted since, less by what was counted here, which is not the same for waits that grow.
func (c *clerk) undo(ctx context.Context, all []store.Swap, did map[string]bool, group []*question, rules map[string]*limit.Rule, names []string) error {
	var before []store.Swap
	for _, one := range all {
		if did[one.Name] {
			before = append(before, store.Swap{Name: one.Name, Was: one.State, Tally: store.Tally{State: one.Was, Idle: rules[one.Name].Idle(one.Was)}})
		}
	}
	undone, err := c.store.SwapTallies(ctx, before)
	if err != nil || len(undone) == len(before) {
		return err
	}
	var rest []*question
	for _, qu := range group {
		back := &question{back: true}
		for _, b := range qu.bound {
			if did[b.Name] && !undone[b.Name] {
				back.bound = append(back.bound, b)
			}
		}
		rest = append(rest, back)
	}
	return c.judge(ctx, rest, rules, names)
}

// judge answers a group in one transaction.
func (c *clerk) judge(ctx context.Context, group []*question, rules map[string]*limit.Rule, names []string) error {
	return c.store.WriteSoon(ctx, func(t store.Tx) error {
		held, err := c.judgeIn(ctx, t, group, rules, names)
		if c.last != nil {
			maps.Copy(c.last, held) // wrong after a rollback, which the next guess finds out
		}
		return err
	})
}

// judgeIn answers a group in a transaction, and returns the states after it.
func (c *clerk) judgeIn(ctx context.Context, t store.Tx, group []*question, rules map[string]*limit.Rule, names []string) (map[string]limit.State, error) {
	held, err := t.LockTallies(ctx, names)
	if err != nil {
		return nil, err
	}
	now := c.now() // after the lock: what another process has just written is not of the future
	changed := make(map[string]limit.State)
	for _, qu := range group {
		c.answer(qu, held, changed, now)
	}
	if len(changed) == 0 {
		return held, nil
	}
	var all []store.Tally
	for _, name := range names {
		if s, ok := changed[name]; ok {
			all = append(all, store.Tally{Name: name, State: s, Idle: rules[name].Idle(s)})
		}
	}
	return held, t.SetTallies(ctx, all)
}

// answer judges one question by what is held, and puts what it changes there and into changed.
func (c *clerk) answer(qu *question, held, changed map[string]limit.State, now time.Time) {
	states, next := make([]limit.State, len(qu.bound)), make([]limit.State, len(qu.bound))
	for i, b := range qu.bound {
		states[i] = held[b.Name]
	}
	if qu.back {
		for i, b := range qu.bound {
			next[i] = b.Rule.Return(states[i], 1, now)
		}
	} else {
		qu.d = limit.Judge(qu.bound, states, 1, now, next)
	}
	for i, b := range qu.bound {
		if next[i] != states[i] {
			held[b.Name], changed[b.Name] = next[i], next[i]
		}
	}
}

// look returns the states of rules as they are, and spends nothing.
func (c *clerk) look(ctx context.Context, bound []limit.Bound) ([]limit.State, error) {
	names := make([]string, len(bound))
	for i, b := range bound {
		names[i] = b.Name
	}
	held, err := c.store.Tallies(ctx, names)
	states := make([]limit.State, len(bound))
	for i, name := range names {
		states[i] = held[name]
	}
	return states, err
}
