// Failover is a service with two providers, of which the preferred one falls over: codes arrive through the
// other within a fraction of a second, after five failures nobody tries the first any more, and every
// attempt says why it went where it did.
//
//	go run ./examples/failover DIR
package main

import (
	"context"
	"errors"
	"fmt"
	"log"
	"os"
	"sync/atomic"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/examples/internal/quay"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/capture"
	"github.com/illumicode/illumicode/retry"
	"github.com/illumicode/illumicode/route"
)

// A relay is a provider that can fall over. Yours is provider/smtp or provider/httpapi.
type relay struct {
	*capture.Provider
	name string
	down atomic.Bool
}

func (r *relay) Name() string { return r.name }

func (r *relay) Send(ctx context.Context, h provider.Handover) provider.Result {
	if r.down.Load() {
		return provider.Result{Class: retry.Transient, Reply: "connection refused"}
	}
	return r.Provider.Send(ctx, h)
}

func main() {
	if len(os.Args) != 2 {
		log.Fatal("usage: failover DIR")
	}
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	harbour := &relay{Provider: new(capture.Provider), name: "harbour"}
	pier := &relay{Provider: new(capture.Provider), name: "pier"}
	svc := quay.Open(ctx, os.Args[1], "http://127.0.0.1:8090", func(c *illumicode.Config) {
		c.Providers = []provider.Provider{harbour, pier} // the preferred one first
		c.Outbox.Terms = map[string]route.Terms{
			"harbour": {Caps: route.Caps{PerSecond: 14, PerDay: 50_000}}, // kept by all machines together
			"pier":    {Caps: route.Caps{PerDay: 300}},                   // a small plan
		}
		c.Outbox.Retry.Base = time.Second
	})
	for i := range 7 {
		if i == 1 {
			harbour.down.Store(true)
			fmt.Println("harbour falls over")
		}
		address := fmt.Sprintf("passenger%d@ternisle.example", i+1)
		quay.Must(svc.Signup(ctx, illumicode.Request{Address: address}, illumicode.Subject(address)))
		quay.Check(tell(ctx, svc, address))
	}
}

// tell waits for the end of an address's letter, and prints how it travelled.
func tell(ctx context.Context, svc *quay.Quay, address string) error {
	for {
		story, err := desk.New(svc.Service).Story(ctx, address)
		switch {
		case err != nil:
			return err
		case len(story.Letters) != 1:
			return errors.New("the signup has no letter")
		case story.Letters[0].State == "waiting" || story.Letters[0].State == "claimed":
			time.Sleep(5 * time.Millisecond)
			continue
		}
		for _, a := range story.Letters[0].Attempts {
			fmt.Printf("%s, attempt %d: %s through %s\n    %s\n", address, a.Number, a.Class, a.Provider, a.Route)
		}
		return nil
	}
}
