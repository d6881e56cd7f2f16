package illumicode_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/feedback"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/core/keyring"
	"github.com/illumicode/illumicode/internal/core/report"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// saying is a provider named harbour that answers so.
type saying func(to string) provider.Result

func (saying) Name() string          { return "harbour" }
func (saying) Can() provider.Ability { return provider.Ability{Mail: true} }

func (s saying) Send(ctx context.Context, h provider.Handover) provider.Result {
	if err := h.Begin(ctx); err != nil {
		return provider.NotSent(err)
	}
	return s(h.Envelope.To)
}

func withReturnPath(c *illumicode.Config) {
	c.ReturnPath, c.Outbox.Poll = "bounces.ternisle.example", 10*time.Millisecond
}

// deliveryOf returns the delivery whose return path this is.
func deliveryOf(t *testing.T, k *illumicodetest.Kit, path string) string {
	t.Helper()
	local, _, _ := strings.Cut(path, "@")
	_, tail, found := strings.Cut(local, "+")
	if !found {
		tail = local
	}
	delivery, ok := flow.Of(k.Service).Keys.ReadReturnPath(tail, k.Service.Now())
	if !ok {
		t.Fatalf("%s is no return path of a letter", path)
	}
	return delivery
}

// takes gives the service feedback on a letter and waits until it is applied.
func takes(t *testing.T, k *illumicodetest.Kit, path string, kind report.Kind) store.Feedback {
	t.Helper()
	at := fmt.Sprint(time.Now().UnixNano())
	n, err := feedback.Take(t.Context(), k.Service, feedback.Feedback{Path: path, ID: at, Kind: kind, Status: "5.1.1",
		Text: "nobody"})
	if err != nil || n != 1 {
		t.Fatal(n, err)
	}
	delivery := deliveryOf(t, k, path)
	var last store.Feedback
	eventually(t, func() bool {
		all, err := flow.Of(k.Service).Store.FeedbackOn(t.Context(), delivery)
		if err == nil && len(all) > 0 {
			last = all[len(all)-1]
		}
		return last.State == store.FeedbackApplied
	})
	return last
}

func scopes(t *testing.T, k *illumicodetest.Kit, address string) (all []store.Scope) {
	t.Helper()
	story, err := desk.New(k.Service).Story(t.Context(), address)
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range story.Suppressed {
		all = append(all, store.Scope(s.Scope))
	}
	return all
}

// After a hard bounce nothing is sent but one challenge a day; a proof of that one ends it. A report
// about a letter from before the proof then changes nothing.
func TestBounceAndProof(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		svc, ctx := k.Service, t.Context()
		n := register(t, k, "7", mara)
		welcome := k.Letter(mara, n).EnvelopeFrom
		if len(welcome) != keyring.PathLength+len("@bounces.ternisle.example") {
			t.Fatalf("the envelope is from %q", welcome)
		}
		notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(1), To: illumicode.Request{Address: mara}})
		path := k.Letter(mara, n+1).EnvelopeFrom
		if f := takes(t, k, strings.ToUpper(path), report.HardBounce); f.Note != "the address has bounced" {
			t.Errorf("what followed: %q", f.Note)
		}
		if got := standings(t, k, "7")[mara]; got != store.Bounced || fmt.Sprint(scopes(t, k, mara)) != "[bounced]" {
			t.Errorf("it stands as %q, suppressed %v", got, scopes(t, k, mara))
		}
		d := ended(t,
			k, notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(2), To: illumicode.Request{Address: mara}}),
			store.Suppressed)
		if !strings.Contains(d.Note, "bounced") {
			t.Errorf("why the notice was kept back: %q", d.Note)
		}
		first := signIn(t, k, illumicode.Request{Address: mara})
		code := k.Letter(mara, n+2).Code()
		k.Clock.Move(2 * time.Minute)
		signIn(t, k, illumicode.Request{Address: mara}) // another challenge on the same day
		eventually(t, func() bool {
			sent, err := flow.Of(svc).Store.LettersTo(ctx, mara, mara, 1)
			return err == nil && sent[0].Letter == "signin" && sent[0].State == store.Suppressed
		})
		if _, err := svc.SignInCode(ctx, first.Ticket, code, nil); err != nil {
			t.Fatal(err)
		}
		if got := standings(t, k, "7")[mara]; got != store.Confirmed || len(scopes(t, k, mara)) != 0 {
			t.Errorf("after the proof it stands as %q, suppressed %v", got, scopes(t, k, mara))
		}
		if f := takes(t, k, path, report.HardBounce); !strings.HasPrefix(f.Note, "nothing") ||
			len(scopes(t, k, mara)) != 0 {
			t.Errorf("an old letter's bounce: %q, suppressed %v", f.Note, scopes(t, k, mara))
		}
		notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(3), To: illumicode.Request{Address: mara}})
		k.Letter(mara, n+3)
	}, withPier(t), withReturnPath)
}

