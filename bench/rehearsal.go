package main

import (
	"fmt"
	"runtime"
	"time"

	"github.com/illumicode/illumicode/internal/config"
	"github.com/illumicode/illumicode/internal/core/rehearsal"
	"github.com/illumicode/illumicode/route"
)

// rehearsalFigures measures how many virtual deliveries a rehearsal plays in a minute on one core: those of
// a storm through three providers with quotas and connections, and of a whole day with people, strangers
// and outages.
func rehearsalFigures(scale int) ([]figure, error) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	latency := rehearsal.Spread{Median: 20 * time.Millisecond, High: 200 * time.Millisecond}
	storm := rehearsal.Scenario{Name: "storm", Start: time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC), For: 6 * time.Hour,
		Providers: []rehearsal.Provider{
			{Name: "harbour", Mail: true, Latency: latency, Fail: 0.01,
				Terms: route.Terms{Caps: route.Caps{PerDay: 50_000_000, AtOnce: 40}}},
			{Name: "pier", Mail: true, Latency: latency, Terms: route.Terms{Caps: route.Caps{PerDay: 2_000}}},
			{Name: "beacon", Mail: true, Latency: latency},
		}, Notices: []rehearsal.Notice{
			{Name: "storm", Lane: rehearsal.Bulk, Count: 300_000 * scale, Domain: "gullquay.example"}}}
	day, err := config.LoadScenario("demo/day.toml")
	if err != nil {
		return nil, err
	}
	var out []figure
	for _, one := range []struct {
		what   string
		s      rehearsal.Scenario
		rounds int
		goal   float64
	}{{"a storm rehearsed, deliveries a minute on one core", storm, 3, -1}, {"a day rehearsed, the same", day, 1, 0}} {
		var took []time.Duration
		ended := 0
		for range one.rounds {
			began := time.Now()
			r, err := rehearsal.Run(one.s, nil)
			if err != nil {
				return nil, err
			}
			took, ended = append(took, time.Since(began)), r.Ended
		}
		perMinute := float64(ended) / median(took).Minutes()
		out = append(out, figure{one.what, "15 million", perMinute / 15e6, one.goal,
			fmt.Sprintf("%.1f million a minute; %d in %v", perMinute/1e6, ended, median(took).Round(time.Millisecond))})
	}
	return out, nil
}
