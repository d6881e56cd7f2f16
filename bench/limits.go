package main

import (
	"context"
	"fmt"
	"math"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/core/choose"
	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/limit"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/discard"
	"github.com/illumicode/illumicode/route"
)

// roomy returns the default rules with room for everything that is measured.
func roomy() []limit.Rule {
	rules := illumicode.DefaultLimits()
	for i := range rules {
		if r := &rules[i]; r.Rate.Times > 0 {
			r.Rate.Times, r.Rate.Burst = 1_000_000, 1_000_000
		} else if r.Quota.Times > 0 {
			r.Quota.Times = 1 << 40
		}
	}
	return rules
}

// limitFigures measures what limits, caps and routing cost.
func limitFigures(scale int) ([]figure, error) {
	out := []figure{decisionFigure(), choiceFigure()}
	for _, database := range databases() {
		begin, err := signInCost(database, 60*scale)
		if err != nil {
			return nil, err
		}
		hot, err := hotKey(database, time.Duration(scale)*300*time.Millisecond)
		if err != nil {
			return nil, err
		}
		delivery, err := routedDelivery(database, 1000*scale)
		if err != nil {
			return nil, err
		}
		out = append(out, begin, hot, delivery)
	}
	return out, nil
}

// decisionFigure times the judgement of five rules in memory.
func decisionFigure() figure {
	set, err := judge.NewSet(
		limit.Rule{Name: "pace", By: limit.Address, Rate: limit.Rate{Times: 1e6, Per: time.Second, Burst: 1e6}},
		limit.Rule{Name: "day", By: limit.Address, Quota: limit.Quota{Times: 1 << 40, Window: limit.Day}},
		limit.Rule{Name: "again", By: limit.Address, Ladder: limit.Ladder{Rungs: []time.Duration{0}, Decay: time.Hour}},
		limit.Rule{Name: "network", By: limit.Network, Rate: limit.Rate{Times: 1e6, Per: time.Second, Burst: 1e6}},
		limit.Rule{Name: "all", By: limit.All, AtOnce: limit.AtOnce{Most: math.MaxInt32, Hold: time.Second}},
	)
	if err != nil {
		panic(err) // the rules are constants
	}
	bound := set.Bind(judge.Request{Address: "a", Network: "n"})
	states, now := make([]judge.State, len(bound)), time.Now()
	r := testing.Benchmark(func(b *testing.B) {
		b.ReportAllocs()
		for b.Loop() {
			now = now.Add(time.Millisecond)
			if !judge.Judge(bound, states, 1, now, states).Allowed {
				b.Fatal("refused")
			}
		}
	})
	return figure{what: "five rules judged in memory", floor: "allocations", ratio: float64(r.AllocsPerOp()),
		goal: math.SmallestNonzeroFloat64, note: fmt.Sprintf("%d ns", r.NsPerOp())}
}

// choiceFigure times the choice among ten providers.
func choiceFigure() figure {
	var all []choose.Candidate
	for i := range 10 {
		all = append(all, choose.Candidate{Name: fmt.Sprint("way", i), Weight: i, Carried: i == 0})
	}
	now := time.Now()
	r := testing.Benchmark(func(b *testing.B) {
		for b.Loop() {
			if choose.Choose(all, route.Weights, false, 0.5, now).Provider == "" {
				b.Fatal("none")
			}
		}
	})
	return figure{what: "a provider chosen among ten, with reasons", floor: "µs", ratio: float64(r.NsPerOp()) / 1000,
		note: "reported"}
}

// signInCost compares the begin of a sign-in with all rules against one without any.
func signInCost(database string, n int) (figure, error) {
	var beds [2]*bed
	for i, rules := range [][]limit.Rule{roomy(), {}} {
		b, err := newBedOn(database, discard.Provider{}, func(c *illumicode.Config) { c.Limits = rules })
		if err != nil {
			return figure{}, err
		}
		defer b.close()
		beds[i] = b
	}
	count := 0
	begin := func(b *bed) func() error {
		return func() error {
			for range n {
				count++
				if _, err := b.svc.SignIn(context.Background(),
					illumicode.Request{Address: fmt.Sprintf("p%d@ternisle.example", count)}); err != nil {
					return err
				}
			}
			return nil
		}
	}
	times, err := inTurns(21, begin(beds[0]), begin(beds[1]))
	if err != nil {
		return figure{}, err
	}
	return figure{"begin a sign-in under the default rules, " + database, "without rules",
		medianRatio(times[0], times[1]), 1.3,
		fmt.Sprintf("%.2f ms against %.2f ms", ms(times[0], n), ms(times[1], n))}, nil
}

