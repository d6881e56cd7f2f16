package illumicode_test

import (
	"errors"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/store/sqlite"
	"github.com/illumicode/illumicode/token"
)

func TestAdmitRefuses(t *testing.T) {
	k := illumicodetest.Idle(t)
	for _, r := range []illumicode.Request{
		{Address: "mara"}, {Address: "mara@x.example\r\nBcc: y@x.example"},
		{Address: strings.Repeat("m", 300) + "@x.example"},
		{Address: mara, Name: "Mara\nBcc: y@x.example"},
	} {
		if _, err := k.Service.Signup(t.Context(), r, illumicode.Subject("a")); !errors.Is(err, message.ErrAddress) {
			t.Errorf("%.40q: %v, want ErrAddress", r.Address, err)
		}
	}
	if list, err := flow.Of(k.Service).Store.List(t.Context(), store.Filter{}, "", 10); err != nil || len(list) != 0 {
		t.Errorf("a refused request left %d deliveries, %v", len(list), err)
	}
}

func TestNewRefuses(t *testing.T) {
	st, err := sqlite.Open(t.Context(), filepath.Join(t.TempDir(), "x.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	ring := token.Generate(time.Now())
	from, err := message.ParseAddress("crew@ternisle.example")
	if err != nil {
		t.Fatal(err)
	}
	kit := illumicodetest.Idle(t)
	good := illumicode.Config{Store: st, Keys: ring, From: from, Site: illumicode.Site{BaseURL: "https://ferry.example",
		Name: "Ferry"}}
	good.Providers = append(good.Providers, kit.Way)
	for want, spoil := range map[string]func(*illumicode.Config){
		"Store":                func(c *illumicode.Config) { c.Store = nil },
		"Keys":                 func(c *illumicode.Config) { c.Keys = nil },
		"From":                 func(c *illumicode.Config) { c.From = message.Address{} },
		"Providers":            func(c *illumicode.Config) { c.Providers = nil },
		"Site.Name":            func(c *illumicode.Config) { c.Site.Name = "" },
		"is missing":           func(c *illumicode.Config) { c.Site.BaseURL = "" },
		"is not absolute":      func(c *illumicode.Config) { c.Site.BaseURL = "/confirm" },
		"in the clear":         func(c *illumicode.Config) { c.Site.BaseURL = "http://ferry.example" },
		"Tries":                func(c *illumicode.Config) { c.Signup.Tries = 1000 },
		"`illumicode migrate`": func(*illumicode.Config) {}, // all is well but for the tables
	} {
		c := good
		spoil(&c)
		if _, err := illumicode.New(c); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("New = %v, want an error with %q", err, want)
		}
	}
}
