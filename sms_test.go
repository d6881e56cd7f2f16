package illumicode_test

import (
	"context"
	"errors"
	"maps"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/core/compose"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/limit"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/capture"
	"github.com/illumicode/illumicode/retry"
	"github.com/illumicode/illumicode/route"
)

// A phone number is confirmed by a code in an SMS, which ends with the line that binds it to the
// site; mail goes its own way.
func TestSignupBySMS(t *testing.T) {
	gateway := new(capture.Provider)
	k := illumicodetest.New(t, func(c *illumicode.Config) {
		c.Site.BaseURL = "https://ferry.example/app"
		c.Providers = []provider.Provider{smsOnly{gateway}, c.Providers[0]}
	})
	p, err := k.Service.Signup(t.Context(), illumicode.Request{Address: " +47 900 12 345 "}, illumicode.Subject("a"))
	if err != nil {
		t.Fatal(err)
	}
	begin(t, k, "b") // by mail
	k.Letter(mara, 1)
	waitSent(t, k, 2)
	got := gateway.Letters()
	if len(got) != 1 || got[0].Envelope.To != "+4790012345" || got[0].Raw != "" {
		t.Fatalf("the gateway got %+v", got)
	}
	code := regexp.MustCompile(`\n@ferry\.example #(\d{6})$`).FindStringSubmatch(got[0].SMS)
	if code == nil || strings.Count(got[0].SMS, code[1]) != 2 || strings.Contains(got[0].SMS, "http") {
		t.Fatalf("the SMS is %q", got[0].SMS)
	}
	if n, gsm := compose.Segments(got[0].SMS); n != 1 || !gsm {
		t.Errorf("it takes %d segments, in the GSM alphabet: %v", n, gsm)
	}
	if err := k.Service.ConfirmCode(t.Context(), p.Ticket, code[1], nil); err != nil || !confirmed(t, k, "a") {
		t.Errorf("ConfirmCode = %v", err)
	}
	for _, bad := range []string{"+47", "+47 12", "+0 123456789", "+47900123456789012"} {
		if _, err := k.Service.Admit(t.Context(), illumicode.Request{Address: bad}); !errors.Is(err,
			message.ErrAddress) {
			t.Errorf("Admit(%q) = %v", bad, err)
		}
	}
	if _, err := k.Service.Admit(t.Context(), illumicode.Request{Address: "900 12 345"}); err == nil ||
		!strings.Contains(err.Error(), "country code") {
		t.Errorf("a number without its country code: %v", err)
	}
	if _, err := illumicodetest.Idle(t).Service.Admit(t.Context(),
		illumicode.Request{Address: "+4790012345"}); err == nil ||
		!strings.Contains(err.Error(), "no provider carries SMS") {
		t.Errorf("without a gateway: %v", err)
	}
}

// A number without an account gets no text message, and its sign-in ends as every decoy does, not in a failure; with
// TellOwnerByText it gets one, until the day's few are used up.
func TestTellingByText(t *testing.T) {
	for _, texts := range []bool{false, true} {
		gateway := new(capture.Provider)
		k := illumicodetest.New(t, func(c *illumicode.Config) {
			c.Providers = []provider.Provider{smsOnly{gateway}, c.Providers[0]}
			c.TellOwner, c.TellOwnerByText = true, texts
			c.Limits = []limit.Rule{{Name: "told", By: limit.All, On: []string{"told"}, Medium: limit.SMS,
				Quota: limit.Quota{Times: 2, Window: limit.Day}}}
		})
		for _, number := range []string{"+4790012345", "+4790012346", "+4790012347"} {
			if _, err := k.Service.SignIn(t.Context(), illumicode.Request{Address: number}); err != nil {
				t.Fatal(err)
			}
		}
		drained(t, k)
		all, err := storeOf(k).List(t.Context(), store.Filter{}, "", 10)
		if err != nil {
			t.Fatal(err)
		}
		states := make(map[store.State]int)
		for _, d := range all {
			states[d.State]++
		}
		want := map[bool]map[store.State]int{false: {store.Cancelled: 3},
			true: {store.Sent: 2, store.Cancelled: 1}}[texts]
		if !maps.Equal(states, want) {
			t.Errorf("with texts %v: %v, want %v", texts, states, want)
		}
		for _, l := range gateway.Letters() {
			if !strings.Contains(l.SMS, "no confirmed account") {
				t.Errorf("it says %q", l.SMS)
			}
		}
	}
}

// What texts to a country may cost is bounded when they are handed over, and never shows to who asks: nobody shuts the
// door by asking.
func TestTextsToACountry(t *testing.T) {
	gateway := new(capture.Provider)
	k := illumicodetest.New(t, func(c *illumicode.Config) {
		c.Providers = []provider.Provider{smsOnly{gateway}, c.Providers[0]}
		c.Outbox.Terms = map[string]route.Terms{gateway.Name(): {Caps: route.Caps{PerCountry: 2}}}
	})
	for _, number := range []string{"+4790012345", "+4790012346", "+4790012347", "+4915123456789"} {
		if _, err := k.Service.Signup(t.Context(), illumicode.Request{Address: number},
			illumicode.Subject(number)); err != nil {
			t.Fatal(err)
		}
	}
	drained(t, k)
	sent := make(map[string]int)
	for _, l := range gateway.Letters() {
		sent[l.Envelope.To[:3]]++
	}
	if sent["+47"] != 2 || sent["+49"] != 1 {
		t.Errorf("sent %v, want 2 to +47 and 1 to +49", sent)
	}
	left, err := storeOf(k).List(t.Context(), store.Filter{State: store.Waiting}, "", 10)
	if err != nil || len(left) != 1 || !strings.Contains(left[0].Note, "its texts of a day to +47 are used") {
		t.Errorf("what waits: %+v, %v", left, err)
	}
}

// What was not sent has cost nothing: it leaves the day's texts to a country as they were.
func TestTextThatHasNotLeft(t *testing.T) {
	gateway := &away{smsOnly: smsOnly{new(capture.Provider)}, times: 2}
	k := illumicodetest.New(t, func(c *illumicode.Config) {
		c.Providers = []provider.Provider{gateway, c.Providers[0]}
		c.Outbox.Terms = map[string]route.Terms{gateway.Name(): {Caps: route.Caps{PerCountry: 1}}}
	})
	if _, err := k.Service.Signup(t.Context(), illumicode.Request{Address: "+4790012345"},
		illumicode.Subject("7")); err != nil {
		t.Fatal(err)
	}
	for range 3 {
		drained(t, k)
		k.Clock.Move(2 * time.Minute)
	}
	if n := len(gateway.Letters()); n != 1 {
		left, err := storeOf(k).List(t.Context(), store.Filter{}, "", 10)
		t.Errorf("%d texts left: %+v, %v", n, left, err)
	}
}

// away is a gateway that cannot be reached the first times.
type away struct {
	smsOnly
	times int
}

func (a *away) Send(ctx context.Context, h provider.Handover) provider.Result {
	if a.times--; a.times >= 0 {
		return provider.Result{Class: retry.Transient, Reply: "no connection"}
	}
	return a.smsOnly.Send(ctx, h)
}

// smsOnly is a gateway that takes no mail.
type smsOnly struct{ *capture.Provider }

func (smsOnly) Can() provider.Ability { return provider.Ability{SMS: true} }
