package illumicode_test

import (
	"errors"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/core/report"
)

// A stranger who asks for codes at an address once a minute, all day and from one network, takes what the rules let
// through. Its owner, on a browser that nobody knows and in another network, gets a share nevertheless, and what they
// have is not ended. It is the same where nobody has an account.
func TestFairPlaces(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		register(t, k, "7", mara)
		var got [2]int
		for i, address := range []string{mara, "nobody@ternisle.example"} {
			stranger, owner := from(t, "203.0.113.7"), from(t, "198.51.100.9")
			last := time.Time{}
			for minute := range 12 * 60 {
				k.Clock.Move(time.Minute)
				if _, err := k.Service.SignIn(stranger, illumicode.Request{Address: address}); err != nil &&
					!errors.Is(err, illumicode.ErrTooSoon) {
					t.Fatal(err)
				}
				if minute%10 != 9 {
					continue
				}
				p, err := k.Service.SignIn(owner, illumicode.Request{Address: address})
				switch {
				case err == nil:
					got[i], last = got[i]+1, k.Clock.Now()
				case !errors.Is(err, illumicode.ErrTooSoon):
					t.Fatal(err)
				}
				if err == nil {
					if shown, err := k.Service.Pending(t.Context(), p.Ticket); err != nil || shown.Confirmed {
						t.Errorf("what the owner has: %+v, %v", shown, err)
					}
				}
			}
			if last.IsZero() {
				t.Error("the owner got nothing")
			}
		}
		if got[0] < 5 || got[0] != got[1] {
			t.Errorf("the owner got %d of 72 letters, who has no account %d", got[0], got[1])
		}
	})
}

// A bounced address gets one challenge a day, and a few more for networks that have had fewer than who asked first.
func TestFairPlacesAfterABounce(t *testing.T) {
	k := illumicodetest.New(t, withReturnPath)
	n := register(t, k, "7", mara)
	k.Clock.Move(time.Minute)
	signIn(t, k, illumicode.Request{Address: mara})
	takes(t, k, k.Letter(mara, n+1).EnvelopeFrom, report.HardBounce)
	k.Clock.Move(25 * time.Hour)
	for range 3 { // a stranger, who has forged the bounce, asks first
		if _, err := k.Service.SignIn(from(t, "203.0.113.7"), illumicode.Request{Address: mara}); err != nil {
			t.Fatal(err)
		}
	}
	k.Letter(mara, n+2)
	p, err := k.Service.SignIn(from(t, "198.51.100.9"), illumicode.Request{Address: mara})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := k.Service.SignInCode(t.Context(), p.Ticket, k.Letter(mara, n+3).Code(), nil); err != nil {
		t.Errorf("the owner's code: %v", err)
	}
	if got := scopes(t, k, mara); len(got) != 0 {
		t.Errorf("after the proof it is suppressed: %v", got)
	}
}
