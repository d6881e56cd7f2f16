// Package history makes up histories, plays them on the model and on the real service, and shrinks what fails to a
// story that a person can read. [Play] is the function to read first.
package history

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/illumicode/illumicode/explore/model"
	"github.com/illumicode/illumicode/explore/world"
)

// A History is steps, one after another, and how it ends: with calls at once, or with one that something breaks.
type History struct {
	Steps []Step       `json:",omitempty"`
	Calls []Step       `json:",omitempty"` // at once, after the steps; with a fault the one that it happens to
	Order []int        `json:",omitempty"` // who goes on at each turn, among those that wait; 0 after its end
	Fault *world.Fault `json:",omitempty"`
}

// A Step is a step as it was made up. Its numbers choose among what there is when it is played, so that it means
// something even where other steps were taken out before it.
type Step struct {
	Verb model.Verb
	A    int           `json:",omitempty"`
	B    int           `json:",omitempty"`
	C    int           `json:",omitempty"`
	D    int           `json:",omitempty"`
	End  model.End     `json:",omitempty"`
	Fate model.Fate    `json:",omitempty"`
	For  time.Duration `json:",omitempty"`
}

// A Failure is where the service did something else than the model.
type Failure struct {
	Seed    uint64
	History History // up to where it failed
	Told    []string
	Why     string
}

// Error tells the story.
func (f *Failure) Error() string {
	return strings.Join(f.Told, "\n") + "\n" + f.Why
}

// hangs is how long one step may take.
const hangs = 30 * time.Second

// A player plays one history.
type player struct {
	w    *world.World
	m    *model.Model
	h    History
	told []string
	tell func(line string)
}

// Play plays a history on a world that is emptied first, tells each line of it, and returns the model at its end. A
// failure is returned as a [*Failure].
func Play(ctx context.Context, w *world.World, h History, tell func(line string)) (*model.Model, error) {
	p := &player{w: w, m: model.New(), h: h, tell: tell}
	err := w.Empty(ctx)
	for i := 0; i < len(h.Steps) && err == nil; i++ {
		if err = p.step(ctx, h.Steps[i]); err != nil {
			p.h = History{Steps: h.Steps[:i+1]}
		}
	}
	switch {
	case err != nil:
	case h.Fault != nil:
		err = p.breaks(ctx)
	case len(h.Calls) > 0:
		err = p.together(ctx)
	}
	if err == nil {
		err = p.secrets(ctx)
	}
	if f, ok := err.(*Failure); ok {
		f.History = p.h
	}
	return p.m, err
}

func (p *player) say(format string, args ...any) {
	p.told = append(p.told, fmt.Sprintf(format, args...))
	p.tell(p.told[len(p.told)-1])
}

func (p *player) fail(why string) error { return &Failure{Told: p.told, Why: why} }

// step does one step on both sides, and compares what was told and what is there.
func (p *player) step(ctx context.Context, s Step) error {
	c, ok := resolve(p.m, s)
	if !ok {
		return nil
	}
	got, err := do(ctx, p.w, &c)
	if err != nil {
		return p.fail(err.Error())
	}
	at := p.m.Now
	want := p.m.Do(c)
	p.say("%10v  %s: %s", at, Say(c), got)
	if got != want {
		return p.fail("the model says: " + want)
	}
	state, err := p.w.State(ctx)
	if err != nil {
		return err
	}
	if diff := differ(p.m.State(), state); diff != "" {
		return p.fail(diff)
	}
	if bad := p.w.Errors(); bad != "" {
		return p.fail("the service logs: " + bad)
	}
	return nil
}

// secrets fails where a secret stands in the database.
func (p *player) secrets(ctx context.Context) error {
	found, err := p.w.Secrets(ctx)
	if err == nil && found != "" {
		err = p.fail("at rest: " + found)
	}
	return err
}

// do does a call on the service. One that hangs, or panics, has failed, whether it heeds its context or not.
func do(ctx context.Context, w *world.World, c *model.Call) (answer string, err error) {
	ctx, cancel := context.WithTimeout(ctx, hangs)
	defer cancel()
	done := make(chan string, 1)
	go func() { done <- w.Alone(ctx, c) }()
	select {
	case answer = <-done:
	case <-time.After(hangs + time.Second):
	}
	if ctx.Err() != nil {
		return "", fmt.Errorf("%s: it hangs", Say(*c))
	}
	return answer, nil
}

// differ returns in which lines two states differ, "" for none.
func differ(want, got []string) string {
	var out []string
	left := slices.Clone(got)
	for _, line := range want {
		if at := slices.Index(left, line); at >= 0 {
			left = slices.Delete(left, at, at+1)
		} else {
			out = append(out, "    the model has: "+line)
		}
	}
	for _, line := range left {
		out = append(out, "  the service has: "+line)
	}
	return strings.Join(out, "\n")
}
