package metrics_test

import (
	"io"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/metrics"
)

// A worker's figures are those of what it did; a scrape and the probes say so.
func TestFigures(t *testing.T) {
	m := metrics.New()
	k := illumicodetest.New(t, func(c *illumicode.Config) { c.Observer = m })
	for _, to := range []string{"mara@ternisle.example", "jens@ternisle.example"} {
		if _, err := k.Service.Notify(t.Context(),
			illumicode.Notice{Letter: "trial", To: illumicode.Request{Address: to}}); err != nil {
			t.Fatal(err)
		}
		k.Letter(to, 1)
	}
	now := k.Clock.Now()
	at := func(path string) (string, int) {
		w := httptest.NewRecorder()
		m.Handler(k.Service).ServeHTTP(w, httptest.NewRequest("GET", path, nil))
		body, _ := io.ReadAll(w.Body)
		return string(body), w.Code
	}
	want := []string{
		`illumicode_attempt_seconds_count{class="accepted",lane="normal",provider="inbox"} 2`,
		`illumicode_claimed_total{lane="normal"} 2`, `illumicode_ended_total{lane="normal",state="sent"} 2`,
		`illumicode_deliveries{lane="bulk",state="waiting"} 40`, `illumicode_oldest_due_seconds{lane="bulk"} 3`,
		`illumicode_oldest_due_seconds{lane="urgent"} 0`,
	}
	var body string
	for deadline := time.Now().Add(10 * time.Second); time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
		// the worker samples too
		m.Observe(delivery.Observation{
			What: "sampled", At: now,
			Loads: []delivery.Load{
				{Lane: delivery.Bulk, State: "waiting", Count: 40, Oldest: now.Add(-3 * time.Second)}}})
		if body, _ = at("/metrics"); strings.Contains(body, want[2]) { // recorded a moment after it has arrived
			break
		}
	}
	for _, line := range want {
		if !strings.Contains(body, line) {
			t.Errorf("no %s in:\n%s", line, body)
		}
	}
	if body, code := at("/healthz"); code != 200 || body != "ok\n" {
		t.Errorf("healthz: %d %s", code, body)
	}
	if body, code := at("/readyz"); code != 200 || body != "ok\n" {
		t.Errorf("readyz: %d %s", code, body)
	}
	k.Service.Store().DB().Close()
	if body, code := at("/readyz"); code != 503 || !strings.Contains(body, "database") {
		t.Errorf("readyz without a database: %d %s", code, body)
	}
}
