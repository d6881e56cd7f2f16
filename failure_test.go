package illumicode_test

import (
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/event"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
	"github.com/illumicode/illumicode/route"
)

// apart gives a service a provider that answers every letter alike, and leaves to its own the letters to
// gullquay.example, where fallbacks go.
func apart(c *illumicode.Config, answer provider.Result) {
	mail := c.Providers[0]
	c.Providers = []provider.Provider{saying(func(string) provider.Result { return answer }), mail}
	c.Outbox.Terms = map[string]route.Terms{mail.Name(): {Only: []string{"gullquay.example"}},
		"harbour": {Never: []string{"gullquay.example"}}}
}

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
				apart(c, provider.Result{Class: class, Reply: "later"})
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

// A rule for the event hears of what has failed, in the commit of its end; a letter that it led to is not told of in
// turn.
func TestFailureIsAnEvent(t *testing.T) {
	const crew = "crew@gullquay.example"
	k := illumicodetest.New(t, withPier(t), func(c *illumicode.Config) {
		c.Events = []illumicode.EventRule{{Type: event.LetterFailed, Letter: "failed",
			Fixed: []illumicode.Request{{Address: crew}, {Address: "gone2@ternisle.example"}}}}
		apart(c, provider.Result{Class: retry.MessageRefused, Code: 554, Reply: "554 not this one"})
	})
	id := notify(t, k, illumicode.Notice{Letter: "refund", Key: "refund 7", Data: map[string]any{"amount": "12.00"},
		To: illumicode.Request{Address: "gone@ternisle.example"}})
	l := k.Letter(crew, 1)
	for _, want := range []string{id, "refund 7", "gone@ternisle.example", "554 not this one"} {
		if !strings.Contains(l.Text, want) {
			t.Errorf("the letter that tells of it lacks %q:\n%s", want, l.Text)
		}
	}
	waitUntil(t, k, func(sum store.Summary) bool { return sum.Count[store.Failed] == 2 })
	rows := flow.Of(k.Service).Store
	if n, err := rows.EventsWaiting(t.Context()); err != nil || n != 0 {
		t.Errorf("%d events wait, %v: the failure of a letter about a failure is told again", n, err)
	}
	if aside, err := rows.Aside(t.Context(), 9); err != nil || len(aside) != 0 {
		t.Errorf("set aside: %+v, %v", aside, err)
	}
}

// A fallback's time stands still while its letter must not leave, and counts what was before.
func TestFallbackWhilePaused(t *testing.T) {
	k := illumicodetest.New(t, withPier(t), func(c *illumicode.Config) {
		apart(c, provider.Result{Class: retry.Throttled, Reply: "later", After: time.Minute})
	})
	const other = "mara@gullquay.example"
	id := notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(1), Fallback: other})
	rows := flow.Of(k.Service).Store
	state := func() store.Delivery {
		t.Helper()
		d, err := rows.Delivery(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	until := func(what string, good func(store.Delivery) bool) {
		t.Helper()
		for end := time.Now().Add(20 * time.Second); !good(state()); time.Sleep(5 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("not %s: %+v", what, state())
			}
			k.Service.Wake()
		}
	}
	until("attempted", func(d store.Delivery) bool { return d.Attempts > 0 })
	p := store.Pause{Kind: "letter", Name: "moved", Since: k.Service.Now().Add(10 * time.Minute)}
	if err := rows.Pause(t.Context(), p); err != nil {
		t.Fatal(err)
	}
	time.Sleep(200 * time.Millisecond) // the workers see it
	k.Clock.Move(10 * time.Minute)
	until("held", func(d store.Delivery) bool { return d.State == store.Held })
	k.Clock.Move(3 * time.Hour)
	if _, err := rows.Resume(t.Context(), p); err != nil {
		t.Fatal(err)
	}
	before := state().Attempts
	until("tried again", func(d store.Delivery) bool { return d.Attempts > before || d.State.Final() })
	k.Clock.Move(4 * time.Minute) // 14 in all
	time.Sleep(200 * time.Millisecond)
	if d := state(); d.State.Final() {
		t.Fatalf("after 14 minutes in which it could leave: %s (%s)", d.State, d.Note)
	}
	k.Clock.Move(2 * time.Minute)
	k.Service.Wake()
	k.Letter(other, 1)
	ended(t, k, id, store.Failed)
}

// Where nobody knows whether a letter has arrived its fallback goes only if that was asked for.
func TestFallbackAnyway(t *testing.T) {
	for _, anyway := range []bool{true, false} {
		told := make(chan illumicode.Failure, 3)
		k := illumicodetest.New(t, withPier(t), func(c *illumicode.Config) {
			c.Failed = func(f illumicode.Failure) { told <- f }
			c.Outbox.Retry.Attempts = 2
			apart(c, provider.Result{Class: retry.Ambiguous, Reply: "no answer"})
		})
		id := notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(1), Fallback: "mara@gullquay.example",
			FallbackAnyway: anyway})
		if f := <-told; !f.Unknown || f.Fallback != anyway || f.Delivery != id {
			t.Errorf("asked for %v: %+v", anyway, f)
		}
		ended(t, k, id, store.Unknown)
		if anyway {
			k.Letter("mara@gullquay.example", 1)
			continue
		}
		sum, err := flow.Of(k.Service).Store.Summary(t.Context(), k.Service.Now())
		if err != nil || sum.Count[store.Waiting]+sum.Count[store.Claimed]+sum.Count[store.Sent] != 0 {
			t.Errorf("without being asked for: %+v, %v", sum.Count, err)
		}
	}
	k := illumicodetest.New(t, withPier(t))
	if _, err := k.Service.Notify(t.Context(), illumicode.Notice{Letter: "moved", Data: pier(1),
		To: illumicode.Request{Address: mara}, FallbackAnyway: true}); err == nil ||
		!strings.Contains(err.Error(), "there is none") {
		t.Errorf("without a fallback: %v", err)
	}
}
