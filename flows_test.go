package illumicode_test

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/message"
)

// A step-up's proof is good for one action, once, and for nothing else.
func TestStepUp(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		n := register(t, k, "7", mara)
		pay := illumicode.Action{Exact: []byte("pay 250.00 to 8215"), Words: "pay 250.00 to Ines Amdal"}
		if _, err := k.Service.StepUp(t.Context(), "7", illumicode.Request{Address: newMara}, pay); !errors.Is(err,
			illumicode.ErrNotConfirmed) {
			t.Errorf("at an address that is not the subject's: %v", err)
		}
		p, err := k.Service.StepUp(t.Context(), "7", illumicode.Request{Address: mara}, pay)
		if err != nil {
			t.Fatal(err)
		}
		l := k.Letter(mara, n+1)
		if !strings.Contains(l.Text, "pay 250.00 to") || strings.Contains(l.Text, "/confirm?t=") {
			t.Errorf("the letter does not say what for, or has a link:\n%s", l.Text)
		}
		proof, err := k.Service.Prove(t.Context(), p.Ticket, l.Code())
		if err != nil {
			t.Fatal(err)
		}
		accept := func(a illumicode.Action) error {
			return inTx(t, k, func(tx illumicode.Tx) error { return tx.AcceptAction(t.Context(), proof, a) })
		}
		more := pay
		more.Exact = []byte("pay 2500.00 to 8215")
		if err := accept(more); !errors.Is(err, illumicode.ErrOtherAction) {
			t.Errorf("another action: %v", err)
		}
		if err := inTx(t, k, func(tx illumicode.Tx) error { return acceptIn(t, tx, proof) }); !errors.Is(err,
			illumicode.ErrPurpose) {
			t.Errorf("accepted without an action: %v", err)
		}
		if err := inTx(t, k, func(tx illumicode.Tx) error {
			_, err := tx.AcceptSignIn(t.Context(), proof)
			return err
		}); !errors.Is(err, illumicode.ErrPurpose) {
			t.Errorf("it signs in: %v", err)
		}
		if err := accept(pay); err != nil {
			t.Error(err)
		}
		if err := accept(pay); !errors.Is(err, illumicode.ErrUsed) {
			t.Errorf("the same action twice: %v", err)
		}
	})
}

// A person who got a letter that somebody else asked for can end it: its proofs are void.
func TestNotMe(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		n := register(t, k, "7", mara)
		p := signIn(t, k, illumicode.Request{Address: mara})
		l := k.Letter(mara, n+1)
		link := notMeToken(t, l.Text)
		if in, err := k.Service.Inspect(t.Context(), "", link); err != nil || in.Disowned.Address != mara ||
			in.Disowned.Done {
			t.Errorf("the page is told %+v, %v", in, err)
		}
		if _, err := k.Service.Pending(t.Context(), p.Ticket); err != nil {
			t.Errorf("looking has ended it: %v", err)
		}
		var told illumicode.Disowned
		calls := 0
		for range 2 {
			if err := k.Service.NotMe(t.Context(), link,
				func(_ context.Context, _ illumicode.Tx, d illumicode.Disowned) error {
					told, calls = d, calls+1
					return nil
				}); err != nil {
				t.Fatal(err)
			}
		}
		if calls != 1 || told.Subject != "7" || told.Purpose != "signin" || told.Done {
			t.Errorf("the application is told %d times, %+v", calls, told)
		}
		if _, err := k.Service.SignInCode(t.Context(), p.Ticket, l.Code(), nil); !errors.Is(err,
			illumicode.ErrCalledOff) {
			t.Errorf("the code afterwards: %v", err)
		}
		if _, err := k.Service.ResendForBrowser(t.Context(), p.Ticket); !errors.Is(err, illumicode.ErrCalledOff) {
			t.Errorf("a resend afterwards: %v", err)
		}
		// It has slowed guessing down, and a challenge of a stranger has fewer tries.
		p = signIn(t, k, illumicode.Request{Address: mara})
		_, err := k.Service.SignInCode(t.Context(), p.Ticket, "000 000", nil)
		if wrong, ok := errors.AsType[*illumicode.WrongCodeError](err); !ok || wrong.TriesLeft > 2 {
			t.Errorf("after it a challenge still has many tries: %v", err)
		}
	})
}

