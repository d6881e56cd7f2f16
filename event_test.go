package illumicode_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/event"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/letter"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/token"
)

func rules(c *illumicode.Config) {
	c.Events = []illumicode.EventRule{
		{Type: "sailing.moved", Letter: "moved", To: "/passengers", Key: "/sailing"},
		{Type: "sailing.*", Letter: "digest", Fixed: []illumicode.Request{{Address: "pier@gullquay.example"}},
			Gather: time.Hour},
	}
}

func sailing(id, data string) event.Event {
	return event.Event{Source: "/harbour", ID: id, Type: "sailing.moved", Data: []byte(data)}
}

func TestReceive(t *testing.T) {
	k := illumicodetest.Idle(t, withPier(t), rules)
	good := sailing("1",
		`{"pier": "pier 9", "sailing": "7", "passengers": ["mara@ternisle.example", {"address": `+
			`"jens@ternisle.example", "name": "Jens"}]}`)
	for range 2 {
		if err := k.Service.Receive(t.Context(), good); err != nil {
			t.Fatal(err)
		}
	}
	changed := good
	changed.Data = []byte(`{"pier": "pier 8"}`)
	for name, tt := range map[string]struct {
		e    event.Event
		want string
	}{
		"other contents":        {changed, "something else"},
		"no rule":               {event.Event{Source: "/harbour", ID: "2", Type: "tide.turned"}, "no rule"},
		"a value is missing":    {sailing("3", `{"sailing": "7", "passengers": ["mara@ternisle.example"]}`), "pier"},
		"nobody at the pointer": {sailing("4", `{"pier": "pier 9", "sailing": "7"}`), "/passengers"},
		"a bad address among two": {
			sailing("5", `{"pier": "pier 9", "sailing": "7", "passengers": ["mara@ternisle.example", "nobody"]}`),
			"recipient 2"},
		"not an object": {sailing("6", `[1]`), "no JSON object"},
		"no source":     {event.Event{ID: "7", Type: "sailing.moved"}, `"source" is missing`},
	} {
		if err := k.Service.Receive(t.Context(), tt.e); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v, want %q in it", name, err, tt.want)
		}
	}
	for {
		if n, _, err := flow.Of(k.Service).Store.Expand(t.Context(),
			func() string { return fmt.Sprint(time.Now().UnixNano()) }, nil); err != nil || n == 0 {
			break
		}
	}
	count, err := flow.Of(k.Service).Store.Matching(t.Context(), store.Filter{})
	if err != nil || count[store.Waiting] != 3 {
		t.Errorf("%v, %v; want two letters and a digest of the one good event", count, err)
	}
}

// An event by row for which there is no rule is set aside, also where there are no rules at all.
func TestInsertedEventWithoutRules(t *testing.T) {
	k := illumicodetest.New(t, withPier(t))
	if _, err := k.Service.Store().DB().Exec("INSERT INTO illumicode_event (source, id, type, data) " +
		"VALUES ('/quay', '1', 'sailing.moved', '{}')"); err != nil {
		t.Fatal(err)
	}
	eventually(t, func() bool {
		aside, err := flow.Of(k.Service).Store.Aside(t.Context(), 10)
		return err == nil && len(aside) == 1 && strings.Contains(aside[0].Reason, "no rules for events at all")
	})
}

func TestInsertedEvents(t *testing.T) {
	k := illumicodetest.New(t, withPier(t), rules)
	for i, data := range []string{`{"pier": "pier 3", "sailing": "8", "passengers": "mara@ternisle.example"}`,
		`{"pier": "pier 3"}`, `nonsense`} {
		if _, err := k.Service.Store().DB().Exec(
			"INSERT INTO illumicode_event (source, id, type, data) VALUES ('/quay', ?, 'sailing.moved', ?)",
			fmt.Sprint(i), data); err != nil {
			t.Fatal(err)
		}
	}
	if l := k.Letter(mara, 1); l.Subject != "Moved to pier 3" {
		t.Errorf("%q", l.Subject)
	}
	var aside []store.Event
	for deadline := time.Now().Add(10 * time.Second); len(aside) < 2 &&
		time.Now().Before(deadline); time.Sleep(5 * time.Millisecond) {
		var err error
		if aside, err = flow.Of(k.Service).Store.Aside(t.Context(), 10); err != nil {
			t.Fatal(err)
		}
	}
	if len(aside) != 2 || !strings.Contains(aside[0].Reason, "/sailing") ||
		!strings.Contains(aside[1].Reason, "JSON object") {
		t.Errorf("set aside: %+v", aside)
	}
}

func TestRulesAreChecked(t *testing.T) {
	good := illumicode.EventRule{Type: "x", Letter: "moved", To: "/who"}
	for want, change := range map[string]func(*illumicode.EventRule){
		"has no type":               func(r *illumicode.EventRule) { r.Type = "" },
		"and has 0":                 func(r *illumicode.EventRule) { r.To = "" },
		"and has 2":                 func(r *illumicode.EventRule) { r.Fixed = []illumicode.Request{{Address: mara}} },
		`no letter is named "sunk"`: func(r *illumicode.EventRule) { r.Letter = "sunk" },
		"carries a proof":           func(r *illumicode.EventRule) { r.Letter = "confirm" },
		"is no pointer":             func(r *illumicode.EventRule) { r.Key = "sailing" },
		"Before go together":        func(r *illumicode.EventRule) { r.Remind = "/departs" },
		"a reminder cannot": func(r *illumicode.EventRule) {
			r.Remind, r.Before, r.Gather = "/departs",
				time.Hour, time.Hour
		},
		"address": func(r *illumicode.EventRule) { r.To, r.Fixed = "", []illumicode.Request{{Address: "nobody"}} },
	} {
		r := good
		change(&r)
		k := illumicodetest.Idle(t, withPier(t))
		_, err := illumicode.New(illumicode.Config{Store: k.Service.Store(), Keys: freshKeys(t),
			From: address(t, "crew@ternisle.example"), Providers: []provider.Provider{k.Way},
			Site: illumicode.Site{BaseURL: "https://ferry.example", Name: "Tern Isle Ferry"}, Letters: pierSet(t),
			Events: []illumicode.EventRule{good, r}})
		if err == nil || !strings.Contains(err.Error(), "Events[1]") || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q in it", err, want)
		}
	}
	k := illumicodetest.Idle(t)
	for want, g := range map[string]delivery.Guard{"say live, allow": {Mode: "loud"},
		"no domain": {Mode: delivery.Allow}, "goes with allow": {Domains: []string{"x.example"}}} {
		c := illumicode.Config{Store: k.Service.Store(), Keys: freshKeys(t), From: address(t, "crew@ternisle.example"),
			Providers: []provider.Provider{k.Way},
			Site:      illumicode.Site{BaseURL: "https://ferry.example", Name: "Tern Isle Ferry"}, Guard: g}
		if _, err := illumicode.New(c); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("guard %+v: %v, want %q", g, err, want)
		}
	}
}

func pierSet(tb testing.TB) *letter.Set {
	tb.Helper()
	var c illumicode.Config
	withPier(tb)(&c)
	return c.Letters
}

func freshKeys(tb testing.TB) *token.Keyring {
	tb.Helper()
	ring := token.Generate(time.Now())
	return ring
}

func address(tb testing.TB, s string) message.Address {
	tb.Helper()
	a, err := message.ParseAddress(s)
	if err != nil {
		tb.Fatal(err)
	}
	return a
}
