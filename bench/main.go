// Bench measures Illumicode against floors that nothing could go below, in the same run on the
// same machine, and prints the ratios: nanoseconds do not travel between machines, ratios do.
package main

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"runtime"
	"runtime/pprof"
	"slices"
	"strings"
	"text/tabwriter"
	"time"
)

// A figure is one row: a ratio against a floor that was measured in the same run.
type figure struct {
	what  string
	floor string
	ratio float64
	goal  float64 // at most; at least, if it is negative; 0 for none
	note  string
}

// A group is rows that are measured together.
type group struct {
	name    string
	takes   time.Duration // a whole run of it, on two processors
	measure func(scale int) ([]figure, error)
}

var groups = []group{
	{"token", 30 * time.Second, tokenFigures}, {"letter", 10 * time.Second, letterFigures},
	{"signup", time.Minute, signupFigures}, {"smtp", 10 * time.Second, smtpFigures},
	{"distance", 4 * time.Minute, distanceFigures},
	{"notify", 2 * time.Minute, notifyFigures}, {"delivery", 10 * time.Minute, deliveryFigures},
	{"limits", 12 * time.Minute, limitFigures}, {"rehearsal", time.Minute, rehearsalFigures},
	{"latency", 2 * time.Minute, latencyFigures}, {"timing", 8 * time.Minute, timingFigures},
	{"pages", 10 * time.Second, pageFigures},
	{"claim", 8 * time.Minute, claimFigures}, {"deadlines", 30 * time.Second, deadlineFigures},
	{"memory", 12 * time.Minute, memoryFigures},
	{"event", 3 * time.Minute, eventFigures}, {"vacuum", 4 * time.Minute, vacuumFigures}, {"forget", 10 * time.Minute,
		forgetFigures},
	{"recall", time.Minute, recallFigures}, {"sweep", 20 * time.Minute, sweepFigures},
}

// rows is what a row must have in its name to be measured and printed.
var rows string

// wanted reports whether rows of this name are.
func wanted(what string) bool { return strings.Contains(what, rows) }

// databases are those that a row is wanted of.
func databases() []string {
	for _, one := range []string{onSQLite, onPostgres} {
		if strings.Contains(rows, one) {
			return []string{one}
		}
	}
	return []string{onSQLite, onPostgres}
}

func main() {
	var names []string
	for _, g := range groups {
		names = append(names, g.name)
	}
	short := flag.Bool("short", false, "a tenth of the work: to see that it runs, not to quote")
	only := flag.String("only", "", "one group of figures: "+strings.Join(names, ", "))
	flag.StringVar(&rows, "rows", "", "only rows with this in their name, such as PostgreSQL")
	profile := flag.String("profile", "", "write a CPU profile of the run to this file")
	plotFile := flag.String("plot", "", "draw what claims cost into this file, such as docs/claims.svg")
	flag.Parse()
	if err := run(*only, *profile, *plotFile, *short); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run(only, profile, plotFile string, short bool) error {
	all := slices.DeleteFunc(slices.Clone(groups), func(g group) bool { return only != "" && only != g.name })
	switch {
	case len(all) == 0:
		return fmt.Errorf("no group is named %q", only)
	case plotFile != "" && only != "" && only != "claim":
		return fmt.Errorf(
			"-plot draws what claims cost, and -only %s does not measure it; leave -only out, or say claim", only)
	}
	if profile != "" {
		f, err := os.Create(profile)
		if err == nil {
			err = pprof.StartCPUProfile(f)
		}
		if err != nil {
			return err
		}
		defer f.Close()
		defer pprof.StopCPUProfile()
	}
	if err := errors.Join(measure(all, short), stopServer()); err != nil {
		return err
	}
	if plotFile != "" {
		return draw(points, plotFile)
	}
	return nil
}

// measure runs groups, and prints the rows of each when it is done.
func measure(all []group, short bool) error {
	scale, takes := 10, time.Duration(0)
	if short {
		scale = 1
	}
	for _, g := range all {
		takes += g.takes * time.Duration(scale) / 10
	}
	fmt.Printf("%s, %d processors. Each ratio is a median of rounds that took turns with the floor. It takes "+
		"some %v.\n",
		runtime.Version(), runtime.NumCPU(), takes.Round(time.Second))
	for _, g := range all {
		start := time.Now()
		figures, err := g.measure(scale)
		if err != nil {
			return fmt.Errorf("%s: %w", g.name, err)
		}
		fmt.Printf("\n%s, in %v\n", g.name, time.Since(start).Round(time.Second))
		print(slices.DeleteFunc(figures, func(f figure) bool { return !wanted(f.what) }))
	}
	return nil
}

func print(figures []figure) {
	w := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "WHAT\tFLOOR\tRATIO\tGOAL\t\tNOTE")
	for _, f := range figures {
		goal, verdict := "reported", ""
		switch {
		case f.goal > 0:
			goal, verdict = fmt.Sprintf("≤ %.2f", f.goal), "met"
		case f.goal < 0:
			goal, verdict = fmt.Sprintf("≥ %.2f", -f.goal), "met"
		}
		if f.goal > 0 && f.ratio > f.goal || f.goal < 0 && f.ratio < -f.goal {
			verdict = "MISSED"
		}
		fmt.Fprintf(w, "%s\t%s\t%.2f\t%s\t%s\t%s\n", f.what, f.floor, f.ratio, goal, verdict, f.note)
	}
	w.Flush()
}

// repeated returns a function that calls another n times.
func repeated(n int, fn func() error) func() error {
	return func() error {
		for range n {
			if err := fn(); err != nil {
				return err
			}
		}
		return nil
	}
}

// inTurns runs each of the functions once a round, rounds times after one round to warm up, and
// returns the times of each, sorted.
func inTurns(rounds int, fns ...func() error) ([][]time.Duration, error) {
	times := make([][]time.Duration, len(fns))
	for round := range rounds + 1 {
		for i, fn := range fns {
			start := time.Now()
			if err := fn(); err != nil {
				return nil, err
			}
			if round > 0 {
				times[i] = append(times[i], time.Since(start))
			}
		}
	}
	return times, nil
}

// medianRatio returns the median of a's times over b's, pair by pair.
func medianRatio(a, b []time.Duration) float64 {
	ratios := make([]float64, len(a))
	for i := range a {
		ratios[i] = float64(a[i]) / float64(b[i])
	}
	slices.Sort(ratios)
	return ratios[len(ratios)/2]
}

func median(d []time.Duration) time.Duration {
	d = slices.Sorted(slices.Values(d))
	return d[len(d)/2]
}
