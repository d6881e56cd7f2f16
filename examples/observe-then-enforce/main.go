// Observe-then-enforce brings a new limit into a service that runs: first it only observes, and counts whom
// it would have refused; when nobody is among them who should not be, it enforces.
//
//	go run ./examples/observe-then-enforce DIR
package main

import (
	"context"
	"errors"
	"fmt"
	"log"
	"net/netip"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/examples/internal/quay"
	"github.com/illumicode/illumicode/limit"
	"github.com/illumicode/illumicode/metrics"
)

// A count is an observer that counts judgements, and hands everything on to Prometheus.
type count struct {
	*metrics.Metrics
	noted, refused atomic.Int64
}

func (c *count) Observe(o delivery.Observation) {
	c.Metrics.Observe(o)
	switch o.What {
	case "noted":
		c.noted.Add(1)
	case "refused":
		c.refused.Add(1)
	}
}

func main() {
	if len(os.Args) != 2 {
		log.Fatal("usage: observe-then-enforce DIR")
	}
	rule := limit.Rule{Name: "office", By: limit.Network, Rate: limit.Rate{Times: 30, Per: time.Hour, Burst: 10}}
	for _, observe := range []bool{true, false} {
		rule.Observe = observe
		dir := filepath.Join(os.Args[1], map[bool]string{true: "observe", false: "enforce"}[observe])
		quay.Check(os.MkdirAll(dir, 0o700))
		watch := &count{Metrics: metrics.New()}
		admitted := day(dir, rule, watch)
		fmt.Printf("observe %-5v: %d of 24 admitted, %d would have been refused, %d were\n", observe, admitted,
			watch.noted.Load(), watch.refused.Load())
	}
}

// day plays what one office does in a minute: twenty-four people register.
func day(dir string, rule limit.Rule, watch *count) (admitted int) {
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	svc := quay.Open(ctx, dir, "http://127.0.0.1:8090", func(c *illumicode.Config) {
		c.Limits = append(illumicode.DefaultLimits(), rule) // beside the default ones
		c.Observer = watch
	})
	office := illumicode.FromNetwork(ctx, netip.MustParseAddr("203.0.113.7"))
	for i := range 24 {
		address := fmt.Sprintf("clerk%d@gullquay.example", i)
		_, err := svc.Signup(office, illumicode.Request{Address: address}, illumicode.Subject(address))
		if soon, ok := errors.AsType[*illumicode.TooSoonError](err); ok {
			if admitted == 10 && watch.refused.Load() == 1 {
				fmt.Printf("the first refusal: %s, which allows %s; again in %v\n", soon.Rule, soon.Limit,
					soon.At.Sub(svc.Now()).Round(time.Minute))
			}
			continue
		}
		quay.Check(err)
		admitted++
	}
	return admitted
}
