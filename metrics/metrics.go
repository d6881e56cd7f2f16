// Package metrics shows what workers do to Prometheus, and whether a process is healthy. [New] makes
// an observer for illumicode.Config and a handler for the figures.
//
// A worker counts what waits every fifteen seconds. A scrape reads memory, and costs nothing however much waits.
package metrics

import (
	"context"
	"fmt"
	"math"
	"net/http"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/internal/flow"
)

// A Metrics is a [delivery.Observer] and the figures it keeps. It is safe for concurrent use.
type Metrics struct {
	registry *prometheus.Registry
	attempts *prometheus.HistogramVec
	ended    *prometheus.CounterVec
	claimed  *prometheus.CounterVec
	woken    prometheus.Counter
	judged   *prometheus.CounterVec
	back     *prometheus.CounterVec
	waiting  *prometheus.GaugeVec
	oldest   *prometheus.GaugeVec
	sampled  prometheus.Gauge
	nobody   prometheus.Gauge
	behind   prometheus.Gauge

	mu   sync.Mutex // held while a sample is shown; guards told
	told time.Time  // when the log was last told that nobody works
}

var _ delivery.Observer = (*Metrics)(nil)

// New returns metrics in a registry of their own.
func New() *Metrics {
	m := &Metrics{
		registry: prometheus.NewRegistry(),
		attempts: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "illumicode_attempt_seconds",
			Help:    "How long attempts took, by lane, provider and what the answer meant.",
			Buckets: []float64{.005, .01, .025, .05, .1, .25, .5, 1, 2.5, 5, 10, 30, 60, 300, 600}},
			[]string{"lane", "provider", "class"}),
		ended: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "illumicode_ended_total",
			Help: "Deliveries that ended in this process, by lane and state."}, []string{"lane", "state"}),
		claimed: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "illumicode_claimed_total",
			Help: "Deliveries that this process claimed, by lane."}, []string{"lane"}),
		woken: prometheus.NewCounter(prometheus.CounterOpts{Name: "illumicode_wakeups_total",
			Help: "How often a worker looked because it was woken, and not for its poll."}),
		judged: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "illumicode_limit_total",
			Help: "Requests judged by limits in this process: admitted, refused by a rule, or noted by one that " +
				"only observes."}, []string{"rule", "verdict"}),
		back: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "illumicode_feedback_total",
			Help: "What came back about letters and was applied in this process, by who told it and what it was."},
			[]string{"source", "kind"}),
		waiting: prometheus.NewGaugeVec(prometheus.GaugeOpts{Name: "illumicode_deliveries",
			Help: "Deliveries on their way, by lane and state, as of the last sample."}, []string{"lane", "state"}),
		oldest: prometheus.NewGaugeVec(prometheus.GaugeOpts{Name: "illumicode_oldest_due_seconds",
			Help: "How long the oldest waiting delivery has been due, by lane, as of the last sample; 0 if none is."},
			[]string{"lane"}),
		sampled: prometheus.NewGauge(prometheus.GaugeOpts{Name: "illumicode_sampled_timestamp_seconds",
			Help: "When what is on its way was last counted, in Unix time."}),
		behind: prometheus.NewGauge(prometheus.GaugeOpts{Name: "illumicode_sweep_lag_seconds",
			Help: "For how long something has been kept that should have been removed, as the oldest rows tell; 0 if " +
				"there is nothing, NaN if nobody knows."}),
		nobody: prometheus.NewGauge(prometheus.GaugeOpts{Name: "illumicode_nobody_works",
			Help: "1 if letters, lists or events wait and no worker was seen for a minute; NaN if nobody knows."}),
	}
	m.registry.MustRegister(m.attempts, m.ended, m.claimed, m.woken, m.judged, m.back, m.waiting, m.oldest, m.sampled,
		m.nobody, m.behind)
	return m
}

// Registry returns the registry, to be gathered with others.
func (m *Metrics) Registry() *prometheus.Registry { return m.registry }

