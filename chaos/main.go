// Chaos breaks things on purpose and counts: workers are killed, the database is stopped, cut off
// and filled up, the mail server hangs and cuts connections, all while letters are delivered by
// real processes. No letter may be lost, and no more may arrive twice than were in flight.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/illumicode/illumicode/internal/pgtest"
)

func main() {
	if os.Getenv(workerEnv) != "" {
		os.Exit(work())
	}
	letters := flag.Int("letters", 50_000, "how many letters each scenario delivers")
	faults := flag.Int("faults", 100, "how many faults each scenario with countable faults has")
	only := flag.String("only", "", "play only the scenarios with this word in their name")
	flag.Parse()
	program, err := os.Executable()
	if err != nil {
		fmt.Fprintln(os.Stderr, "chaos:", err)
		os.Exit(1)
	}
	ctx, stop := context.WithTimeout(context.Background(), 2*time.Hour)
	defer stop()
	reports, err := playAll(ctx, program, *only, size{*letters, *faults},
		func(r report) { fmt.Fprintf(os.Stderr, "%s, %s: %v\n", r.name, r.database, r.took.Round(time.Second)) })
	w := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w,
		"SCENARIO\tDATABASE\tLETTERS\tFAULTS\tLOST\tARRIVED TWICE\tREPEATS COUNTED\tIN FLIGHT AT MOST\t"+
			"RESUMED AFTER\tTIME")
	for _, r := range reports {
		bound := "-"
		resumed := "-"
		if r.resumed > 0 {
			resumed = fmt.Sprintf("%.1f s", r.resumed.Seconds())
		}
		if r.bound > 0 {
			bound = fmt.Sprint(r.bound)
		}
		fmt.Fprintf(w, "%s\t%s\t%d\t%d\t%d\t%d\t%d\t%s\t%s\t%v\n", r.name, r.database, r.letters, r.faults, r.lost(),
			r.extra, r.repeats, bound, resumed, r.took.Round(time.Second))
	}
	w.Flush()
	if err != nil {
		fmt.Fprintln(os.Stderr, "chaos:", err)
		os.Exit(1)
	}
}

// playAll plays every scenario whose name contains only, on every database that it is for, with
// workers that are processes of program.
func playAll(ctx context.Context, program, only string, z size, played func(report)) ([]report, error) {
	var all []report
	for _, sc := range slices.Concat(scenarios, operations, failovers, behindBouncers) {
		for _, database := range []string{onSQLite, onPostgres} {
			if sc.database != "" && sc.database != database || !strings.Contains(sc.name, only) {
				continue
			}
			r, err := play(ctx, program, sc, database, z)
			if errors.Is(err, pgtest.ErrNoNamespace) { // it counts as not played
				fmt.Fprintf(os.Stderr, "%s, %s: NOT PLAYED: %v\n", sc.name, database, err)
				continue
			}
			if err == nil {
				err = r.check()
			}
			if err != nil {
				return all, fmt.Errorf("%s, %s: %w", sc.name, database, err)
			}
			all = append(all, r)
			played(r)
		}
	}
	return all, nil
}
