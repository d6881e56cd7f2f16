package illumicode_test

import (
	"context"
	"fmt"
	"sync/atomic"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// A switched is a provider that can be down.
type switched struct {
	provider.Provider
	down atomic.Bool
}

func (s *switched) Send(ctx context.Context, h provider.Handover) provider.Result {
	if s.down.Load() {
		return provider.Result{Class: retry.Transient, Reply: "no connection"}
	}
	return s.Provider.Send(ctx, h)
}

// Nobody gets the letter of a decoy; but a worker does for it what it does for others, and when a provider is down the
// code of neither begins to live.
func TestDecoyIsWorkedOn(t *testing.T) {
	way := &switched{}
	k := illumicodetest.New(t, func(c *illumicode.Config) {
		way.Provider = c.Providers[0]
		c.Providers = []provider.Provider{way}
	})
	letters := register(t, k, "7", mara)
	const nobody = "nobody@ternisle.example"
	way.down.Store(true)
	about := func(address string) (d store.Delivery, tried int, lives bool) {
		rows := flow.Of(k.Service).Store
		err := rows.Write(t.Context(), func(tx store.Tx) error {
			all, err := tx.Lately(t.Context(), address, challenge.SignIn, k.Service.Now())
			lives = !all[0].CodeFrom.IsZero()
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
		found, err := rows.List(t.Context(), store.Filter{Address: address}, "", 1)
		if err != nil || len(found) != 1 {
			t.Fatal(found, err)
		}
		attempts, err := rows.Attempts(t.Context(), found[0].ID)
		if err != nil {
			t.Fatal(err)
		}
		return found[0], len(attempts), lives
	}
	var stands [2]string
	for i, address := range []string{mara, nobody} {
		signIn(t, k, illumicode.Request{Address: address})
		waitUntil(t, k, func(sum store.Summary) bool {
			_, tried, _ := about(address)
			return tried > 0 && sum.Count[store.Waiting] == i+1
		})
		d, tried, lives := about(address)
		stands[i] = fmt.Sprintf("on its way %t, tried %t, lives %t", !d.State.Final(), tried > 0, lives)
	}
	if want := "on its way true, tried true, lives false"; stands != [2]string{want, want} {
		t.Errorf("with a provider that is down: %q", stands)
	}
	way.down.Store(false)
	waitUntil(t, k, func(sum store.Summary) bool {
		k.Clock.Move(time.Second)
		return sum.Count[store.Waiting]+sum.Count[store.Claimed] == 0
	})
	for i, address := range []string{mara, nobody} {
		d, tried, lives := about(address)
		stands[i] = fmt.Sprintf("%s %t %t", d.State, tried > 1, lives)
	}
	if stands != [2]string{"sent true true", "cancelled true true"} {
		t.Errorf("then: %q", stands)
	}
	if n := len(k.Inbox.Letters(nobody)); n != 0 {
		t.Errorf("%d letters went out to nobody", n)
	}
	k.Letter(mara, letters+1)
}
