// Bench measures Illumicode against floors that nothing could go below, in the same run on the
// same machine, and prints the ratios: nanoseconds do not travel between machines, ratios do.
package main

import (
	"flag"
	"fmt"
	"os"
	"runtime"
	"runtime/pprof"
	"slices"
	"text/tabwriter"
	"time"
)

// A figure is one line of the table.
type figure struct {
	what  string
	floor string
	ratio float64
	goal  float64 // at most; at least, if it is negative; 0 for none
	note  string
}

func main() {
	short := flag.Bool("short", false, "a tenth of the work: to see that it runs, not to quote")
	only := flag.String("only",
		"", "one group of figures: token, letter, signup, smtp, notify, delivery, limits, rehearsal, latency, "+
			"claim or memory")
	profile := flag.String("profile", "", "write a CPU profile of the run to this file")
	plotFile := flag.String("plot", "", "draw what claims cost into this file, such as docs/claims.svg")
	flag.Parse()
	if *plotFile != "" && *only != "" && *only != "claim" {
		fmt.Fprintf(os.Stderr,
			"bench: -plot draws what claims cost, and -only %s does not measure it; leave -only out, or say claim\n",
			*only)
		os.Exit(2)
	}
	scale := 10
	if *short {
		scale = 1
	}
	if *profile != "" {
		f, err := os.Create(*profile)
		if err == nil {
			err = pprof.StartCPUProfile(f)
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, "bench:", err)
			os.Exit(1)
		}
		defer f.Close()
		defer pprof.StopCPUProfile()
	}
	var all []figure
	for _, group := range []struct {
		name    string
		measure func(scale int) ([]figure, error)
	}{{"token", tokenFigures}, {"letter", letterFigures}, {"signup", signupFigures}, {"smtp", smtpFigures},
		{"notify", notifyFigures}, {"delivery", deliveryFigures},
		{"limits", limitFigures}, {"rehearsal", rehearsalFigures}, {"latency", latencyFigures}, {"claim", claimFigures},
		{"memory", memoryFigures}} {
		if *only != "" && *only != group.name {
			continue
		}
		figures, err := group.measure(scale)
		if err != nil {
			fmt.Fprintln(os.Stderr, "bench:", err)
			os.Exit(1)
		}
		all = append(all, figures...)
	}
	if err := stopServer(); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
	}
	fmt.Printf("%s, %d processors. Each ratio is a median of rounds that took turns with the floor.\n\n",
		runtime.Version(), runtime.NumCPU())
	w := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "WHAT\tFLOOR\tRATIO\tGOAL\t\tNOTE")
	for _, f := range all {
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
	if *plotFile != "" {
		if err := draw(points, *plotFile); err != nil {
			fmt.Fprintln(os.Stderr, "bench:", err)
			os.Exit(1)
		}
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
