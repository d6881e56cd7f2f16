package history

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/illumicode/illumicode/explore/model"
	"github.com/illumicode/illumicode/explore/world"
)

// together makes calls at once. Some order of the model's operations must explain what the calls are told, and the
// state after them.
func (p *player) together(ctx context.Context) error {
	var calls []model.Call
	for _, s := range p.h.Calls {
		if c, ok := resolve(p.m, s); ok && atOnce(c, calls) {
			calls = append(calls, c)
		}
	}
	turn := 0
	turns := world.Turns{Next: func(waiting []int) int {
		n := 0
		if turn < len(p.h.Order) {
			n = p.h.Order[turn] % len(waiting)
		}
		turn++
		return waiting[n]
	}}
	answers, err := p.w.Together(ctx, calls, &turns)
	p.m.Done += len(calls)
	p.say("%10v  at once:", p.m.Now)
	if err != nil {
		return p.fail(err.Error())
	}
	for i, c := range calls {
		p.say("            %s: %s", Say(c), answers[i])
	}
	p.say("            in turns of %v", turns.Took)
	state, err := p.w.State(ctx)
	if err != nil {
		return err
	}
	if why := explain(p.m, calls, answers, state); why != "" {
		return p.fail(why)
	}
	if bad := p.w.Errors(); bad != "" {
		return p.fail("the service logs: " + bad)
	}
	return nil
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
	for _, order := range permutations(len(calls)) {
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

// permutations returns all orders of n.
func permutations(n int) [][]int {
	if n == 0 {
		return [][]int{nil}
	}
	var all [][]int
	for _, shorter := range permutations(n - 1) {
		for at := range n {
			all = append(all, slices.Insert(slices.Clone(shorter), at, n-1))
		}
	}
	return all
}