// Observe implements [delivery.Observer].
func (m *Metrics) Observe(o delivery.Observation) {
	switch o.What {
	case "attempted":
		m.attempts.WithLabelValues(string(o.Lane), o.Provider, string(o.Class)).Observe(o.Took.Seconds())
	case "ended":
		m.ended.WithLabelValues(string(o.Lane), o.State).Inc()
	case "claimed":
		m.claimed.WithLabelValues(string(o.Lane)).Add(float64(o.N))
	case "woken":
		m.woken.Inc()
	case "admitted", "refused", "noted":
		m.judged.WithLabelValues(o.Rule, o.What).Inc()
	case "came back":
		m.back.WithLabelValues(o.Source, o.Kind).Inc()
	case "sampled":
		m.show(o)
	}
}

// show puts a sample in place of the one before.
func (m *Metrics) show(s delivery.Observation) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.waiting.Reset()
	for _, lane := range []delivery.Lane{delivery.Urgent, delivery.Normal, delivery.Bulk} {
		m.oldest.WithLabelValues(string(lane)).Set(0)
		for _, state := range []string{"held", "waiting", "claimed"} {
			m.waiting.WithLabelValues(string(lane), state).Set(0)
		}
	}
	for _, l := range s.Loads {
		m.waiting.WithLabelValues(string(l.Lane), l.State).Set(float64(l.Count))
		if l.State == "waiting" && s.At.After(l.Oldest) {
			m.oldest.WithLabelValues(string(l.Lane)).Set(s.At.Sub(l.Oldest).Seconds())
		}
	}
	m.sampled.Set(float64(s.At.UnixMilli()) / 1000)
}

const nobodyWorks = "NOBODY WORKS: letters, lists or events wait and no worker was seen for a minute"

// look asks the database, for at most 3 s, whether nobody works, and keeps and logs what it says.
func (m *Metrics) look(ctx context.Context, p *flow.Parts) (nobody bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	nobody, err = p.Store.NobodyWorks(ctx, p.Now())
	m.mu.Lock()
	defer m.mu.Unlock()
	switch {
	case err != nil:
		m.nobody.Set(math.NaN()) // not known
		return false, err
	case nobody:
		m.nobody.Set(1)
	default:
		m.nobody.Set(0)
	}
	if nobody && time.Since(m.told) >= time.Minute {
		m.told = time.Now()
		p.Log.Warn(nobodyWorks + "; run `illumicode deliver`, or svc.Run in your application")
	}
	return nobody, nil
}

// lag asks the database, for at most 3 s, how far removing what is old is behind.
func (m *Metrics) lag(ctx context.Context, p *flow.Parts) {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	behind, err := p.Outbox.Behind(ctx)
	if err != nil {
		p.Log.Error("how far removing what is old is behind cannot be told", "error", err)
		m.behind.Set(math.NaN())
		return
	}
	m.behind.Set(behind.Seconds())
}

// Handler serves /metrics, /healthz, which says that the process lives, and /readyz, which says whether it does its
// job: that the database answers within 3 s and, where a worker runs in it, that the worker has looked for letters
// within three polls and those 3 s; else it answers 503. That letters, lists or events wait and no worker was seen for
// a minute is told by all, and makes only workers unready. It is for a listener that the public cannot reach.
func (m *Metrics) Handler(svc *illumicode.Service) http.Handler {
	p := flow.Of(svc)
	mux := http.NewServeMux()
	figures := promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{})
	mux.HandleFunc("GET /metrics", func(w http.ResponseWriter, r *http.Request) {
		if _, err := m.look(r.Context(), p); err != nil {
			p.Log.Error("whether somebody works cannot be told", "error", err)
		}
		m.lag(r.Context(), p)
		figures.ServeHTTP(w, r)
	})
	mux.HandleFunc("GET /healthz", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, "ok") })
	mux.HandleFunc("GET /readyz", func(w http.ResponseWriter, r *http.Request) {
		nobody, err := m.look(r.Context(), p)
		stuck := p.Outbox.Stuck()
		switch {
		case err != nil:
			p.Log.Error("not ready: the database does not answer", "error", err)
			w.WriteHeader(http.StatusServiceUnavailable)
			fmt.Fprintln(w, "the database does not answer; the log has why")
		case stuck != "":
			w.WriteHeader(http.StatusServiceUnavailable)
			fmt.Fprintln(w, stuck)
		case nobody && p.Outbox.Works():
			w.WriteHeader(http.StatusServiceUnavailable)
			fmt.Fprintln(w, nobodyWorks)
		case nobody:
			fmt.Fprintln(w, "ok, but "+nobodyWorks)
		default:
			fmt.Fprintln(w, "ok")
		}
	})
	return mux
}
