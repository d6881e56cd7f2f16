package main

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"github.com/illumicode/illumicode"
	operators "github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/discard"
	"github.com/illumicode/illumicode/retry"
)

// What the answers take for an address that has an account, and for one that has none, in pairs that take turns.

// An asking is one flow, as a stranger sees it; each step is timed by itself.
type asking struct {
	what  string
	steps []string
	ask   func(ctx context.Context, svc *illumicode.Service, address string) ([]time.Duration, error)
}

var askings = []asking{
	{"sign-in", []string{"asked for", "a wrong code"},
		func(ctx context.Context, svc *illumicode.Service, address string) ([]time.Duration, error) {
			start := time.Now()
			p, err := svc.SignIn(ctx, illumicode.Request{Address: address})
			begun := time.Now()
			if err != nil {
				return nil, err
			}
			time.Sleep(pause)
			typed := time.Now()
			_, err = svc.SignInCode(ctx, p.Ticket, "000000", nil)
			return []time.Duration{begun.Sub(start), time.Since(typed)}, wrongOnly(err)
		}},
	{"signup", []string{"of an account that exists before"},
		func(ctx context.Context, svc *illumicode.Service, address string) ([]time.Duration, error) {
			start := time.Now()
			_, err := svc.Signup(ctx, illumicode.Request{Address: address}, illumicode.Subject("of "+address))
			return []time.Duration{time.Since(start)}, err
		}},
	{"signup", []string{"of an account made at confirmation", "a wrong code"},
		func(ctx context.Context, svc *illumicode.Service, address string) ([]time.Duration, error) {
			start := time.Now()
			p, err := svc.Register(ctx, illumicode.Request{Address: address},
				func(context.Context) (illumicode.Registration, error) {
					return illumicode.Registration{Profile: []byte(`{"name":"Mara"}`), Secret: make([]byte, 48)}, nil
				})
			begun := time.Now()
			if err != nil {
				return nil, err
			}
			time.Sleep(pause)
			typed := time.Now()
			err = svc.RegisterCode(ctx, p.Ticket, "000000", nil)
			return []time.Duration{begun.Sub(start), time.Since(typed)}, wrongOnly(err)
		}},
}

func wrongOnly(err error) error {
	if errors.Is(err, illumicode.ErrWrongCode) {
		return nil
	}
	return err
}

// timingFigures compares them, with a provider that takes letters and with one that is down.
func timingFigures(scale int) (all []figure, err error) {
	for _, database := range databases() {
		for _, down := range []bool{false, true} {
			for _, a := range askings {
				one, err := timeAsking(database, a, down, 200*scale)
				if err != nil {
					return nil, err
				}
				all = append(all, one...)
			}
		}
	}
	return all, nil
}

// pause is how long one who asks waits before the next step, as one over a network has to.
const pause = 5 * time.Millisecond

// dark is a provider that is down.
type dark struct{ discard.Provider }

func (dark) Name() string { return "dark" }
func (dark) Send(context.Context, provider.Handover) provider.Result {
	return provider.Result{Class: retry.Transient, Reply: "no connection"}
}

func timeAsking(database string, a asking, down bool, pairs int) ([]figure, error) {
	name := func(step string) string {
		return fmt.Sprintf("%s, %s, on %s, provider %s", a.what, step, database,
			map[bool]string{false: "up", true: "down"}[down])
	}
	if !slices.ContainsFunc(a.steps, func(step string) bool { return wanted(name(step)) }) {
		return nil, nil
	}
	var way provider.Provider = discard.Provider{}
	if down {
		way = dark{}
	}
	b, err := newBedOn(database, way, nil)
	if err != nil {
		return nil, err
	}
	defer b.close()
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- b.svc.Run(ctx) }()
	defer func() { stop(); <-ended }()
	if err := b.know(ctx, pairs); err != nil {
		return nil, err
	}
	times := make([][2][]float64, len(a.steps))
	for i := range pairs {
		for _, kind := range []int{i % 2, 1 - i%2} { // in turn, neither always first
			time.Sleep(pause)
			took, err := a.ask(ctx, b.svc,
				fmt.Sprintf([]string{"known%d@ternisle.example", "nobod%d@ternisle.example"}[kind], i))
			if err != nil {
				return nil, err
			}
			for step, d := range took {
				times[step][kind] = append(times[step][kind], float64(d)/float64(time.Microsecond))
			}
		}
	}
	out := make([]figure, len(a.steps))
	for step := range out {
		out[step] = compare(name(a.steps[step]), times[step])
	}
	return out, nil
}

// know makes accounts with confirmed addresses.
func (b *bed) know(ctx context.Context, n int) error {
	_, err := operators.New(b.svc).Import(ctx, func(yield func(operators.Backfill, error) bool) {
		for i := range n {
			if !yield(operators.Backfill{Line: i, Subject: fmt.Sprint("of ", i),
				Address: fmt.Sprintf("known%d@ternisle.example", i), Standing: "confirmed"}, nil) {
				return
			}
		}
	}, operators.ImportOptions{})
	return err
}

// compare returns the ratio of the medians, with the 99 % interval of the median difference (order statistics of the
// pairs, by the normal approximation of the binomial distribution).
func compare(what string, times [2][]float64) figure {
	n := len(times[0])
	differences := make([]float64, n)
	for i := range n {
		differences[i] = times[0][i] - times[1][i]
	}
	slices.Sort(differences)
	half := 2.576 * math.Sqrt(float64(n)) / 2
	low, high := differences[max(0, int(float64(n)/2-half))], differences[min(n-1, int(math.Ceil(float64(n)/2+half)))]
	slices.Sort(times[0])
	slices.Sort(times[1])
	known, unknown := times[0][n/2], times[1][n/2]
	worst := max(math.Abs(low), math.Abs(high))
	verdict := "within 2 % or 50 µs"
	if worst > 50 && worst > 0.02*unknown {
		verdict = "OUTSIDE of 2 % and 50 µs"
	}
	return figure{what: what, floor: "the same where nobody has an account", ratio: known / unknown,
		note: fmt.Sprintf("%d pairs, %.0f µs; the median difference is from %+.0f to %+.0f µs (99 %%): %s", n, unknown,
			low,
			high, verdict)}
}