// meanwhile calls do while a transaction in which accept has worked is open, and commits that when do has
// read what stood before and waits.
func meanwhile(t *testing.T, k *illumicodetest.Kit, accept func(illumicode.Tx) error, do func() error) error {
	t.Helper()
	done := make(chan error, 1)
	if err := inTx(t, k, func(tx illumicode.Tx) error {
		if err := accept(tx); err != nil {
			return err
		}
		go func() { done <- do() }()
		time.Sleep(100 * time.Millisecond)
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	return <-done
}

// A person can press "this was not me" in the moment in which a stranger's code is accepted. They learn
// that it was: the application must end that session.
func TestNotMeTooLate(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		n := register(t, k, "7", mara)
		p := signIn(t, k, illumicode.Request{Address: mara})
		l := k.Letter(mara, n+1)
		proof, err := k.Service.Prove(t.Context(), p.Ticket, l.Code())
		if err != nil {
			t.Fatal(err)
		}
		var told illumicode.Disowned
		err = meanwhile(t, k, func(tx illumicode.Tx) error {
			_, err := tx.AcceptSignIn(t.Context(), proof)
			return err
		}, func() error {
			return k.Service.NotMe(t.Context(), notMeToken(t, l.Text),
				func(_ context.Context, _ illumicode.Tx, d illumicode.Disowned) error { told = d; return nil })
		})
		if err != nil || !told.Done || told.Subject != "7" {
			t.Errorf("the application is told %+v, %v", told, err)
		}
	})
}

// A mistyped address is corrected by the browser that began: the first letter's proof is void.
func TestCorrect(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		begun, err := k.Service.Signup(t.Context(),
			illumicode.Request{Address: "nara@ternisle.example", Name: "Mara Quist", Locale: "de"},
			illumicode.Subject("7"))
		if err != nil {
			t.Fatal(err)
		}
		wrong := k.Link(k.Letter("nara@ternisle.example", 1))
		fixed, err := k.Service.Correct(t.Context(), begun.Ticket, illumicode.Request{Address: mara}, nil)
		if err != nil || fixed.Ticket == begun.Ticket || fixed.Address != mara {
			t.Fatalf("%+v, %v", fixed, err)
		}
		if l := k.Letter(mara, 1); !strings.Contains(l.Text, "Guten Tag Mara Quist") {
			t.Errorf("the letter to the right address greets nobody:\n%s", l.Text)
		}
		if err := k.Service.Confirm(t.Context(), wrong, nil); !errors.Is(err, illumicode.ErrCalledOff) {
			t.Errorf("the link to the mistyped address: %v", err)
		}
		if _, err := k.Service.Correct(t.Context(), fixed.Ticket, illumicode.Request{Address: "x@ternisle.example"},
			nil); !errors.Is(err, illumicode.ErrTooSoon) {
			t.Errorf("a second correction at once: %v", err)
		}
		if err := k.Service.ConfirmCode(t.Context(), fixed.Ticket, k.Letter(mara, 1).Code(), nil); err != nil {
			t.Error(err)
		}
		if got := standings(t, k, "7"); len(got) != 1 || got[mara] != store.Confirmed {
			t.Errorf("afterwards: %v", got)
		}
		if _, err := k.Service.Correct(t.Context(), fixed.Ticket, illumicode.Request{Address: newMara},
			nil); !errors.Is(err, illumicode.ErrUsed) {
			t.Errorf("corrected after the proof: %v", err)
		}
		// A change of address is corrected, too; the old address is told again, and the application's own
		// row stays as it is until the proof.
		n := len(k.Inbox.Letters(mara))
		changing, _ := changeTo(t, k, "wrnog@skerry.example", n+1)
		k.Letter("wrnog@skerry.example", 1)
		changing, err = k.Service.Correct(t.Context(), changing.Ticket, illumicode.Request{Address: newMara},
			func(context.Context, illumicode.Tx, string) error {
				t.Error("the application is told of a change that is not in effect")
				return nil
			})
		if err != nil {
			t.Fatal(err)
		}
		if l := k.Letter(mara, n+2); !strings.Contains(l.Text, newMara) {
			t.Errorf("the old address is told:\n%s", l.Text)
		}
		if err := k.Service.ConfirmCode(t.Context(), changing.Ticket, k.Letter(newMara, 1).Code(), nil); err != nil {
			t.Error(err)
		}
		// An address that is taken is answered alike, and nobody is written to.
		p, err := k.Service.Signup(t.Context(), illumicode.Request{Address: "typo@ternisle.example"},
			illumicode.Subject("8"))
		if err != nil {
			t.Fatal(err)
		}
		drained(t, k)
		letters := len(k.Inbox.Letters(mara))
		if p, err = k.Service.Correct(t.Context(), p.Ticket, illumicode.Request{Address: mara},
			func(context.Context, illumicode.Tx, string) error { return illumicode.ErrOccupied }); err != nil {
			t.Errorf("an address that is taken: %v", err)
		}
		drained(t, k)
		if n := len(k.Inbox.Letters(mara)); n != letters {
			t.Errorf("%d letters to an address that is taken", n-letters)
		}
		k.Clock.Move(2 * time.Minute) // and whoever mistyped into another one's address can mend that
		if p, err = k.Service.Correct(t.Context(), p.Ticket, illumicode.Request{Address: "mine@ternisle.example"},
			nil); err != nil {
			t.Fatal(err)
		}
		if err := k.Service.ConfirmCode(t.Context(), p.Ticket, k.Letter("mine@ternisle.example", 1).Code(),
			nil); err != nil || !confirmed(t, k, "8") {
			t.Errorf("corrected from an address that was taken: %v", err)
		}
	})
}

