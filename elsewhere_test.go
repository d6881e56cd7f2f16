package illumicode_test

import (
	"errors"
	"regexp"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/illumicodetest"
)

// Whatever strangers have used up, any letter of a sign-in lets its reader begin in another browser: for an hour, even
// superseded, burnt or expired, in two browsers, and no further. "This was not me" ends it.
func TestSignInElsewhere(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		n := register(t, k, "7", mara)
		svc, ctx := k.Service, t.Context()
		stranger := illumicode.Request{Address: mara}
		first := signIn(t, k, stranger)
		l := k.Letter(mara, n+1)
		link := k.Link(l)
		burn(t, k, first.Ticket, l.Code())
		stranger.Ticket = first.Ticket
		signIn(t, k, stranger) // supersedes it
		k.Letter(mara, n+2)
		for { // and uses up all that strangers have
			if _, err := svc.SignIn(ctx, illumicode.Request{Address: mara}); err != nil {
				break
			}
			n++
		}
		k.Clock.Move(45 * time.Minute)
		if in, err := svc.Inspect(ctx, "", link); !in.Elsewhere || err == nil {
			t.Fatalf("what the link is for: %+v, %v", in, err)
		}
		mine, err := svc.SignInElsewhere(ctx, link, illumicode.Request{Device: "Firefox on Linux"})
		if err != nil {
			t.Fatal(err)
		}
		same, err := svc.SignInElsewhere(ctx, link, illumicode.Request{Ticket: mine.Ticket})
		if err != nil || same.Ticket != mine.Ticket {
			t.Errorf("the same browser once more: %+v, %v", same, err)
		}
		l = k.Letter(mara, n+3)
		if _, err := svc.SignInElsewhere(ctx, k.Link(l), illumicode.Request{}); !errors.Is(err, illumicode.ErrInvalid) {
			t.Errorf("by the letter that was asked for in this way: %v", err)
		}
		if who, err := svc.SignInCode(ctx, mine.Ticket, l.Code(), nil); err != nil || who.Subject != "7" {
			t.Fatalf("its code: %+v, %v", who, err)
		}
		if _, err := svc.SignInElsewhere(ctx, link, illumicode.Request{}); err != nil {
			t.Errorf("a second browser: %v", err)
		}
		if _, err := svc.SignInElsewhere(ctx, link, illumicode.Request{}); !errors.Is(err, illumicode.ErrOtherBrowser) {
			t.Errorf("a third browser: %v", err)
		}
		k.Clock.Move(15 * time.Minute)
		if _, err := svc.SignInElsewhere(ctx, link, illumicode.Request{}); !errors.Is(err, illumicode.ErrExpired) {
			t.Errorf("after an hour: %v", err)
		}
	})
}

func TestSignInElsewhereEnds(t *testing.T) {
	k := illumicodetest.New(t)
	n := register(t, k, "7", mara)
	signIn(t, k, illumicode.Request{Address: mara})
	l := k.Letter(mara, n+1)
	link := k.Link(l)
	notMe := regexp.MustCompile(`/not-me\?t=(\S+)`).FindStringSubmatch(l.Text)[1]
	if err := k.Service.NotMe(t.Context(), illumicode.Link(notMe), nil); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Service.SignInElsewhere(t.Context(), link, illumicode.Request{}); !errors.Is(err,
		illumicode.ErrCalledOff) {
		t.Errorf("after \"this was not me\": %v", err)
	}
	signIn(t, k, illumicode.Request{Address: mara})
	link = k.Link(k.Letter(mara, n+2))
	if err := inTx(t, k, func(tx illumicode.Tx) error {
		return tx.Release(t.Context(), illumicode.Closing{Subject: "7"})
	}); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Service.SignInElsewhere(t.Context(), link, illumicode.Request{}); !errors.Is(err,
		illumicode.ErrCalledOff) {
		t.Errorf("of an account that was closed: %v", err)
	}
}