// Letters that come back softly add up; a complaint keeps notices back and no code, and a proof does
// not end it.
func TestSoftBouncesAndComplaint(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		n := register(t, k, "7", mara)
		k.Clock.Move(time.Second)
		for i := range 3 {
			if got := standings(t, k, "7")[mara]; got != store.Confirmed {
				t.Fatalf("after %d soft bounces it is %q", i, got)
			}
			notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(i), To: illumicode.Request{Address: mara}})
			path := k.Letter(mara, n+1+i).EnvelopeFrom
			takes(t, k, path, report.SoftBounce)
			takes(t, k, path, report.SoftBounce) // twice for one letter is one letter
		}
		if got := standings(t, k, "7")[mara]; got != store.Bounced {
			t.Errorf("after three soft bounces it is %q", got)
		}
		register(t, k, "8", "jens@ternisle.example")
		takes(t, k, k.Letter("jens@ternisle.example", 1).EnvelopeFrom, report.Complaint)
		ended(t, k, notify(t, k,
			illumicode.Notice{Letter: "moved", Data: pier(9),
				To: illumicode.Request{Address: "jens@ternisle.example"}}), store.Suppressed)
		p := signIn(t, k, illumicode.Request{Address: "jens@ternisle.example"})
		if _, err := k.Service.SignInCode(t.Context(), p.Ticket, k.Letter("jens@ternisle.example", 2).Code(),
			nil); err != nil {
			t.Error(err)
		}
		if got := fmt.Sprint(scopes(t, k, "jens@ternisle.example")); got != "[notices]" {
			t.Errorf("after a complaint and a proof: %s", got)
		}
	}, withPier(t), withReturnPath, func(c *illumicode.Config) { c.Bounces.Soft = 3 })
}

// A forged report is about no letter: it suppresses nobody, however much it knows.
func TestForgedFeedback(t *testing.T) {
	k := illumicodetest.New(t, withReturnPath)
	n := register(t, k, "7", mara)
	l := k.Letter(mara, n)
	path := l.EnvelopeFrom
	stranger := keyring.GenerateKey(time.Now()).ReturnPath("0193579a-0b1c-7def-8123-456789abcdef") +
		"@bounces.ternisle.example"
	for _, forged := range []string{mara, stranger, "b" + path[1:], path[:keyring.PathLength-1] +
		"@bounces.ternisle.example", strings.Replace(path, "bounces.", "bounce.", 1), "crew@ternisle.example", ""} {
		_, err := feedback.Take(t.Context(), k.Service, feedback.Feedback{Path: forged, Kind: report.HardBounce})
		if err == nil || forged != "" && !errors.Is(err, feedback.ErrForeignPath) {
			t.Errorf("a report to %q was taken: %v", forged, err)
		}
	}
	if got := standings(t, k, "7")[mara]; got != store.Confirmed || len(scopes(t, k, mara)) != 0 {
		t.Errorf("forged reports made it %q, suppressed %v", got, scopes(t, k, mara))
	}
}

// A provider's word that overtakes the record of its own attempt waits for it. Replayed, out of order,
// or about a letter that nobody knows, it does no harm.
func TestFeedbackOvertakes(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		svc, st, ctx := k.Service, flow.Of(k.Service).Store, t.Context()
		hook := func(id, letter string, kind report.Kind) feedback.Feedback {
			return feedback.Feedback{Source: "harbour", Letter: letter, ID: id, Kind: kind, Status: "5.1.1"}
		}
		early := []feedback.Feedback{hook("2", "harbour-1", report.HardBounce),
			hook("1", "harbour-1", report.Delivered), hook("3", "never sent", report.HardBounce)}
		for _, want := range []int{3, 0} { // the second time all are repeats
			if n, err := feedback.Take(ctx, svc, early...); err != nil || n != want {
				t.Fatalf("%d were new, want %d; %v", n, want, err)
			}
		}
		time.Sleep(100 * time.Millisecond) // workers look, and find no attempt
		waiting, err := st.FeedbackIn(ctx, store.FeedbackWaiting, 10)
		if err != nil || len(waiting) != 3 {
			t.Fatalf("%d wait, %v", len(waiting), err)
		}
		id := notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(1), To: illumicode.Request{Address: mara}})
		ended(t, k, id, store.Sent)
		k.Clock.Move(time.Minute)
		var all []store.Feedback
		eventually(t, func() bool { all, err = st.FeedbackOn(ctx, id); return err == nil && len(all) == 2 })
		if got := report.Outcome(all[0].Kind, all[1].Kind); got != report.HardBounce {
			t.Errorf("the outcome is %q", got)
		}
		eventually(t, func() bool { return fmt.Sprint(scopes(t, k, mara)) == "[bounced]" })
		k.Clock.Move(25 * time.Hour)
		eventually(t, func() bool {
			aside, err := st.FeedbackIn(ctx, store.FeedbackAside, 10)
			return err == nil && len(aside) == 1 && aside[0].Remote == "never sent"
		})
	}, withPier(t), func(c *illumicode.Config) {
		c.Outbox.Poll = 10 * time.Millisecond
		c.Providers[0] = saying(func(string) provider.Result {
			return provider.Result{Class: retry.Accepted, ID: "harbour-1"}
		})
	})
}

