package illumicode_test

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/limit"
)

// plenty is a rule that refuses nobody in a test.
var plenty = limit.Rule{Name: "plenty", By: limit.All, Quota: limit.Quota{Times: 1_000_000, Window: limit.Month}}

// signedIn signs a subject's browser in and returns what makes it known. The subject has got n letters.
func signedIn(t *testing.T, k *illumicodetest.Kit, r illumicode.Request, n *int) string {
	t.Helper()
	p := signIn(t, k, r)
	*n++
	who, err := k.Service.SignInCode(t.Context(), p.Ticket, k.Letter(mara, *n).Code(), nil)
	if err != nil {
		t.Fatal(err)
	}
	return who.Browser
}

func browsers(t *testing.T, k *illumicodetest.Kit) []illumicode.Browser {
	t.Helper()
	all, err := k.Service.Browsers(t.Context(), "7")
	if err != nil {
		t.Fatal(err)
	}
	return all
}

// known reports whether a value makes a browser known: its sign-in finds room where strangers have taken all.
func known(t *testing.T, k *illumicodetest.Kit, value string) bool {
	t.Helper()
	_, err := k.Service.SignIn(t.Context(), illumicode.Request{Address: mara, Browser: value})
	if err != nil && !errors.Is(err, illumicode.ErrTooSoon) {
		t.Fatal(err)
	}
	return err == nil
}

// Ten browsers of a subject are known, and the one that has not signed in for longest goes. Each is one row, however
// often it signs in, and is gone when it is revoked, or after half a year.
func TestKnownBrowsers(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		n := register(t, k, "7", mara)
		var values []string
		for i := range 12 {
			k.Clock.Move(16 * time.Minute) // past the places that open challenges take
			values = append(values, signedIn(t, k, illumicode.Request{Address: mara,
				Device: fmt.Sprintf("Firefox on Linux %d\n", i)}, &n))
		}
		all := browsers(t, k)
		if len(all) != 10 || all[0].Name != "Firefox on Linux 11" || all[9].Name != "Firefox on Linux 2" {
			t.Fatalf("known are %+v", all)
		}
		k.Clock.Move(16 * time.Minute)
		again := signedIn(t, k, illumicode.Request{Address: mara, Browser: values[2], Device: "Firefox on Android"}, &n)
		if now := browsers(t, k); len(now) != 10 || now[0].ID != all[9].ID || now[0].Name != "Firefox on Android" ||
			!now[0].Used.After(all[9].Used) || !now[0].Since.Equal(all[9].Since) || again != values[2] {
			t.Errorf("a browser that signs in once more: %+v", now)
		}

		for range 3 { // strangers take all places
			signIn(t, k, illumicode.Request{Address: mara})
		}
		if known(t, k, values[0]) {
			t.Error("the eleventh is known still")
		}
		if !known(t, k, values[3]) {
			t.Error("one of ten is not known")
		}
		revoked := browsers(t, k)[9]
		if err := inTx(t, k, func(tx illumicode.Tx) error {
			if ok, err := tx.RevokeBrowser(t.Context(), "8", revoked); err != nil || ok {
				t.Errorf("somebody else's browser is revoked: %v, %v", ok, err)
			}
			ok, err := tx.RevokeBrowser(t.Context(), "7", revoked)
			if !ok {
				t.Errorf("revoked: %v, %v", ok, err)
			}
			return err
		}); err != nil {
			t.Fatal(err)
		}
		if known(t, k, values[3]) {
			t.Error("a browser that was revoked is known")
		}
		k.Clock.Move(181 * 24 * time.Hour)
		for range 3 {
			signIn(t, k, illumicode.Request{Address: mara})
		}
		if known(t, k, values[11]) {
			t.Error("a browser is known after half a year")
		}
		if err := inTx(t, k, func(tx illumicode.Tx) error {
			_, err := tx.RevokeBrowsers(t.Context(), "7")
			return err
		}); err != nil {
			t.Fatal(err)
		}
		if left := browsers(t, k); len(left) != 0 {
			t.Errorf("after all were revoked: %+v", left)
		}
	}, withLimits(plenty))
}

