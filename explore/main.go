// Explore makes up histories of people, strangers, operators, workers and providers, and plays each on a model of what
// the documentation promises and on the real service. Where the two differ it prints the shortest story that shows it,
// and exits with 1.
//
// "go run ./explore -for 30s" explores from a fresh seed, which it prints. "-seed 7 -story" tells one history step by
// step. "-planted" plants faults in the service, and says which are found.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/signal"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/illumicode/illumicode/explore/history"
	"github.com/illumicode/illumicode/explore/planted"
	"github.com/illumicode/illumicode/explore/world"
)

// version says which histories a seed stands for: another version makes up others.
const version = 3

type flags struct {
	seed    string
	kind    string
	on      string
	story   bool
	lasts   time.Duration
	most    int
	state   string
	planted bool
	fault   string
}

func main() {
	var f flags
	flag.StringVar(&f.seed, "seed", "", "where to begin, as it was printed; empty for a fresh one")
	flag.StringVar(&f.kind, "kind", string(history.Sequential),
		"how histories are played: sequential, interleaved or faulty")
	flag.StringVar(&f.on, "on", string(world.SQLite), "what they are played on: sqlite or postgres")
	flag.BoolVar(&f.story, "story", false, "tell the one history of the seed")
	flag.DurationVar(&f.lasts, "for", 0, "how long to explore")
	flag.IntVar(&f.most, "histories", 0, "how many histories to play; 0 for no bound but -for")
	flag.StringVar(&f.state, "continue", "", "a file that keeps how far a long run has come, and goes on from there")
	flag.BoolVar(&f.planted, "planted", false, "look for faults that are planted in the service, one after another")
	flag.StringVar(&f.fault, "fault", "", "of these only those with this in their name")
	flag.Parse()
	debug.SetGCPercent(400) // little is kept, and much is made
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := run(ctx, f); err != nil {
		if story, ok := errors.AsType[*history.Failure](err); ok {
			fmt.Printf("%v\n\nAs a line of the corpus:\n%s\n", story, story.Row())
		} else {
			fmt.Fprintln(os.Stderr, "explore:", err)
		}
		os.Exit(1)
	}
}

func run(ctx context.Context, f flags) error {
	seed, err := parse(f.seed)
	kinds := []history.Kind{history.Sequential, history.Interleaved, history.Faulty}
	switch {
	case err != nil:
		return err
	case !slices.Contains(kinds, history.Kind(f.kind)):
		return fmt.Errorf("there is no kind %q of playing histories, but %v", f.kind, kinds)
	case f.planted:
		return planted.Run(ctx, f.fault, f.limit())
	case f.story:
		return history.Tell(ctx, history.Run{Kind: history.Kind(f.kind), On: world.Database(f.on), Seed: seed},
			os.Stdout)
	case f.lasts == 0 && f.most == 0:
		return errors.New("say how long (-for 30s), how many (-histories 1000), or which history to tell " +
			"(-seed N -story)")
	}
	return explore(ctx, seed, f)
}

// parse returns the number of a seed: "1-" and a number, with the version of those who made it.
func parse(seed string) (uint64, error) {
	if seed == "" {
		return rand.Uint64() >> 16, nil
	}
	of, n, found := strings.Cut(seed, "-")
	if !found {
		of, n = strconv.Itoa(version), seed
	}
	if of != strconv.Itoa(version) {
		return 0, fmt.Errorf("the seed %s is of version %s, and this makes up the histories of version %d; use the "+
			"revision that printed it", seed, of, version)
	}
	number, err := strconv.ParseUint(n, 10, 64)
	if err != nil {
		return 0, fmt.Errorf("%q is no seed: it is a number, as -for prints it", seed)
	}
	return number, nil
}

// explore plays histories until its time is over, and says what they met.
func explore(ctx context.Context, seed uint64, f flags) error {
	r := history.Run{Kind: history.Kind(f.kind), On: world.Database(f.on), Seed: seed, Most: f.most, For: f.lasts,
		Keep: f.state}
	if err := r.Resume(); err != nil {
		return err
	}
	fmt.Printf("seed %d-%d\n", version, r.Seed)
	got, err := history.Explore(ctx, &r)
	if fails, ok := errors.AsType[*history.Failure](err); ok {
		fmt.Printf("after %d histories, in %v\n\n", got.Histories, got.Took.Round(time.Millisecond))
		fmt.Printf("the history of seed %d-%d fails (go run ./explore -kind %s -seed %d-%d -story):\n\n", version,
			fails.Seed, f.kind, version, fails.Seed)
	}
	if err != nil {
		return err
	}
	fmt.Println(got)
	return nil
}

// limit is how long a planted fault is looked for.
func (f flags) limit() time.Duration {
	if f.lasts > 0 {
		return f.lasts
	}
	return 10 * time.Minute
}