// What a provider says of an id that it gave to two letters is set aside, and nobody is suppressed for it.
func TestOneIDTwice(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		for _, address := range []string{mara, "ole@skerry.example"} {
			ended(t, k, notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(1),
				To: illumicode.Request{Address: address}}), store.Sent)
		}
		if _, err := feedback.Take(t.Context(), k.Service, feedback.Feedback{Source: "harbour", Letter: "harbour-1",
			ID: "1", Kind: report.HardBounce, Status: "5.1.1"}); err != nil {
			t.Fatal(err)
		}
		var aside []store.Feedback
		eventually(t, func() bool {
			var err error
			aside, err = flow.Of(k.Service).Store.FeedbackIn(t.Context(), store.FeedbackAside, 10)
			return err == nil && len(aside) == 1
		})
		if !strings.Contains(aside[0].Note, "the same id to 2 letters") ||
			!strings.Contains(k.Logged(), "gives one id to several letters") {
			t.Errorf("set aside as %q; the log:\n%s", aside[0].Note, k.Logged())
		}
		if both := append(scopes(t, k, mara), scopes(t, k, "ole@skerry.example")...); len(both) != 0 {
			t.Errorf("suppressed: %v", both)
		}
	}, withPier(t), func(c *illumicode.Config) {
		c.Outbox.Poll = 10 * time.Millisecond
		c.Providers[0] = saying(func(string) provider.Result {
			return provider.Result{Class: retry.Accepted, ID: "harbour-1"}
		})
	})
}

// A provider that refuses the recipient has bounced the letter before it left.
func TestRefusedRecipient(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		for address, want := range map[string]string{"gone@ternisle.example": "[bounced]",
			"full@ternisle.example": "[]"} {
			id := notify(t,
				k, illumicode.Notice{Letter: "moved", Data: pier(1), To: illumicode.Request{Address: address}})
			ended(t, k, id, store.Failed)
			eventually(t, func() bool {
				all, err := flow.Of(k.Service).Store.FeedbackOn(t.Context(), id)
				return err == nil && len(all) == 1 && all[0].State == store.FeedbackApplied
			})
			if got := fmt.Sprint(scopes(t, k, address)); got != want {
				t.Errorf("%s: suppressed %s, want %s", address, got, want)
			}
		}
	}, withPier(t), func(c *illumicode.Config) {
		c.Outbox.Poll = 10 * time.Millisecond
		c.Providers[0] = saying(func(to string) provider.Result {
			if strings.HasPrefix(to, "gone") {
				return provider.Result{Class: retry.RecipientRefused, Code: 550, Enhanced: "5.1.1",
					Reply: "550 5.1.1 nobody"}
			}
			return provider.Result{Class: retry.RecipientRefused, Code: 552, Enhanced: "5.2.2", Reply: "552 5.2.2 full"}
		})
	})
}

func TestReturnPathConfig(t *testing.T) {
	k := illumicodetest.New(t, func(c *illumicode.Config) { c.ReturnPath = "Bounce@ternisle.example" })
	begin(t, k, "7")
	path := k.Letter(mara, 1).EnvelopeFrom
	deliveryOf(t, k, strings.ToUpper(path))
	if !strings.HasPrefix(path, "bounce+") || len(path) > 64+len("@ternisle.example") {
		t.Errorf("the return path is %q", path)
	}
	for bad, says := range map[string]string{
		"no domain": "neither a domain nor an address", "localhost": "neither", strings.Repeat("b", 22) +
			"@ternisle.example": "at most 21",
	} {
		c := illumicode.Config{Store: k.Service.Store(), Keys: k.Keys, From: address(t, "crew@ternisle.example"),
			Site: illumicode.Site{BaseURL: "http://127.0.0.1:1", Name: "Tern Isle Ferry"}, ReturnPath: bad}
		c.Providers = append(c.Providers, k.Way)
		if _, err := illumicode.New(c); err == nil || !strings.Contains(err.Error(), says) ||
			!strings.Contains(err.Error(), "ReturnPath") {
			t.Errorf("ReturnPath %q: %v, want an error that says %q", bad, err, says)
		}
	}
}

