package illumicode_test

import (
	"context"
	"fmt"
	"math"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/core/rehearsal"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
	"github.com/illumicode/illumicode/route"
)

// named is a provider of a name that takes everything.
type named string

func (n named) Name() string        { return string(n) }
func (named) Can() provider.Ability { return provider.Ability{Mail: true} }

func (n named) Send(ctx context.Context, h provider.Handover) provider.Result {
	if err := h.Begin(ctx); err != nil {
		return provider.NotSent(err)
	}
	return provider.Result{Class: retry.Accepted, Code: 250}
}

// What a rehearsal says of who carries what is what workers then do: a quota but for its reserve, and the
// rest by what each provider takes in a second.
func TestRehearsalAgrees(t *testing.T) {
	const n = 500
	ways := []rehearsal.Provider{
		{Name: "quay", Mail: true, Terms: route.Terms{Caps: route.Caps{PerDay: 300}}},
		{Name: "pier", Mail: true, Terms: route.Terms{Caps: route.Caps{PerSecond: 120}}},
		{Name: "beacon", Mail: true, Terms: route.Terms{Caps: route.Caps{PerSecond: 60}}},
	}
	now := time.Now().UTC().Truncate(24 * time.Hour).Add(12 * time.Hour) // no day ends meanwhile
	played, err := rehearsal.Run(rehearsal.Scenario{Start: now, For: time.Minute, Providers: ways,
		Notices: []rehearsal.Notice{{Name: "storm", Lane: rehearsal.Bulk, Count: n, Domain: "gullquay.example"}}}, nil)
	if err != nil || played.Lanes[rehearsal.Bulk].Sent != n {
		t.Fatal(err, played.Lanes)
	}
	k := illumicodetest.New(t, withPier(t), func(c *illumicode.Config) {
		c.Providers, c.Outbox.Terms = nil, make(map[string]route.Terms)
		for _, w := range ways {
			c.Providers = append(c.Providers, named(w.Name))
			c.Outbox.Terms[w.Name] = w.Terms
		}
	})
	k.Clock.Move(now.Sub(k.Clock.Now()))
	if _, err := k.Service.NotifyAll(t.Context(), illumicode.Notice{Letter: "moved", Data: pier(1)},
		people(n)); err != nil {
		t.Fatal(err)
	}
	waitUntil(t, k, func(sum store.Summary) bool { return sum.Count[store.Sent] == n })
	carried, err := flow.Of(k.Service).Store.ByProvider(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	real := make(map[string]int)
	for _, c := range carried {
		real[c.Provider] += c.Count
	}
	for _, p := range played.Providers {
		if math.Abs(float64(p.Letters-real[p.Name])) > 0.1*n {
			t.Errorf("%s carried %d letters, and in the rehearsal %d", p.Name, real[p.Name], p.Letters)
		}
	}
	if fmt.Sprint(real["quay"], played.Providers[0].Letters) != "240 240" {
		t.Errorf("of a day's 300 but for the reserve %d were used, and in the rehearsal %d", real["quay"],
			played.Providers[0].Letters)
	}
}
