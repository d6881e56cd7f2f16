package main

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/internal/oldrows"
)

// sweepFigures measures letters over SMTP while millions of old rows are removed, against the same worker that removes
// none, and how long urgent letters take meanwhile.
func sweepFigures(scale int) ([]figure, error) {
	s, err := newSink()
	if err != nil {
		return nil, err
	}
	var out []figure
	for _, database := range databases() {
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
		rows := 500_000 * scale
		if err := b.age(rows); err != nil {
			return nil, err
		}
		var with, without []time.Duration
		var urgent []time.Duration
		for range 5 {
			for _, sweeps := range []bool{false, true} {
				took, first, err := b.drainBeside(watch, sweeps, 500*scale)
				if err != nil {
					return nil, err
				}
				if sweeps {
					with, urgent = append(with, took), append(urgent, first...)
				} else {
					without = append(without, took)
				}
			}
		}
		left, err := oldrows.Left(context.Background(), b.store.DB(), longAgo)
		if err != nil {
			return nil, err
		}
		slices.Sort(urgent)
		p99 := urgent[len(urgent)*99/100]
		out = append(out, figure{fmt.Sprintf("delivery over SMTP while %d old rows go, %s", rows, database),
			"no row goes", medianRatio(without, with), -0.9, fmt.Sprintf("%d went meanwhile", rows-left)},
			figure{"urgent letters meanwhile, p99, " + database, "100 ms",
				float64(p99) / float64(100*time.Millisecond), 1, fmt.Sprint(p99)})
	}
	return out, nil
}

// drainBeside delivers n notices with a worker that sweeps or does not, and meanwhile urgent letters. It returns how
// long the notices took, and how long the urgent ones from commit to their first byte.
func (b *bed) drainBeside(watch *stopwatch, sweeps bool, n int) (took time.Duration, urgent []time.Duration,
	err error) {
	if err := b.open(watch, func(c *illumicode.Config) {
		if !sweeps {
			c.Outbox.Keep = -1
		}
	}); err != nil {
		return 0, nil, err
	}
	ctx := context.Background()
	if err := b.fill(ctx, n, illumicode.Notice{Letter: "trial"}); err != nil {
		return 0, nil, err
	}
	asking, stop := context.WithCancel(ctx)
	var asked sync.WaitGroup
	committed := make(map[string]time.Time)
	asked.Go(func() {
		for asking.Err() == nil {
			ids, err := b.svc.Notify(ctx, illumicode.Notice{Letter: "trial", Lane: delivery.Urgent,
				To: illumicode.Request{Address: "mara@ternisle.example"}})
			if err == nil {
				committed[ids[0]] = time.Now()
			}
			time.Sleep(20 * time.Millisecond)
		}
	})
	took, err = b.drain(ctx)
	stop()
	asked.Wait()
	if err != nil {
		return 0, nil, err
	}
	if _, err = b.drain(ctx); err != nil { // the last urgent ones
		return 0, nil, err
	}
	for id, at := range committed {
		urgent = append(urgent, max(0, watch.first[id].Sub(at)))
	}
	return took, urgent, nil
}

// longAgo is when old rows ended.
var longAgo = time.Now().AddDate(-1, 0, 0)

// age puts n ended deliveries with an attempt each into the database, as if they had been sent long ago.
func (b *bed) age(n int) error {
	ctx := context.Background()
	if err := b.fill(ctx, 1, illumicode.Notice{Letter: "trial"}); err != nil {
		return err
	}
	if _, err := b.drain(ctx); err != nil {
		return err
	}
	return oldrows.Add(ctx, b.store.DB(), b.store.Dialect(), n, longAgo)
}
