package history

import (
	"math/rand/v2"
	"slices"
	"time"

	"github.com/illumicode/illumicode/explore/model"
	"github.com/illumicode/illumicode/explore/world"
)

// Coverage counts what histories have met. It is for one goroutine.
type Coverage struct {
	Histories  int
	Situations map[string]int        // of the model
	Pairs      map[[2]model.Verb]int // of steps that follow each other
	steps      int
}

// NewCoverage returns one that has met nothing.
func NewCoverage() *Coverage {
	return &Coverage{Situations: map[string]int{}, Pairs: map[[2]model.Verb]int{}}
}

// Add adds what a history has met.
func (c *Coverage) Add(m *model.Model, h History) {
	steps := slices.Concat(h.Steps, h.Calls)
	c.Histories++
	for situation, n := range m.Covered {
		c.Situations[situation] += n
	}
	for i := 1; i < len(steps); i++ {
		c.Pairs[[2]model.Verb{steps[i-1].Verb, steps[i].Verb}]++
	}
	c.steps += m.Done
}

// Steps is how many steps were played.
func (c *Coverage) Steps() int { return c.steps }

// Merge adds what another has met.
func (c *Coverage) Merge(other *Coverage) {
	for situation, n := range other.Situations {
		c.Situations[situation] += n
	}
	for pair, n := range other.Pairs {
		c.Pairs[pair] += n
	}
	c.steps += other.steps
	c.Histories += other.Histories
}

// passes are spans at whose ends something changes: waits, lives, places, graces, and the moments right before them.
var passes = []time.Duration{time.Millisecond, time.Second, 29 * time.Second, 30 * time.Second, time.Minute,
	5 * time.Minute, 7 * time.Minute, 10*time.Minute - time.Millisecond, 10 * time.Minute, 15 * time.Minute,
	time.Hour, 24*time.Hour - time.Second, 24 * time.Hour, 72 * time.Hour, 7*24*time.Hour - time.Minute,
	7 * 24 * time.Hour, 14 * 24 * time.Hour}

// A maker makes up a history, step by step, along the model.
type maker struct {
	*rand.Rand
	m     *model.Model
	steps []Step
}

func (k *maker) add(all ...Step) {
	for _, s := range all {
		k.steps = append(k.steps, s)
		if c, ok := resolve(k.m, s); ok {
			c.Due = k.m.Now + time.Minute // whatever a service says
			k.m.Do(c)
		}
	}
}

// Make makes up a history of a kind from a seed. It prefers what is interesting in the state that the model is in.
func Make(kind Kind, seed uint64) History {
	k := &maker{Rand: rand.New(rand.NewPCG(seed, 20)), m: model.New()}
	k.add(start(k.Rand)...)
	switch kind {
	case Interleaved:
		return k.together()
	case Faulty:
		return k.broken()
	}
	n := 8 + k.IntN(13)
	// Each seed has two verbs that follow each other somewhere, so that all pairs are met however rare they are.
	at, pair := k.IntN(n-1), int(seed%uint64(len(verbs)*len(verbs)))
	for i := range n {
		next := choose(k.Rand, k.m)
		switch i {
		case at:
			next.Verb = verbs[pair/len(verbs)].verb
		case at + 1:
			next.Verb = verbs[pair%len(verbs)].verb
		}
		k.add(next)
	}
	return History{Steps: k.steps}
}

// together makes up a few steps more, and calls at once. In most histories turns change rarely.
func (k *maker) together() History {
	for range k.IntN(7) {
		k.add(choose(k.Rand, k.m))
	}
	h := History{Steps: k.steps}
	for range 2 + k.IntN(3) {
		h.Calls = append(h.Calls, choose(k.Rand, k.m))
	}
	if k.IntN(3) == 0 { // the same at once
		h.Calls[1] = h.Calls[0]
	}
	often := 1 + k.IntN(6)
	for range 40 {
		n := 0
		if k.IntN(often) == 0 {
			n = k.IntN(4)
		}
		h.Order = append(h.Order, n)
	}
	return h
}

// broken makes up some steps more, a call that writes, and a fault.
func (k *maker) broken() History {
	for range 7 + k.IntN(2) {
		k.add(choose(k.Rand, k.m))
	}
	h := History{Steps: k.steps, Fault: &world.Fault{At: k.IntN(30), Killed: k.IntN(3) == 0}}
	if k.IntN(2) == 0 {
		h.Fault.At = k.IntN(8)
	}
	for range 5 {
		h.Calls = []Step{choose(k.Rand, k.m)}
		if c, ok := resolve(k.m, h.Calls[0]); ok && c.Verb != model.Pass && c.Verb != model.Rotate {
			break
		}
	}
	return h
}

