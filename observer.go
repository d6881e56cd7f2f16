package illumicode

import (
	"time"

	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/internal/outbox"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/limit"
	"github.com/illumicode/illumicode/retry"
)

// observing tells an observer what the rooms below report.
type observing struct{ o delivery.Observer }

var _ outbox.Observer = observing{}

func (o observing) Attempted(lane store.Lane, provider string, class retry.Class, took time.Duration) {
	o.o.Observe(delivery.Observation{What: "attempted", Lane: delivery.Lane(lane), Provider: provider, Class: class,
		Took: took})
}

func (o observing) Ended(lane store.Lane, state store.State) {
	o.o.Observe(delivery.Observation{What: "ended", Lane: delivery.Lane(lane), State: string(state)})
}

func (o observing) Claimed(lane store.Lane, n int) {
	o.o.Observe(delivery.Observation{What: "claimed", Lane: delivery.Lane(lane), N: n})
}

func (o observing) Woken() { o.o.Observe(delivery.Observation{What: "woken"}) }

func (o observing) Sampled(loads []store.Load, at time.Time) {
	s := delivery.Observation{What: "sampled", At: at}
	for _, l := range loads {
		s.Loads = append(s.Loads, delivery.Load{Lane: delivery.Lane(l.Lane), State: string(l.State), Count: l.Count,
			Oldest: l.Oldest})
	}
	o.o.Observe(s)
}

// judged tells of a judgement: a rule that observes is noted beside what was answered.
func (o observing) judged(refused, noted *limit.Rule) {
	if noted != nil {
		o.o.Observe(delivery.Observation{What: "noted", Rule: noted.Name})
	}
	if refused != nil {
		o.o.Observe(delivery.Observation{What: "refused", Rule: refused.Name})
	} else {
		o.o.Observe(delivery.Observation{What: "admitted"})
	}
}

func (o observing) cameBack(source, kind string) {
	o.o.Observe(delivery.Observation{What: "came back", Source: source, Kind: kind})
}

// nobody is the observer where none is wanted.
type nobody struct{}

func (nobody) Observe(delivery.Observation) {}