// Each known browser has a letter a day of its own, and all of a subject together have what the rules give an address.
func TestLettersOfKnownBrowsers(t *testing.T) {
	k := illumicodetest.New(t, withLimits(limit.Rule{Name: "address", By: limit.Address,
		Rate: limit.Rate{Times: 4, Per: 90 * 24 * time.Hour, Burst: 4}}))
	n := register(t, k, "7", mara)
	var values []string
	for range 3 {
		k.Clock.Move(16 * time.Minute)
		values = append(values, signedIn(t, k, illumicode.Request{Address: mara}, &n))
	}
	if _, err := k.Service.SignIn(t.Context(), illumicode.Request{Address: mara}); !errors.Is(err,
		illumicode.ErrTooSoon) {
		t.Fatalf("strangers have more than the rule says: %v", err)
	}
	count := func() (letters int) {
		for range 10 {
			k.Clock.Move(time.Hour)
			for _, value := range values {
				if known(t, k, value) {
					letters++
				}
			}
		}
		return letters
	}
	if got := count(); got != 3+4 {
		t.Errorf("three known browsers got %d letters in a day, want one each and four together", got)
	}
	k.Clock.Move(24 * time.Hour)
	if got := count(); got != 3 {
		t.Errorf("and %d the day after, want one each", got)
	}
}

// Each known browser has three tries a day of its own, all of a subject have twenty more, and what goes beyond these
// counts as a stranger's.
func TestTriesOfKnownBrowsers(t *testing.T) {
	k := illumicodetest.New(t, withLimits(plenty), func(c *illumicode.Config) {
		c.SignIn = challenge.Policy{Tries: 20}
	})
	n := register(t, k, "7", mara)
	var values [2]string
	for i := range values {
		k.Clock.Move(16 * time.Minute)
		values[i] = signedIn(t, k, illumicode.Request{Address: mara}, &n)
	}
	var begun []illumicode.Pending
	for _, value := range values {
		begun = append(begun, signIn(t, k, illumicode.Request{Address: mara, Browser: value}))
		n++
		k.Letter(mara, n)
	}
	guess := func(p illumicode.Pending) float64 {
		t.Helper()
		if _, err := k.Service.SignInCode(t.Context(), p.Ticket, "000000", nil); !errors.Is(err,
			illumicode.ErrWrongCode) {
			t.Fatal(err)
		}
		story, err := desk.New(k.Service).Story(t.Context(), mara)
		if err != nil {
			t.Fatal(err)
		}
		return story.Failures
	}
	for i := range 3 + 3 + 20 {
		if failures := guess(begun[i%2]); failures != 0 {
			t.Fatalf("the try %d of known browsers slows strangers down: %v", i+1, failures)
		}
	}
	if failures := guess(begun[0]); failures == 0 {
		t.Error("tries of known browsers are without end")
	}
}

// "This was not me" makes the browser unknown that began, or that has signed in by it; all of them with one more press.
func TestNotMeRevokes(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		n := register(t, k, "7", mara)
		var values []string
		for range 3 {
			k.Clock.Move(16 * time.Minute)
			values = append(values, signedIn(t, k, illumicode.Request{Address: mara}, &n))
		}
		late := notMeToken(t, k.Letter(mara, n).Text) // has signed in
		signIn(t, k, illumicode.Request{Address: mara, Browser: values[0]})
		n++
		early := notMeToken(t, k.Letter(mara, n).Text)
		for i, link := range []illumicode.Link{late, early} {
			if err := k.Service.NotMe(t.Context(), link, nil); err != nil {
				t.Fatal(err)
			}
			if left := browsers(t, k); len(left) != 2-i {
				t.Errorf("%d browsers are known after %d of three were disowned", len(left), i+1)
			}
		}
		for range 2 {
			if err := k.Service.RevokeByLink(t.Context(), early); err != nil {
				t.Fatal(err)
			}
		}
		if left := browsers(t, k); len(left) != 0 {
			t.Errorf("after all were revoked: %+v", left)
		}
		if err := k.Service.RevokeByLink(t.Context(), k.Link(k.Letter(mara, n))); !errors.Is(err,
			illumicode.ErrInvalid) {
			t.Errorf("by another link: %v", err)
		}
	}, withLimits(plenty))
}

// A browser that was revoked while it signs in is known under another name: a copy of its cookie counts no more.
func TestRevokedStaysUnknown(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		n := register(t, k, "7", mara)
		k.Clock.Move(16 * time.Minute)
		stolen := signedIn(t, k, illumicode.Request{Address: mara}, &n)
		k.Clock.Move(16 * time.Minute)
		p := signIn(t, k, illumicode.Request{Address: mara, Browser: stolen})
		err := k.Service.Transact(t.Context(), func(ctx context.Context, tx illumicode.Tx) error {
			_, err := tx.RevokeBrowsers(ctx, "7")
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
		who, err := k.Service.SignInCode(t.Context(), p.Ticket, k.Letter(mara, n+1).Code(), nil)
		if err != nil {
			t.Fatal(err)
		}
		k.Clock.Move(16 * time.Minute)
		for range 3 { // strangers take all places
			signIn(t, k, illumicode.Request{Address: mara})
		}
		if known(t, k, stolen) || !known(t, k, who.Browser) {
			t.Error("the copy of a cookie that was revoked counts again, or the browser itself does not")
		}
	})
}
