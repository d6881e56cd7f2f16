package rehearsal

import (
	"testing"
	"time"

	"github.com/illumicode/illumicode/route"
)

// BenchmarkStorm plays a storm through three providers.
func BenchmarkStorm(b *testing.B) {
	latency := Spread{Median: 20 * time.Millisecond, High: 200 * time.Millisecond}
	s := Scenario{Start: start, For: 6 * time.Hour, Providers: []Provider{
		{Name: "harbour", Mail: true, Latency: latency, Fail: 0.01,
			Terms: route.Terms{Caps: route.Caps{PerDay: 50_000_000, AtOnce: 40}}},
		{Name: "pier", Mail: true, Latency: latency, Terms: route.Terms{Caps: route.Caps{PerDay: 2_000}}},
		{Name: "beacon", Mail: true, Latency: latency},
	}, Notices: []Notice{{Name: "storm", Lane: Bulk, Count: 200_000, Domain: "gullquay.example"}}}
	for b.Loop() {
		if r, err := Run(s, nil); err != nil || r.Lanes[Bulk].Enqueued != r.Lanes[Bulk].Sent {
			b.Fatal(err, r.Lanes)
		}
	}
	b.ReportMetric(200_000*float64(b.N)/b.Elapsed().Minutes()/1e6, "M/min")
}