// Anybody can write a report. So a bounce is void if the proof of its letter came back, or if it comes nine days after
// the hand-over.
func TestBouncesAreWeighed(t *testing.T) {
	k := illumicodetest.New(t, withPier(t), withReturnPath)
	n := register(t, k, "7", mara)
	k.Clock.Move(time.Minute)
	p, err := k.Service.StepUp(t.Context(), "7", illumicode.Request{Address: mara},
		illumicode.Action{Exact: []byte("refund 12"), Words: "refund 12"})
	if err != nil {
		t.Fatal(err)
	}
	l := k.Letter(mara, n+1)
	if _, err := k.Service.Prove(t.Context(), p.Ticket, l.Code()); err != nil {
		t.Fatal(err)
	}
	if f := takes(t, k, l.EnvelopeFrom, report.HardBounce); f.Note != "nothing, as the proof of this letter came back" {
		t.Errorf("of a letter whose proof came back: %q", f.Note)
	}
	notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(1), To: illumicode.Request{Address: mara}})
	path := k.Letter(mara, n+2).EnvelopeFrom
	drained(t, k)
	k.Clock.Move(9 * 24 * time.Hour)
	if f := takes(t, k, path, report.HardBounce); !strings.Contains(f.Note, "more than eight days") {
		t.Errorf("nine days later: %q", f.Note)
	}
	if got := standings(t, k, "7")[mara]; got != store.Confirmed || len(scopes(t, k, mara)) != 0 {
		t.Errorf("it stands as %q, suppressed %v", got, scopes(t, k, mara))
	}
}

// What may have been sent was, once somebody tells of it; and it is not tried again unasked.
func TestReportSettlesUnknown(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		for kind, suppressed := range map[report.Kind]string{report.Delivered: "[]", report.HardBounce: "[bounced]"} {
			address := string(kind[:4]) + "@ternisle.example"
			id := notify(t, k, illumicode.Notice{Letter: "refund", Data: map[string]any{"amount": "12.00"},
				To: illumicode.Request{Address: address}})
			ended(t, k, id, store.Unknown)
			n, err := feedback.Take(t.Context(), k.Service, feedback.Feedback{Source: "harbour", Delivery: id,
				ID: string(kind), Kind: kind, Status: "5.1.1", Text: "told"})
			if err != nil || n != 1 {
				t.Fatal(n, err)
			}
			eventually(t, func() bool {
				d, err := flow.Of(k.Service).Store.Delivery(t.Context(), id)
				return err == nil && d.State == store.Sent
			})
			if got := fmt.Sprint(scopes(t, k, address)); got != suppressed {
				t.Errorf("%s: suppressed %s, want %s", kind, got, suppressed)
			}
		}
	}, withPier(t), func(c *illumicode.Config) {
		c.Outbox.Poll = 10 * time.Millisecond
		c.Providers[0] = saying(func(string) provider.Result { return provider.Result{Class: retry.Ambiguous} })
	})
}

// A report that comes between two attempts without an answer settles it as well.
func TestReportOvertakesUnknown(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		rows := flow.Of(k.Service).Store
		id := notify(t, k, illumicode.Notice{Letter: "moved", Data: pier(1)})
		eventually(t, func() bool {
			d, err := rows.Delivery(t.Context(), id)
			return err == nil && d.State == store.Waiting && d.Attempts == 1
		})
		if _, err := feedback.Take(t.Context(), k.Service, feedback.Feedback{Source: "harbour", Delivery: id, ID: id,
			Kind: report.Delivered}); err != nil {
			t.Fatal(err)
		}
		eventually(t, func() bool {
			all, err := rows.FeedbackOn(t.Context(), id)
			return err == nil && len(all) == 1 && all[0].State == store.FeedbackApplied
		})
		k.Clock.Move(3 * time.Hour)
		ended(t, k, id, store.Sent)
	}, withPier(t), func(c *illumicode.Config) {
		c.Outbox.Poll, c.Outbox.Retry.Base, c.Outbox.Retry.Attempts = 10*time.Millisecond, 2*time.Hour, 2
		c.Providers[0] = saying(func(string) provider.Result { return provider.Result{Class: retry.Ambiguous} })
	})
}