func ms(times []time.Duration, n int) float64 {
	return float64(median(times).Microseconds()) / 1000 / float64(n)
}

// hotKey compares how often sixteen clients get through that each work 20 ms in a transaction of their
// own, when one key is everybody's, against the same without rules.
func hotKey(database string, d time.Duration) (figure, error) {
	clients := func(rules []limit.Rule) (float64, error) {
		b, err := newBedOn(database, discard.Provider{}, func(c *illumicode.Config) { c.Limits = rules })
		if err != nil {
			return 0, err
		}
		defer b.close()
		ctx, stop := context.WithTimeout(context.Background(), d)
		defer stop()
		var done atomic.Int64
		var failed atomic.Pointer[error]
		var all sync.WaitGroup
		for i := range 16 {
			all.Go(func() {
				for k := 0; ctx.Err() == nil; k++ {
					subject := fmt.Sprintf("%d-%d", i, k)
					_, err := b.svc.Signup(context.Background(),
						illumicode.Request{Address: subject + "@ternisle.example"},
						func(ctx context.Context, tx illumicode.Tx) (string, error) {
							if database == onSQLite { // its transactions have the whole file: the work comes before
								return subject, nil
							}
							time.Sleep(20 * time.Millisecond)
							return subject, nil
						})
					if err != nil {
						failed.Store(&err)
						return
					}
					if database == onSQLite {
						time.Sleep(20 * time.Millisecond)
					}
					done.Add(1)
				}
			})
		}
		all.Wait()
		if err := failed.Load(); err != nil {
			return 0, *err
		}
		return float64(done.Load()) / d.Seconds(), nil
	}
	var ratios, with, without []float64
	for range 5 {
		a, err := clients(roomy())
		if err != nil {
			return figure{}, err
		}
		b, err := clients([]limit.Rule{})
		if err != nil {
			return figure{}, err
		}
		ratios, with, without = append(ratios, a/b), append(with, a), append(without, b)
	}
	return figure{"16 clients at once, 20 ms of work each, one key for all, " + database, "throughput without rules",
		middle(ratios), -0.9,
		fmt.Sprintf("%.0f/s against %.0f/s", middle(with), middle(without))}, nil
}

func middle(all []float64) float64 {
	d := make([]time.Duration, len(all))
	for i, f := range all {
		d[i] = time.Duration(f * 1e6)
	}
	return float64(median(d)) / 1e6
}

// routedDelivery compares deliveries through three providers with caps against one without.
func routedDelivery(database string, n int) (figure, error) {
	deliver := func(change func(*illumicode.Config)) (time.Duration, error) {
		b, err := newBedOn(database, discard.Provider{}, func(c *illumicode.Config) {
			c.Outbox.Senders = 16
			change(c)
		})
		if err != nil {
			return 0, err
		}
		defer b.close()
		if err := b.fill(context.Background(), n, illumicode.Notice{Letter: "trial"}); err != nil {
			return 0, err
		}
		return b.drain(context.Background())
	}
	var with, without []time.Duration
	for range 7 {
		a, err := deliver(func(c *illumicode.Config) {
			c.Providers = []provider.Provider{named{"harbour"}, named{"pier"}, named{"beacon"}}
			c.Outbox.Terms = make(map[string]route.Terms)
			for _, p := range c.Providers {
				c.Outbox.Terms[p.Name()] = route.Terms{
					Weight: 1, Caps: route.Caps{PerSecond: 10000, PerDay: 1 << 30, PerMonth: 1 << 34}}
			}
			c.Outbox.Order, c.Limits = route.Weights, roomy()
		})
		if err != nil {
			return figure{}, err
		}
		b, err := deliver(func(*illumicode.Config) {})
		if err != nil {
			return figure{}, err
		}
		with, without = append(with, a), append(without, b)
	}
	return figure{"delivery with limits, caps and three providers, " + database, "without", medianRatio(with, without),
		1.1,
		fmt.Sprintf("%.0f/s against %.0f/s", rate(n, median(with)), rate(n, median(without)))}, nil
}

// A named is a provider that takes letters to nowhere, under a name.
type named struct{ name string }

func (p named) Name() string          { return p.name }
func (p named) Can() provider.Ability { return discard.Provider{}.Can() }
func (p named) Send(ctx context.Context, h provider.Handover) provider.Result {
	return discard.Provider{}.Send(ctx, h)
}
