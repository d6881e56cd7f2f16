package history

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"

	"github.com/illumicode/illumicode/explore/model"
	"github.com/illumicode/illumicode/explore/world"
)

// A Break is a call during which something breaks, after the steps before it.
type Break struct {
	Before []Step
	Call   Step
	Fault  world.Fault
}

// PlayBreak plays steps, then a call during which a fault happens. What the call does must be done as a whole or not at
// all; what its caller was told must be true; a letter that was tried ends, waits, or is known to have perhaps been
// sent.
func PlayBreak(ctx context.Context, w *world.World, b Break) (*model.Model, error) {
	m, err := Play(ctx, w, b.Before)
	if err != nil {
		return m, err
	}
	c, ok := resolve(m, b.Call)
	if !ok {
		return m, nil
	}
	before := m.Clone()
	answer, at := w.Faulty(ctx, &c, b.Fault)
	if at == "" {
		return m, nil
	}
	m.Covered["fault: "+string(at)+", "+string(c.Verb)]++
	told := append(tellOf(m, b.Before), fmt.Sprintf("%10v  %s: %s", before.Now, Say(c), answer),
		fmt.Sprintf("            the fault: %s; the process ends: %t", at, b.Fault.Killed))
	fail := func(why string) error {
		return &Failure{Steps: b.Before, Break: &b, Told: told, Why: why}
	}
	if c.Verb == model.Deliver {
		why, err := broken(ctx, w, c)
		if err != nil || why == "" {
			return m, err
		}
		return m, fail(why)
	}
	want := m.Do(c)
	if c.Verb == model.Care || c.Verb == model.EndRecall { // many transactions, which go on when it is done again
		if again, err := do(ctx, w, &c); err != nil {
			return m, fail("and once more: " + again + ", " + err.Error())
		}
		answer, want = "", "once more"
		before = m
	}
	state, err := w.State(ctx)
	if err != nil {
		return m, err
	}
	done, not := differ(m.State(), state), differ(before.State(), state)
	switch {
	case done == "" || plain(answer) != plain(want) && not == "":
		return m, nil
	case plain(answer) == plain(want):
		return m, fail("it was told that it is done:\n" + done)
	}
	return m, fail("it is neither done:\n" + done + "\nnor not done:\n" + not)
}

// broken returns what is wrong with a letter whose delivery broke, after another worker has recovered it.
func broken(ctx context.Context, w *world.World, c model.Call) (string, error) {
	if err := w.Recover(ctx); err != nil {
		return "", err
	}
	state, attempts, left, err := w.Letter(ctx, c.Letter)
	switch {
	case err != nil:
		return fmt.Sprintf("letter %d is lost: %v", c.Letter, err), nil
	case state == "claimed":
		return fmt.Sprintf("letter %d stays claimed", c.Letter), nil
	case left && attempts == 0:
		return fmt.Sprintf("letter %d left, and no attempt is on record", c.Letter), nil
	case !left && state == "sent":
		return fmt.Sprintf("letter %d is said to be sent, and is not", c.Letter), nil
	}
	return "", nil
}

// MakeBreak makes up steps, a call and a fault from a seed.
func MakeBreak(seed uint64) Break {
	r := rand.New(rand.NewPCG(seed, 22))
	steps := Make(seed, 9)
	b := Break{Before: steps[:len(steps)-1], Call: steps[len(steps)-1]}
	m := model.New()
	for _, s := range b.Before {
		if c, ok := resolve(m, s); ok {
			c.Due = m.Now + 1
			m.Do(c)
		}
	}
	for range 5 { // one that writes
		if c, ok := resolve(m, b.Call); ok && c.Verb != model.Pass && c.Verb != model.Rotate {
			break
		}
		b.Call = choose(r, m)
	}
	b.Fault = world.Fault{At: r.IntN(30), Killed: r.IntN(3) == 0}
	if r.IntN(2) == 0 {
		b.Fault.At = r.IntN(8)
	}
	return b
}

// ShrinkBreak takes steps out of a break that fails, as long as it fails.
func ShrinkBreak(ctx context.Context, w *world.World, f *Failure) *Failure {
	for at := 0; at < len(f.Break.Before); {
		b := *f.Break
		b.Before = slices.Delete(slices.Clone(b.Before), at, at+1)
		if g, ok := breaks(ctx, w, b); ok {
			f = g
		} else {
			at++
		}
	}
	return f
}

func breaks(ctx context.Context, w *world.World, b Break) (*Failure, bool) {
	_, err := PlayBreak(ctx, w, b)
	f, ok := err.(*Failure)
	return f, ok && f.Break != nil
}
