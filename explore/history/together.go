package history

import (
	"context"
	"fmt"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"

	"github.com/illumicode/illumicode/explore/model"
	"github.com/illumicode/illumicode/explore/world"
)

// A Block is calls that are made at once, after the steps before them.
type Block struct {
	Before []Step
	Calls  []Step
	Order  []int // who goes on at each turn, among those that wait; 0 after its end
}

// PlayBlock plays steps, then calls at once. What the calls are told, and the state after them, must be what some order
// of the model's operations leads to.
func PlayBlock(ctx context.Context, w *world.World, b Block) (*model.Model, error) {
	m, err := Play(ctx, w, b.Before)
	if err != nil {
		return m, err
	}
	var calls []model.Call
	for _, s := range b.Calls {
		if c, ok := resolve(m, s); ok && atOnce(c, calls) {
			calls = append(calls, c)
		}
	}
	at := 0
	turns := world.Turns{Next: func(waiting []int) int {
		n := 0
		if at < len(b.Order) {
			n = b.Order[at] % len(waiting)
		}
		at++
		return waiting[n]
	}}
	told := []string{fmt.Sprintf("%10v  at once:", m.Now)}
	fail := func(why string) error {
		return &Failure{Steps: b.Before, Block: &b, Told: append(tellOf(m, b.Before), told...), Why: why}
	}
	answers, err := w.Together(ctx, calls, &turns)
	if err != nil {
		return m, fail(err.Error())
	}
	for i, c := range calls {
		told = append(told, fmt.Sprintf("            %s: %s", Say(c), answers[i]))
	}
	told = append(told, fmt.Sprintf("            in turns of %v", turns.Took))
	state, err := w.State(ctx)
	if err != nil {
		return m, err
	}
	why := explain(m, calls, answers, state)
	if why == "" && w.Errors() != "" {
		why = "the service logs: " + w.Errors()
	}
	if why == "" {
		why, err = w.Secrets(ctx)
	}
	if err != nil || why != "" {
		return m, fail(why)
	}
	return m, nil
}

// atOnce reports whether a call can be made beside others: one provider does one thing at a time, and time passes for
// all.
func atOnce(c model.Call, beside []model.Call) bool {
	if c.Verb == model.Pass || c.Verb == model.Rotate || c.Verb == model.Steal || c.Verb == model.Tamper {
		return false
	}
	return c.Verb != model.Deliver || !slices.ContainsFunc(beside,
		func(o model.Call) bool { return o.Verb == model.Deliver })
}

// numbers tell which of two calls at once was first to add something, which no order of the model must explain.
var numbers = regexp.MustCompile(`\b(proof|challenge|letter) \d+`)

// plain returns an answer without what depends on the order in which two proofs were seen, or on whether a recall has
// marked yet what it holds.
func plain(answer string) string {
	if answer == "held" {
		return "waiting"
	}
	return numbers.ReplaceAllString(answer, "$1")
}

// explain returns "" if some order of the calls, one after the other on the model, has these answers and this state;
// else what the orders lead to.
func explain(m *model.Model, calls []model.Call, answers, state []string) string {
	var all []string
	state = plainly(state)
	for order := range permutations(len(calls)) {
		why := inOrder(m.Clone(), order, calls, answers, state)
		if why == "" {
			return ""
		}
		lagging := m.Clone()
		if lagging.Lag(); inOrder(lagging, order, calls, answers, state) == "" {
			return ""
		}
		all = append(all, fmt.Sprintf("in the order %v the model says otherwise:\n%s", order, why))
	}
	return strings.Join(all, "\n")
}

// inOrder does calls on a model, each with the cookies from before all of them, and returns what is otherwise; "" for
// nothing.
func inOrder(m *model.Model, order []int, calls []model.Call, answers, state []string) string {
	before := m.Clone()
	var why []string
	for _, n := range order {
		m.AsOf(before)
		if want := plain(m.Do(calls[n])); want != plain(answers[n]) {
			why = append(why, fmt.Sprintf("%s: %s", Say(calls[n]), want))
		}
	}
	if diff := differ(plainly(m.State()), state); diff != "" {
		why = append(why, diff)
	}
	return strings.Join(why, "\n")
}

// plainly returns the lines of a state without what depends on an order.
func plainly(state []string) []string {
	out := make([]string, len(state))
	for i, line := range state {
		out[i] = plain(line)
	}
	slices.Sort(out)
	return out
}

// permutations yields all orders of n.
func permutations(n int) func(yield func([]int) bool) {
	return func(yield func([]int) bool) {
		order := make([]int, 0, n)
		var put func() bool
		put = func() bool {
			if len(order) == n {
				return yield(slices.Clone(order))
			}
			for i := range n {
				if slices.Contains(order, i) {
					continue
				}
				order = append(order, i)
				if !put() {
					return false
				}
				order = order[:len(order)-1]
			}
			return true
		}
		put()
	}
}

// MakeBlock makes up steps and calls at once from a seed. Turns change rarely in most of them.
func MakeBlock(seed uint64) Block {
	r := rand.New(rand.NewPCG(seed, 21))
	m := model.New()
	b := Block{Before: start(r)}
	play := func(s Step) {
		if c, ok := resolve(m, s); ok {
			c.Due = m.Now + 1
			m.Do(c)
		}
	}
	for _, s := range b.Before {
		play(s)
	}
	for range r.IntN(7) {
		s := choose(r, m)
		b.Before = append(b.Before, s)
		play(s)
	}
	for range 2 + r.IntN(3) {
		b.Calls = append(b.Calls, choose(r, m))
	}
	if r.IntN(3) == 0 { // the same at once
		b.Calls[1] = b.Calls[0]
	}
	often := 1 + r.IntN(6)
	for range 40 {
		n := 0
		if r.IntN(often) == 0 {
			n = r.IntN(4)
		}
		b.Order = append(b.Order, n)
	}
	return b
}

// tellOf tells steps that were played.
func tellOf(_ *model.Model, steps []Step) (told []string) {
	m := model.New()
	for _, s := range steps {
		if c, ok := resolve(m, s); ok {
			c.Due = m.Now + 1
			told = append(told, fmt.Sprintf("%10v  %s: %s", m.Now, Say(c), m.Do(c)))
		}
	}
	return told
}
