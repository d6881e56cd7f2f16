package main

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode/internal/config"
	"github.com/illumicode/illumicode/internal/core/rehearsal"
	"github.com/illumicode/illumicode/internal/figure"
)

func (a *app) rehearse() *cobra.Command {
	var plots []string
	cmd := &cobra.Command{
		Use:   "rehearse FILE",
		Short: "Play a scenario in virtual time: who waits how long, what is refused, what is left, what it costs",
		Args:  oneArg("a scenario, such as demo/storm.toml"),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := config.LoadScenario(args[0])
			if err != nil {
				return err
			}
			began := time.Now()
			r, err := rehearsal.Run(s, func(time.Duration) bool { return cmd.Context().Err() == nil })
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			if cmd.Context().Err() != nil {
				return errors.New("stopped before its end")
			}
			took := time.Since(began)
			for _, file := range plots {
				if err := figure.Write(r, file); err != nil {
					return err
				}
			}
			return a.print(rehearsalJSON(r), func() { a.rehearsalText(r, took) })
		},
	}
	cmd.Flags().StringArrayVar(&plots, "plot", nil,
		"draw the figures over time to this file, .png or .svg; may be given more than once")
	return cmd
}

func (a *app) rehearsalText(r rehearsal.Result, took time.Duration) {
	a.line("%s: %v from %s, played in %s; %d deliveries.", r.Scenario.Name, r.Scenario.For,
		r.Scenario.Start.UTC().Format("2006-01-02 15:04"), took.Round(time.Millisecond), r.Ended)
	w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
	a.line("")
	fmt.Fprintln(w, "PEOPLE\tASKED\tREFUSED\tLETTERS\tGOT ONE\tGAVE UP\tMEDIAN WAIT\t1 IN 100\tLONGEST")
	for _, p := range r.People {
		fmt.Fprintf(w, "%s\t%d\t%d\t%d\t%d\t%d\t%s\t%s\t%s\n", p.Name, p.Asked, p.Refused, p.Letters, p.Got, p.GaveUp,
			brief(p.Wait.At(.5)), brief(p.Wait.At(.99)), brief(p.Wait.Most()))
	}
	w.Flush()
	a.line("")
	fmt.Fprintln(w, "LANE\tENQUEUED\tSENT\tFAILED\tEXPIRED\tLEFT\tMEDIAN WAIT\t1 IN 100\tLONGEST")
	for lane, l := range r.Lanes {
		fmt.Fprintf(w, "%s\t%d\t%d\t%d\t%d\t%d\t%s\t%s\t%s\n", rehearsal.LaneNames[lane], l.Enqueued, l.Sent, l.Failed,
			l.Expired, l.Enqueued-l.Sent-l.Failed-l.Expired, brief(l.Wait.At(.5)), brief(l.Wait.At(.99)),
			brief(l.Wait.Most()))
	}
	w.Flush()
	a.line("")
	fmt.Fprintln(w, "PROVIDER\tLETTERS\tFAILED\tCOST\tLEFT OF ITS QUOTAS")
	for _, p := range r.Providers {
		left := "no quota"
		if p.Left >= 0 {
			left = fmt.Sprint(p.Left)
		}
		fmt.Fprintf(w, "%s\t%d\t%d\t%.2f\t%s\n", p.Name, p.Letters, p.Failed, p.Cost, left)
	}
	fmt.Fprintf(w, "together\t\t\t%.2f\t\n", r.Cost)
	w.Flush()
	if len(r.Refusals)+len(r.Noted) > 0 {
		a.line("")
		fmt.Fprintln(w, "REFUSED BY\tREQUESTS")
		for _, rule := range slices.SortedFunc(maps.Keys(r.Refusals),
			func(x, y string) int { return r.Refusals[y] - r.Refusals[x] }) {
			fmt.Fprintf(w, "%s\t%d\n", rule, r.Refusals[rule])
		}
		for _, rule := range slices.Sorted(maps.Keys(r.Noted)) {
			fmt.Fprintf(w, "%s (only observes)\t%d\n", rule, r.Noted[rule])
		}
		w.Flush()
	}
	if r.Last > 0 {
		a.line("\nThe last notice was sent %s after the start.", brief(r.Last))
	}
	if r.Left > 0 {
		a.line("\n%d letters were still on their way at the end.", r.Left)
	}
}

// brief writes a duration to three figures.
func brief(d time.Duration) string {
	switch {
	case d == 0:
		return "-"
	case d < time.Second:
		return fmt.Sprintf("%.3g ms", float64(d)/float64(time.Millisecond))
	case d < time.Minute:
		return fmt.Sprintf("%.3g s", d.Seconds())
	}
	d = d.Round(time.Second)
	if d%time.Minute == 0 {
		return strings.TrimSuffix(d.String(), "0s")
	}
	return d.String()
}

func rehearsalJSON(r rehearsal.Result) map[string]any {
	people := make([]map[string]any, len(r.People))
	for i, p := range r.People {
		people[i] = map[string]any{"name": p.Name, "asked": p.Asked, "refused": p.Refused, "letters": p.Letters,
			"got": p.Got, "gave_up": p.GaveUp, "wait": timesJSON(p.Wait)}
	}
	byLane := make(map[string]any)
	for lane, l := range r.Lanes {
		byLane[rehearsal.LaneNames[lane]] = map[string]any{"enqueued": l.Enqueued, "sent": l.Sent, "failed": l.Failed,
			"expired": l.Expired, "wait": timesJSON(l.Wait)}
	}
	providers := make([]map[string]any, len(r.Providers))
	for i, p := range r.Providers {
		providers[i] = map[string]any{"name": p.Name, "letters": p.Letters, "failed": p.Failed, "cost": p.Cost}
		if p.Left >= 0 {
			providers[i]["left"] = p.Left
		}
	}
	samples := make([]map[string]any, len(r.Samples))
	for i, s := range r.Samples {
		oldest, waiting := make(map[string]float64), make(map[string]int)
		for lane, name := range rehearsal.LaneNames {
			oldest[name], waiting[name] = s.Oldest[lane].Seconds(), s.Waiting[lane]
		}
		samples[i] = map[string]any{"at_s": s.At.Seconds(), "oldest_s": oldest, "waiting": waiting, "left": s.Left,
			"sent": s.Sent, "refusals": s.Refusals, "cost": s.Cost, "wait_s": s.Wait.Seconds()}
	}
	return map[string]any{"scenario": r.Scenario.Name, "deliveries": r.Ended, "left": r.Left, "cost": r.Cost,
		"last_notice_s": r.Last.Seconds(), "people": people, "lanes": byLane,
		"providers": providers, "refusals": r.Refusals, "noted": r.Noted, "samples": samples}
}

func timesJSON(t rehearsal.Times) map[string]float64 {
	return map[string]float64{"median_s": t.At(.5).Seconds(), "p99_s": t.At(.99).Seconds(),
		"longest_s": t.Most().Seconds()}
}