// The application's wishes around a signup: addresses that it refuses, and a welcome.
func TestAdmitAndWelcome(t *testing.T) {
	if _, err := message.RefuseDomains("fine.example\nnot a domain\n"); err == nil ||
		!strings.Contains(err.Error(), "line 2") {
		t.Errorf("a list with a mistake: %v", err)
	}
	refuse, err := message.RefuseDomains("# mailboxes of an hour\nthrowaway.example # all of it\n\nTörnholm.example\n")
	if err != nil {
		t.Fatal(err)
	}
	k := illumicodetest.New(t, func(c *illumicode.Config) { c.Admit, c.Welcome = refuse, true })
	for address, want := range map[string]bool{"a@throwaway.example": false, "a@mail.Throwaway.example": false,
		"a@xn--trnholm-90a.example": false,
		"a@notthrowaway.example":    true, mara: true} {
		_, err := k.Service.Admit(t.Context(), illumicode.Request{Address: address})
		if (err == nil) != want || err != nil && !errors.Is(err, message.ErrAddress) {
			t.Errorf("%s: %v", address, err)
		}
	}
	n := register(t, k, "7", mara)
	if l := k.Letter(mara, n+1); !strings.HasPrefix(l.Subject, "Welcome") || !strings.Contains(l.Text, "Hello Mara") {
		t.Errorf("after the confirmation:\n%s", l.Text)
	}
}

// Before they leave, and after, the letters of all flows can be looked at, with every secret masked.
func TestPreviewOfFlows(t *testing.T) {
	k := illumicodetest.Idle(t)
	svc, ctx := k.Service, t.Context()
	if err := desk.New(svc).Confirm(ctx, illumicode.Holding{Subject: "7", Address: mara}, "for this test"); err != nil {
		t.Fatal(err)
	}
	signIn(t, k, illumicode.Request{Address: mara})
	if _, err := svc.StepUp(ctx, "7", illumicode.Request{Address: mara},
		illumicode.Action{Exact: []byte("x"), Words: "sink the ferry"}); err != nil {
		t.Fatal(err)
	}
	if _, err := svc.ChangeAddress(ctx, illumicode.Holding{Subject: "7", Address: mara},
		illumicode.Request{Address: newMara}); err != nil {
		t.Fatal(err)
	}
	for to, want := range map[string]map[string]string{
		mara:    {"signin": "•••", "stepup": "sink", "address-change": newMara},
		newMara: {"reverify": "/confirm?t=•••"},
	} {
		all, err := flow.Of(svc).Store.LettersTo(ctx, to, to, 10)
		if err != nil || len(all) != len(want) {
			t.Fatalf("%d letters to %s, %v", len(all), to, err)
		}
		for _, d := range all {
			p, err := desk.New(svc).Preview(ctx, d.ID)
			if err != nil || !strings.Contains(p.Text, want[d.Letter]) || !strings.Contains(p.Text, "/not-me?t=•••") ||
				strings.Contains(p.Text, "eyJ") {
				t.Errorf("%s: %v\n%s", d.Letter, err, p.Text)
			}
		}
	}
}
