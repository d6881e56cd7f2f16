package illumicode_test

import (
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
	"github.com/illumicode/illumicode/route"
)

// The application is told what has failed for good, and why; not what may still arrive.
func TestFailureIsTold(t *testing.T) {
	told := make(chan illumicode.Failure, 10)
	k := illumicodetest.New(t, withPier(t), func(c *illumicode.Config) {
		c.Failed = func(f illumicode.Failure) { told <- f }
		c.Providers = []provider.Provider{saying(func(to string) provider.Result {
			switch {
			case strings.HasPrefix(to, "gone"):
				return provider.Result{Class: retry.RecipientRefused, Code: 550, Reply: "550 nobody here"}
			case strings.HasPrefix(to, "lost"):
				return provider.Result{Class: retry.Ambiguous, Reply: "no answer"}
			}
			return provider.Result{Class: retry.Accepted}
		})}
	})
	for address, unknown := range map[string]bool{"gone@ternisle.example": false, "lost@ternisle.example": true} {
		id := notify(t, k, illumicode.Notice{Letter: "refund", Key: "refund 7", Data: map[string]any{"amount": "12.00"},
			To: illumicode.Request{Address: address}})
		f := <-told
		if f.Delivery != id || f.Letter != "refund" || f.Address != address || f.Key != "refund 7" ||
			f.Unknown != unknown || f.Fallback || f.Reason == "" {
			t.Errorf("%+v", f)
		}
	}
	notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(1)})
	waitUntil(t, k, func(sum store.Summary) bool { return sum.Count[store.Sent] == 1 })
	if len(told) != 0 {
		t.Errorf("what was sent is told: %+v", <-told)
	}
}

// A fallback goes when its time has come, also where the provider is left alone and nothing is tried.
func TestFallbackAfter(t *testing.T) {
	for name, class := range map[string]retry.Class{"fails": retry.Transient, "throttles": retry.Throttled} {
		t.Run(name, func(t *testing.T) {
			k := illumicodetest.New(t, withPier(t), func(c *illumicode.Config) {
				mail := c.Providers[0]
				c.Providers = []provider.Provider{saying(func(string) provider.Result {
					return provider.Result{Class: class, Reply: "later"}
				}), mail}
				c.Outbox.Terms = map[string]route.Terms{mail.Name(): {Only: []string{"gullquay.example"}},
					"harbour": {Never: []string{"gullquay.example"}}}
			})
			const other = "mara@gullquay.example"
			id := notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(1), Fallback: other})
			rows := flow.Of(k.Service).Store
			waitUntil(t, k, func(store.Summary) bool {
				d, err := rows.Delivery(t.Context(), id)
				return err == nil && d.Attempts > 0
			})
			k.Clock.Move(14 * time.Minute)
			time.Sleep(200 * time.Millisecond)
			if d, err := rows.Delivery(t.Context(), id); err != nil || d.State.Final() {
				t.Fatalf("after 14 minutes: %+v, %v", d, err)
			}
			k.Clock.Move(2 * time.Minute)
			k.Service.Wake()
			k.Letter(other, 1)
			ended(t, k, id, store.Failed)
		})
	}
}

// A letter that no provider carries falls back at once, and the application is told so.
func TestFallbackWithoutAttempt(t *testing.T) {
	told := make(chan illumicode.Failure, 1)
	k := illumicodetest.New(t, withPier(t), func(c *illumicode.Config) {
		c.Failed = func(f illumicode.Failure) { told <- f }
		c.Outbox.Terms = map[string]route.Terms{c.Providers[0].Name(): {Only: []string{"gullquay.example"}}}
	})
	notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(1), Fallback: "mara@gullquay.example"})
	k.Letter("mara@gullquay.example", 1)
	if f := <-told; !f.Fallback || f.Unknown || !strings.Contains(f.Reason, "no provider carries this") {
		t.Errorf("%+v", f)
	}
}
