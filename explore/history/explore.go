package history

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/illumicode/illumicode/explore/world"
)

// A Kind is how histories are played.
type Kind string

// The kinds.
const (
	Sequential  Kind = "sequential"  // one step after another, each compared with the model
	Interleaved Kind = "interleaved" // then some calls at once, whose outcome some order must explain
	Faulty      Kind = "faulty"      // then a call whose connection or process is lost
)

// A Run is histories of many seeds, one after another.
type Run struct {
	Kind Kind
	On   world.Database
	Seed uint64        // of the first
	Most int           // how many; 0 for no bound
	For  time.Duration // how long; 0 for no bound
	Keep string        // a file that keeps how far it has come; empty for none

	Done int // histories that were played before
}

// Resume reads how far a run has come that was interrupted.
func (r *Run) Resume() error {
	if r.Keep == "" {
		return nil
	}
	raw, err := os.ReadFile(r.Keep)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	var was struct {
		Seed uint64
		Done int
	}
	if err == nil {
		err = json.Unmarshal(raw, &was)
	}
	if err != nil {
		return fmt.Errorf("%s does not say how far a run has come: %w; remove it to begin anew", r.Keep, err)
	}
	r.Seed, r.Done = was.Seed, was.Done
	return nil
}

func (r *Run) keep(done int) error {
	if r.Keep == "" {
		return nil
	}
	raw, err := json.Marshal(map[string]any{"Seed": r.Seed, "Done": done})
	if err != nil {
		return err
	}
	return os.WriteFile(r.Keep, raw, 0o600)
}

// A Summary is what a run has come to.
type Summary struct {
	Took time.Duration
	*Coverage
}

// String says it in words.
func (s Summary) String() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%d histories, %d steps, %.0f a second; %d situations, %d of %d pairs of steps\n", s.Histories,
		s.Steps(), float64(s.Steps())/s.Took.Seconds(), len(s.Situations), len(s.Pairs), len(verbs)*len(verbs))
	for _, situation := range slices.Sorted(maps.Keys(s.Situations)) {
		fmt.Fprintf(&b, "%10d  %s\n", s.Situations[situation], strings.TrimSuffix(situation, " "))
	}
	return b.String()
}

// Explore plays the histories of a run, on as many worlds as there are processors, until one fails. The first failure
// is returned, shrunk.
func Explore(ctx context.Context, r *Run) (Summary, error) {
	all := Summary{Coverage: NewCoverage()}
	began := time.Now()
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	if r.For > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, r.For)
		defer cancel()
	}
	e := explorer{run: r, all: &all, next: r.Done}
	var busy sync.WaitGroup
	for range runtime.NumCPU() {
		busy.Go(func() { e.fail(e.play(ctx), stop) })
	}
	busy.Wait()
	all.Took = time.Since(began)
	return all, errors.Join(e.err, r.keep(e.next))
}

// An explorer hands out seeds to several worlds. It is safe for concurrent use.
type explorer struct {
	run *Run

	mu   sync.Mutex // guards what follows
	next int
	all  *Summary
	err  error
}

func (e *explorer) fail(err error, stop func()) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if err != nil && e.err == nil {
		e.err = err
		stop()
	}
}

// take returns the next seed, and what pairs of steps were met until now.
func (e *explorer) take() (seed uint64, ok bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.run.Most > 0 && e.next >= e.run.Most || e.err != nil {
		return 0, false
	}
	e.next++
	if e.next%1000 == 0 {
		e.err = e.run.keep(e.next)
	}
	return e.run.Seed + uint64(e.next-1), true
}

// play plays histories on one world. A history's failure is shrunk even where the time is over.
func (e *explorer) play(ctx context.Context) error {
	always := context.WithoutCancel(ctx)
	w, err := world.Open(always, e.run.On)
	if err != nil {
		return err
	}
	defer w.Close()
	met := NewCoverage()
	defer func() {
		e.mu.Lock()
		defer e.mu.Unlock()
		e.all.Merge(met)
	}()
	for ctx.Err() == nil {
		seed, ok := e.take()
		if !ok {
			break
		}
		h := Make(e.run.Kind, seed)
		m, err := Play(always, w, h, quiet)
		met.Add(m, h)
		if f, ok := errors.AsType[*Failure](err); ok {
			f.Seed = seed
			return Shrink(always, w, f)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Tell plays the history of a seed and tells it step by step, to its end or to where it fails.
func Tell(ctx context.Context, r Run, to io.Writer) error {
	w, err := world.Open(ctx, r.On)
	if err != nil {
		return err
	}
	defer w.Close()
	_, err = Play(ctx, w, Make(r.Kind, r.Seed), func(line string) { fmt.Fprintln(to, line) })
	if f, ok := errors.AsType[*Failure](err); ok {
		fmt.Fprintf(to, "%s\n\nThe shortest story that shows it:\n\n", f.Why)
		return Shrink(ctx, w, f)
	}
	return err
}
