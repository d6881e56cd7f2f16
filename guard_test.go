package illumicode_test

import (
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/capture"
)

func TestAtMostOnce(t *testing.T) {
	k := illumicodetest.New(t, withPier(t), func(c *illumicode.Config) { c.Providers = []provider.Provider{silence{}} })
	id := notify(t, k, illumicode.Notice{Letter: "refund", Data: map[string]any{"amount": "12.00"}})
	if d := ended(t, k, id, store.Unknown); d.Attempts != 1 {
		t.Errorf("%+v", d)
	}
}

type silence struct{}

func TestGuard(t *testing.T) {
	caught := new(capture.Provider)
	for _, tt := range []struct {
		guard   delivery.Guard
		state   store.State
		capture provider.Provider
	}{
		{delivery.Guard{Mode: delivery.Allow, Domains: []string{"gullquay.example"}}, store.Held, nil},
		{delivery.Guard{Mode: delivery.Hold}, store.Waiting, nil},
		{delivery.Guard{Mode: delivery.Capture}, store.Sent, caught},
	} {
		k := illumicodetest.New(t, withPier(t), func(c *illumicode.Config) {
			c.Guard, c.Capture = tt.guard,
				tt.capture
		})
		id := notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(1)})
		time.Sleep(60 * time.Millisecond) // three polls
		ended(t, k, id, tt.state)
		if n := len(k.Inbox.Letters("")); n != 0 {
			t.Errorf("%s: %d letters left", tt.guard.Mode, n)
		}
		if !strings.Contains(k.Logged(), "THE GUARD IS ON "+strings.ToUpper(string(tt.guard.Mode))) {
			t.Errorf("%s: the log does not say so", tt.guard.Mode)
		}
	}
	if len(caught.Letters()) != 1 {
		t.Errorf("%d captured", len(caught.Letters()))
	}
}

func TestCopyOfTheDatabaseHolds(t *testing.T) {
	k := illumicodetest.New(t, withPier(t))
	ended(t, k, notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(1)}), store.Sent)
	other := illumicodetest.New(t, withPier(t), func(c *illumicode.Config) {
		c.Store, c.Site.BaseURL = k.Service.Store(), "https://staging.example"
		c.Outbox.Poll = 10 * time.Millisecond
	})
	eventually(t, func() bool { return strings.Contains(other.Logged(), "SENDS FOR ANOTHER SITE") })
	ended(t, k, notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(2)}), store.Sent)
	if n := len(other.Inbox.Letters("")); n != 0 {
		t.Errorf("the copy sent %d letters", n)
	}
}

func TestPause(t *testing.T) {
	k := illumicodetest.New(t, withPier(t))
	for _, p := range []store.Pause{{Kind: "letter", Name: "moved"}, {Kind: "domain", Name: "xn--trnholm-90a.example"},
		{Kind: "provider", Name: "inbox"}, {Kind: "lane", Name: "normal"}} {
		if err := flow.Of(k.Service).Store.Pause(t.Context(), p); err != nil {
			t.Fatal(err)
		}
		time.Sleep(250 * time.Millisecond) // several polls: a worker takes the pause up with one
		id := notify(t, k,
			illumicode.Notice{Letter: "moved", Data: pier(1), To: illumicode.Request{Address: "jens@törnholm.example"}})
		if p.Kind == "lane" {
			time.Sleep(60 * time.Millisecond)
			ended(t, k, id, store.Waiting)
		} else if d := ended(t, k, id, store.Held); d.HeldBy != p.HeldBy() {
			t.Errorf("held by %q", d.HeldBy)
		}
		if _, err := flow.Of(k.Service).Store.Resume(t.Context(), p); err != nil {
			t.Fatal(err)
		}
		ended(t, k, id, store.Sent)
	}
}

func TestUnknownLetterIsLeft(t *testing.T) {
	k := illumicodetest.New(t) // the default letters only
	d := store.Delivery{ID: "01a2083e-0000-7000-8000-000000000001", Letter: "moved", Locale: "en", Address: mara,
		Data: `{"pier": "pier 1"}`,
		Lane: store.Normal, Created: k.Clock.Now(), Due: k.Clock.Now()}
	newer := d
	newer.ID, newer.Letter, newer.Version = "01a2083e-0000-7000-8000-000000000002", "trial", store.Knows+1
	err := flow.Of(k.Service).Store.Write(t.Context(), func(tx store.Tx) error {
		return errors.Join(tx.InsertDelivery(t.Context(), d), tx.InsertDelivery(t.Context(), newer))
	})
	if err != nil {
		t.Fatal(err)
	}
	k.Service.Wake()
	for deadline := time.Now().Add(10 * time.Second); !strings.Contains(k.Logged(), "left to another worker") &&
		time.Now().Before(deadline); {
		time.Sleep(5 * time.Millisecond)
	}
	for _, id := range []string{d.ID, newer.ID} {
		if got := ended(t, k, id, store.Waiting); got.Attempts != 0 {
			t.Errorf("%+v", got)
		}
	}
	knows := illumicodetest.New(t, withPier(t), func(c *illumicode.Config) { c.Store = k.Service.Store() })
	knows.Clock.Move(time.Minute)
	knows.Service.Wake()
	ended(t, k, d.ID, store.Sent)
}
