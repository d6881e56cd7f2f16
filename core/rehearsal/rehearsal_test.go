package rehearsal

import (
	"testing"
	"time"

	"github.com/illumicode/illumicode/core/route"
)

var start = time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)

func BenchmarkStorm(b *testing.B) {
	s := Scenario{Name: "bench", Start: start, For: time.Hour, Providers: []Provider{
		{Name: "harbour", Mail: true, Latency: Spread{Median: 20 * time.Millisecond}, Terms: route.Terms{Caps: route.Caps{PerDay: 10_000_000, AtOnce: 40}}},
		{Name: "pier", Mail: true, Latency: Spread{Median: 20 * time.Millisecond}, Terms: route.Terms{Caps: route.Caps{PerDay: 2_000}}},
		{Name: "beacon", Mail: true, Latency: Spread{Median: 20 * time.Millisecond}},
	}, Notices: []Notice{{Name: "storm", Lane: Bulk, Count: 1_000_000, Domain: "gullquay.example"}}}
	for b.Loop() {
		r, err := Run(s, nil)
		if err != nil || r.Lanes[Bulk].Sent != 1_000_000 {
			b.Fatal(err, r.Lanes)
		}
	}
	b.ReportMetric(1e6*float64(b.N)/b.Elapsed().Minutes()/1e6, "M/min")
}
