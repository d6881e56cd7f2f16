package world

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/illumicode/illumicode/explore/model"
	"github.com/illumicode/illumicode/internal/store/db"
)

// Turns lets calls run at once, one at a time, in an order that is decided from outside. On SQLite a writing
// transaction has the whole file, so that nothing finer can happen: it is a turn, and so is a statement outside of one.
// On PostgreSQL each statement and each commit is a turn. A call that does not come to its next point soon waits for
// another, such as for a lock: others go on.
type Turns struct {
	// Next chooses who of those that wait goes on, by their places among the calls; it is told in ascending order.
	Next func(waiting []int) int

	Took []int // who went on, in order

	mu    sync.Mutex // guards what follows
	calls []*turn
	ended chan struct{} // somebody has come to a point, or to an end
}

// A turn is one call.
type turn struct {
	n     int
	depth int           // of transactions that it is in
	goOn  chan struct{} // closed, and made anew, when it may go on
	state string        // runs, waits or ended
}

type turnKey struct{}

// at is the seam of a world whose calls take turns.
func (t *Turns) at(ctx context.Context, at db.Point, _ string) error {
	one, ok := ctx.Value(turnKey{}).(*turn)
	if !ok {
		return nil
	}
	switch at {
	case db.TurnHad:
		one.depth++
	case db.TurnGiven:
		one.depth--
	case db.TurnWanted, db.ToRun, db.ToCommit:
		if one.depth == 0 {
			t.wait(one)
		}
	}
	return nil
}

// wait waits until it is this call's turn.
func (t *Turns) wait(one *turn) {
	t.mu.Lock()
	goOn := make(chan struct{})
	one.goOn = goOn
	t.mu.Unlock()
	t.set(one, "waits")
	<-goOn
}

// Together does calls at once on a world, and returns what each was told. The error says that they wait for each other
// for ever.
func (w *World) Together(ctx context.Context, calls []model.Call, t *Turns) ([]string, error) {
	answers := make([]string, len(calls))
	t.ended = make(chan struct{}, 1)
	w.seam = t.at
	defer func() { w.seam = nil }()
	for i := range calls {
		one := &turn{n: i, state: "runs"}
		t.calls = append(t.calls, one)
		mine := *w // with cookies and lists of its own
		mine.browsers, mine.challenges = slices.Clone(w.browsers), maps.Clone(w.challenges)
		mine.proofs, mine.admissions = slices.Clip(w.proofs), slices.Clip(w.admissions)
		go func() {
			answers[i] = mine.Alone(context.WithValue(ctx, turnKey{}, one), &calls[i])
			t.set(one, "ended")
		}()
		t.settle(one)
	}
	for {
		one, left := t.choose()
		switch {
		case one != nil:
			t.settle(one)
		case !left:
			return answers, nil
		case !t.stirs():
			return nil, errors.New("the calls wait for each other")
		}
	}
}

func (t *Turns) set(one *turn, state string) {
	t.mu.Lock()
	one.state = state
	t.mu.Unlock()
	select {
	case t.ended <- struct{}{}:
	default:
	}
}

// How long a call runs that waits for another which is not at its turn, and how long all may.
const (
	patience = 20 * time.Millisecond
	forEver  = 10 * time.Second
)

// settle waits until a call has come to a point or to its end, or seems to wait for another.
func (t *Turns) settle(one *turn) {
	late := time.NewTimer(patience)
	defer late.Stop()
	for {
		t.mu.Lock()
		runs := one.state == "runs"
		t.mu.Unlock()
		if !runs {
			return
		}
		select {
		case <-t.ended:
		case <-late.C:
			return
		}
	}
}

// stirs waits until something happens.
func (t *Turns) stirs() bool {
	select {
	case <-t.ended:
		return true
	case <-time.After(forEver):
		return false
	}
}

// choose lets one of those that wait go on, if any does; left says that not all have ended.
func (t *Turns) choose() (one *turn, left bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	var waiting []int
	for _, c := range t.calls {
		left = left || c.state != "ended"
		if c.state == "waits" {
			waiting = append(waiting, c.n)
		}
	}
	if len(waiting) == 0 {
		return nil, left
	}
	one = t.calls[t.Next(waiting)]
	t.Took = append(t.Took, one.n)
	one.state = "runs"
	close(one.goOn)
	return one, true
}

// Alone is Do, with an answer that says so where it panics.
func (w *World) Alone(ctx context.Context, c *model.Call) (answer string) {
	defer func() {
		if p := recover(); p != nil {
			answer = fmt.Sprintf("a panic: %v", p)
		}
	}()
	return w.Do(ctx, c)
}
