package illumicode_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
	"github.com/illumicode/illumicode/route"
)

// badDays are what can happen to letters on their way.
var badDays = map[string]func(*illumicode.Config){
	"all is well":     func(*illumicode.Config) {},
	"nobody delivers": func(c *illumicode.Config) { c.Providers = []provider.Provider{answering(retry.Transient)} },
	"recipient refused": func(c *illumicode.Config) {
		c.Providers = []provider.Provider{answering(retry.RecipientRefused)}
	},
	"cap used up": func(c *illumicode.Config) {
		c.Outbox.Terms = map[string]route.Terms{"inbox": {Caps: route.Caps{PerDay: 1}}}
	},
	"lost answers": func(c *illumicode.Config) { c.Providers = []provider.Provider{answering(retry.Ambiguous)} },
}

// answering returns a provider that answers all letters but those of signups with a class.
func answering(class retry.Class) provider.Provider {
	return saying(func(string) provider.Result { return provider.Result{Class: class, Reply: "as it is today"} })
}

// How a provider fares tells nobody whether an address has an account: not what a wrong code is answered, at whatever
// time, nor how often a letter can be asked for again, nor when, nor when there is room for another.
func TestDelayTellsNothing(t *testing.T) {
	for day, change := range badDays {
		t.Run(day, func(t *testing.T) {
			t.Parallel()
			answers := make(map[string][]string)
			for _, address := range []string{mara, "nobody@ternisle.example"} {
				k := illumicodetest.New(t, change)
				holding := illumicode.Holding{Subject: "7", Address: mara}
				if err := desk.New(k.Service).Confirm(t.Context(), holding, "for the test"); err != nil {
					t.Fatal(err)
				}
				answers[address] = ask(t, k, address)
			}
			if known, unknown := answers[mara], answers["nobody@ternisle.example"]; !slices.Equal(known, unknown) {
				for i := range known {
					if known[i] != unknown[i] {
						t.Errorf("with an account: %s\n   without one: %s", known[i], unknown[i])
					}
				}
			}
		})
	}
}

// ask does what a stranger can do with an address over an hour and more, and returns all answers.
func ask(t *testing.T, k *illumicodetest.Kit, address string) (answers []string) {
	t.Helper()
	start := k.Clock.Now()
	say := func(what string, err error) {
		t.Helper()
		soon, isSoon := errors.AsType[*illumicode.TooSoonError](err)
		if wrong, ok := errors.AsType[*illumicode.WrongCodeError](err); ok {
			what += fmt.Sprint(", tries left ", wrong.TriesLeft)
		}
		if isSoon {
			what += fmt.Sprint(", again after ", soon.At.Sub(start).Round(5*time.Second), " by ", soon.Rule)
		}
		answers = append(answers, fmt.Sprint(k.Clock.Now().Sub(start).Round(5*time.Second), " ", what, ": ", err))
	}
	p, err := k.Service.SignIn(t.Context(), illumicode.Request{Address: address})
	say("sign-in", err)
	var other illumicode.Pending
	for _, minutes := range []int{1, 6, 9, 12, 20, 33, 45, 59, 62} {
		k.Clock.Move(start.Add(time.Duration(minutes) * time.Minute).Sub(k.Clock.Now()))
		settle(t, k)
		_, err := k.Service.SignInCode(t.Context(), p.Ticket, "000000", nil)
		say("a wrong code", err)
		shown, err := k.Service.ResendForBrowser(t.Context(), p.Ticket)
		say("send again", err)
		if err == nil {
			say(fmt.Sprint("and again at ", shown.ResendAfter.Sub(start).Round(5*time.Second)), nil)
		}
		if other, err = k.Service.SignIn(t.Context(), illumicode.Request{Address: address}); err == nil {
			say(fmt.Sprint("another, until ", other.Ends.Sub(start).Round(5*time.Second)), nil)
		} else {
			say("another", err)
		}
		settle(t, k)
	}
	return answers
}

// settle lets workers look at what waits.
func settle(t *testing.T, k *illumicodetest.Kit) {
	t.Helper()
	k.Service.Wake()
	time.Sleep(100 * time.Millisecond)
}

// A code that was sent and is late is told so, costs a try and opens nothing; one that was never sent does not fit.
func TestLateCode(t *testing.T) {
	k := illumicodetest.New(t)
	n := register(t, k, "7", mara)
	p := signIn(t, k, illumicode.Request{Address: mara})
	code := k.Letter(mara, n+1).Code()
	k.Clock.Move(11 * time.Minute)
	_, err := k.Service.SignInCode(t.Context(), p.Ticket, "000000", nil)
	if wrong, ok := errors.AsType[*illumicode.WrongCodeError](err); !ok || wrong.TriesLeft != 4 {
		t.Errorf("a wrong code after the end of the right one: %v", err)
	}
	if _, err := k.Service.SignInCode(t.Context(), p.Ticket, code, func(context.Context, illumicode.Tx,
		illumicode.SignedIn) error {
		t.Error("a late code signs in")
		return nil
	}); !errors.Is(err, illumicode.ErrExpired) {
		t.Errorf("the right code, late: %v", err)
	}
	if shown, err := k.Service.Pending(t.Context(), p.Ticket); err != nil || shown.TriesLeft != 3 {
		t.Errorf("after two tries %d are left, %v", shown.TriesLeft, err)
	}
	if _, err := k.Service.ResendForBrowser(t.Context(), p.Ticket); err != nil {
		t.Fatal(err)
	}
	fresh := k.Letter(mara, n+2).Code()
	if _, err := k.Service.SignInCode(t.Context(), p.Ticket, code, nil); !errors.Is(err, illumicode.ErrExpired) {
		t.Errorf("the code of the generation before: %v", err)
	}
	if _, err := k.Service.SignInCode(t.Context(), p.Ticket, strings.ReplaceAll(fresh, " ", ""), nil); err != nil {
		t.Errorf("the fresh code: %v", err)
	}
}