// choose returns a next step: most of the time one that goes on with what there is.
func choose(r *rand.Rand, m *model.Model) Step {
	s := one(r)
	if r.IntN(4) == 0 {
		return s
	}
	var verbs []model.Verb
	for verb, n := range m.Interesting() {
		for range n {
			verbs = append(verbs, verb)
		}
	}
	if len(verbs) == 0 {
		return s
	}
	slices.Sort(verbs)
	s.Verb = verbs[r.IntN(len(verbs))]
	switch s.Verb {
	case model.Accept:
		s.D = m.Acceptable()[r.IntN(len(m.Acceptable()))]
	case model.Prove:
		s.A, s.D = m.Readers()[r.IntN(len(m.Readers()))], 1+r.IntN(840)
	case model.Resend: // where somebody waits
		s.A = m.Waiting()[r.IntN(len(m.Waiting()))]
	case model.Deliver: // the latest
		if r.IntN(2) == 0 {
			s.D = len(m.Due()) - 1
		}
	case model.ProveLink: // of the latest letters
		if n := len(m.WithLink()); r.IntN(4) > 0 {
			s.D = max(0, n-1-r.IntN(2))
		}
		s.A = r.IntN(model.Browsers)
	case model.Decide:
		s.B = m.Frozen()[0] - 1
	case model.StepUp, model.Change, model.Stale, model.Revoke, model.Release, model.Vouch, model.Custom:
		if all := m.Living(); len(all) > 0 {
			s.B = all[r.IntN(len(all))] - 1
		}
	case model.SignIn:
		if all := m.Held(); len(all) > 0 {
			s.C = all[r.IntN(len(all))]
		}
	case model.Pass:
		s.For = span(r)
	}
	return s
}

// span is how long nothing happens: most of the time not long.
func span(r *rand.Rand) time.Duration {
	if r.IntN(3) > 0 {
		return passes[r.IntN(9)]
	}
	return passes[r.IntN(len(passes))]
}

// start returns the steps that lead to where a history begins: nothing, accounts with addresses, a known browser, a
// change that is pending, was made, or was taken back, wrong codes.
func start(r *rand.Rand) (steps []Step) {
	add := func(all ...Step) { steps = append(steps, all...) }
	deliver := Step{Verb: model.Deliver, Fate: model.Takes}
	accept := Step{Verb: model.Accept, D: latest, End: model.Commit}
	link := Step{Verb: model.ProveLink, B: 1, D: latest}
	if r.IntN(8) == 0 { // a code whose tries are used up, of any kind
		add(Step{Verb: []model.Verb{model.Register, model.SignIn, model.Custom}[r.IntN(3)], End: model.Commit}, deliver)
		for range 5 {
			add(Step{Verb: model.Prove})
		}
		return append(steps, Step{Verb: model.Pass, For: time.Minute})
	}
	accounts := r.IntN(3)
	for n := range accounts {
		accept.B = n
		add(Step{Verb: model.Admit, A: n, C: n}, Step{Verb: model.BeginSignup, A: n, B: n, D: latest,
			End: model.Commit},
			deliver, link, accept)
	}
	if accounts == 0 {
		return steps
	}
	accept.B = 0
	if r.IntN(3) == 0 { // a known browser
		add(Step{Verb: model.SignIn, A: 0, C: 0}, deliver, Step{Verb: model.Prove, A: 0, D: 1}, accept)
	}
	if r.IntN(4) == 0 { // somebody guesses
		add(Step{Verb: model.SignIn, A: 1, C: 0}, deliver)
		for range 2 + r.IntN(4) {
			add(Step{Verb: model.Prove, A: 1})
		}
		return steps
	}
	if r.IntN(6) == 0 { // an account is closed, and somebody gets its id
		add(Step{Verb: model.Release, End: model.Commit}, Step{Verb: model.Admit, A: r.IntN(3), C: r.IntN(2)},
			Step{Verb: model.BeginSignup, B: 0, D: latest, End: model.Commit}, deliver,
			Step{Verb: model.ProveLink, A: r.IntN(3), B: 1, D: latest}, accept)
		return steps
	}
	if r.IntN(2) == 0 {
		return steps
	}
	add(Step{Verb: model.Pass, For: time.Hour}, Step{Verb: model.Change, A: 2, B: 0, C: 2, D: 1}, deliver, deliver)
	if r.IntN(4) == 0 {
		return steps
	}
	add(Step{Verb: model.Prove, A: 2, D: 1}, accept)
	if r.IntN(3) == 0 {
		return steps
	}
	add(Step{Verb: model.Pass, For: time.Second}, Step{Verb: model.Undo, D: r.IntN(2)},
		Step{Verb: model.Pass, For: time.Second})
	for range r.IntN(3) { // their addresses are proven anew
		add(deliver, deliver, deliver, link, accept)
	}
	return steps
}

// latest chooses the last of what there is.
const latest = -1

func one(r *rand.Rand) Step {
	total := 0
	for _, v := range verbs {
		total += v.weight
	}
	at := r.IntN(total)
	s := Step{A: r.IntN(60), B: r.IntN(60), C: r.IntN(60), D: r.IntN(840), End: model.Commit, Fate: model.Takes}
	for _, v := range verbs {
		if at -= v.weight; at < 0 {
			s.Verb = v.verb
			break
		}
	}
	switch r.IntN(24) {
	case 0, 1, 2:
		s.End = model.Rollback
	case 3, 4, 5:
		s.End = model.Panic
	case 6:
		s.Fate = model.Loses
	case 7:
		s.Fate = model.Rejects
	case 8:
		s.Fate = model.Later
	}
	if s.Verb == model.Pass || s.Verb == model.Move {
		s.For = span(r)
	}
	return s
}
