package main

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/provider"
)

// A stopwatch carries letters over another provider, and notes when the first byte of each could
// leave.
type stopwatch struct {
	provider.Provider
	mu    sync.Mutex // guards first
	first map[string]time.Time
}

func (s *stopwatch) Send(ctx context.Context, h provider.Handover) provider.Result {
	begin := h.Begin
	h.Begin = func(ctx context.Context) error {
		err := begin(ctx)
		s.mu.Lock()
		defer s.mu.Unlock()
		s.first[h.ID] = time.Now()
		return err
	}
	return s.Provider.Send(ctx, h)
}

// latencyFigures measures how long an urgent letter takes from its commit to its first byte: with
// nothing else to do, and with a million bulk rows waiting and all connections busy.
func latencyFigures(scale int) ([]figure, error) {
	s, err := newSink()
	if err != nil {
		return nil, err
	}
	var out []figure
	for _, database := range databases() {
		idle, err := urgentLatency(database, s, 0, 30*scale)
		if err != nil {
			return nil, err
		}
		n := 100_000 * scale
		busy, err := urgentLatency(database, s, n, 30*scale)
		if err != nil {
			return nil, err
		}
		p99 := busy[len(busy)*99/100]
		out = append(out,
			figure{fmt.Sprintf("urgent, commit to first byte, %d bulk waiting, %s", n, database), "the same, idle",
				float64(median(busy)) / float64(median(idle)),
				6, fmt.Sprintf("median %v against %v", median(busy), median(idle))},
			figure{"the same, p99", "100 ms", float64(p99) / float64(100*time.Millisecond), 1, fmt.Sprint(p99)})
	}
	return out, nil
}

func urgentLatency(database string, s *sink, bulk, samples int) ([]time.Duration, error) {
	way, err := s.way(16)
	if err != nil {
		return nil, err
	}
	watch := &stopwatch{Provider: way, first: make(map[string]time.Time)}
	b, err := newBedOn(database, watch, nil)
	if err != nil {
		return nil, err
	}
	defer b.close()
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	if bulk > 0 {
		if err := b.seed(ctx, bulk); err != nil {
			return nil, err
		}
	}
	ended := make(chan error, 1)
	go func() { ended <- b.svc.Run(ctx) }()
	time.Sleep(time.Second) // connections get warm
	var times []time.Duration
	for range samples {
		ids, err := b.svc.Notify(ctx, illumicode.Notice{Letter: "trial", Lane: delivery.Urgent,
			To: illumicode.Request{Address: "mara@ternisle.example"}})
		if err != nil {
			return nil, err
		}
		committed := time.Now()
		for first := (time.Time{}); first.IsZero(); time.Sleep(100 * time.Microsecond) {
			watch.mu.Lock()
			if first = watch.first[ids[0]]; !first.IsZero() {
				times = append(times, max(0, first.Sub(committed)))
			}
			watch.mu.Unlock()
		}
		time.Sleep(5 * time.Millisecond)
	}
	stop()
	slices.Sort(times)
	return times, <-ended
}
