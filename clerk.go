package illumicode

import (
	"context"
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
	err := c.put(ctx, qu)
	return qu.d, err
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
	if !c.busy {
		c.busy = true
		go c.work()
	}
	c.mu.Unlock()
	select {
	case err := <-qu.out:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// work answers until nobody waits.
func (c *clerk) work() {
	for {
		c.mu.Lock()
		n := min(len(c.waiting), maxQuestions)
		if n == 0 {
			c.busy = false
			c.mu.Unlock()
			return
		}
		group := slices.Clone(c.waiting[:n])
		c.waiting = slices.Delete(c.waiting, 0, n)
		c.mu.Unlock()
		err := c.judge(group)
		for _, qu := range group {
			qu.out <- err
		}
	}
}

// judge answers a group in one transaction.
func (c *clerk) judge(group []*question) error {
	ctx, cancel := context.WithTimeout(context.Background(), patience+time.Second) // who waits gives up before
	defer cancel()
	rules := make(map[string]*limit.Rule)
	for _, qu := range group {
		for _, b := range qu.bound {
			rules[b.Name] = b.Rule
		}
	}
	names := make([]string, 0, len(rules))
	for name := range rules {
		names = append(names, name)
	}
	slices.Sort(names)
	return c.store.WriteSoon(ctx, func(t store.Tx) error {
		held, err := t.LockTallies(ctx, names)
		if err != nil {
			return err
		}
		now := c.now() // after the lock: what another process has just written is not of the future
		changed := make(map[string]limit.State)
		for _, qu := range group {
			c.answer(qu, held, changed, now)
		}
		if len(changed) == 0 {
			return nil
		}
		var all []store.Tally
		for _, name := range names {
			if s, ok := changed[name]; ok {
				all = append(all, store.Tally{Name: name, State: s, Idle: rules[name].Idle(s)})
			}
		}
		return t.SetTallies(ctx, all)
	})
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
