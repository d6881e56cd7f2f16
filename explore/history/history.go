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
	Seed  uint64
	Steps []Step // up to where it failed
	Block *Block // of calls at once; nil for none
	Break *Break // of a call that broke; nil for none
	Told  []string
	Why   string
}

// Error tells the story.
func (f *Failure) Error() string {
	return strings.Join(f.Told, "\n") + "\n" + f.Why
}

// hangs is how long one step may take.
const hangs = 30 * time.Second

// Play plays a history on a world that is emptied first, and returns the model at its end. A failure is returned as a
// [*Failure], with the steps up to it.
func Play(ctx context.Context, w *world.World, steps []Step) (*model.Model, error) {
	return play(ctx, w, steps, func(string) {})
}

func play(ctx context.Context, w *world.World, steps []Step, tell func(line string)) (*model.Model, error) {
	if err := w.Empty(ctx); err != nil {
		return nil, err
	}
	m := model.New()
	var told []string
	fail := func(n int, why string) error { return &Failure{Steps: steps[:n], Told: told, Why: why} }
	for i, s := range steps {
		c, ok := resolve(m, s)
		if !ok {
			continue
		}
		got, err := do(ctx, w, &c)
		if err != nil {
			return m, fail(i+1, err.Error())
		}
		at := m.Now
		want := m.Do(c)
		told = append(told, fmt.Sprintf("%10v  %s: %s", at, Say(c), got))
		tell(told[len(told)-1])
		if got != want {
			return m, fail(i+1, "the model says: "+want)
		}
		state, err := w.State(ctx)
		if err != nil {
			return m, err
		}
		if diff := differ(m.State(), state); diff != "" {
			return m, fail(i+1, diff)
		}
		if bad := w.Errors(); bad != "" {
			return m, fail(i+1, "the service logs: "+bad)
		}
	}
	if found, err := w.Secrets(ctx); err != nil || found != "" {
		return m, fail(len(steps), "at rest: "+found)
	}
	return m, nil
}

// do does a call on the service. One that hangs, or panics, has failed, whether it heeds its context or not.
func do(ctx context.Context, w *world.World, c *model.Call) (answer string, err error) {
	ctx, cancel := context.WithTimeout(ctx, hangs)
	defer cancel()
	done := make(chan error, 1)
	go func() {
		defer func() {
			if p := recover(); p != nil {
				done <- fmt.Errorf("%s: a panic: %v", Say(*c), p)
			}
		}()
		answer = w.Do(ctx, c)
		done <- ctx.Err()
	}()
	select {
	case err = <-done:
	case <-time.After(hangs + time.Second):
		return "", fmt.Errorf("%s: it hangs", Say(*c))
	}
	if err != nil && ctx.Err() != nil {
		err = fmt.Errorf("%s: it hangs", Say(*c))
	}
	return answer, err
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
