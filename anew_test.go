package illumicode_test

import (
	"errors"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/illumicodetest"
)

// burn uses up the tries of a ticket's code.
func burn(t *testing.T, k *illumicodetest.Kit, ticket illumicode.Ticket, code string) {
	t.Helper()
	wrong := string('0'+(code[0]-'0'+1)%10) + code[1:]
	for range 5 {
		if _, err := k.Service.Prove(t.Context(), ticket, wrong); !errors.Is(err, illumicode.ErrWrongCode) {
			t.Fatalf("a wrong code: %v", err)
		}
	}
	if _, err := k.Service.Prove(t.Context(), ticket, code); !errors.Is(err, illumicode.ErrNoTries) {
		t.Fatalf("the right code, too late: %v", err)
	}
	k.Clock.Move(31 * time.Second)
}

// A letter that is sent again once the tries are used up carries no code that is dead on arrival: what begins anew has
// a ticket and a code of its own, and where the link is what is left the letter has nothing else.
func TestAfterTheTries(t *testing.T) {
	k := illumicodetest.New(t)
	ctx, svc := t.Context(), k.Service
	p, err := svc.Signup(ctx, illumicode.Request{Address: mara}, illumicode.Subject("a"))
	if err != nil {
		t.Fatal(err)
	}
	burn(t, k, p.Ticket, k.Letter(mara, 1).Code())
	if _, err := svc.ResendForOwner(ctx, mara); err != nil {
		t.Fatal(err)
	}
	if l := k.Letter(mara, 2); l.Code() != "" || l.Link() == "" {
		t.Errorf("an operator's letter:\n%s", l.Text)
	}
	k.Clock.Move(2 * time.Minute)
	again, err := svc.Signup(ctx, illumicode.Request{Address: mara, Ticket: p.Ticket}, illumicode.Subject("a"))
	if err != nil || again.Ticket == p.Ticket || again.TriesLeft != 5 {
		t.Fatalf("registering again: %+v, %v", again, err)
	}
	if err := svc.ConfirmCode(ctx, again.Ticket, k.Letter(mara, 3).Code(), nil); err != nil {
		t.Fatal(err)
	}

	action := illumicode.Action{Exact: []byte("refund 12"), Words: "refund 12"}
	k.Clock.Move(6 * time.Hour) // the wrong codes of before fade
	step, err := svc.StepUp(ctx, "a", illumicode.Request{Address: mara}, action)
	if err != nil {
		t.Fatal(err)
	}
	burn(t, k, step.Ticket, k.Letter(mara, 4).Code())
	next, err := svc.ResendForBrowser(ctx, step.Ticket)
	if err != nil || next.Ticket == step.Ticket {
		t.Fatalf("a step-up sent again: %+v, %v", next, err)
	}
	if err := svc.ActionCode(ctx, next.Ticket, k.Letter(mara, 5).Code(), action, nil); err != nil {
		t.Errorf("its code: %v", err)
	}

	k.Clock.Move(6 * time.Hour)
	const other = "new@skerry.example"
	change, err := svc.ChangeAddress(ctx, illumicode.Holding{Subject: "a", Address: mara},
		illumicode.Request{Address: other})
	if err != nil {
		t.Fatal(err)
	}
	first := k.Letter(other, 1)
	burn(t, k, change.Ticket, first.Code())
	if _, err := svc.ResendForBrowser(ctx, change.Ticket); !errors.Is(err, illumicode.ErrNoTries) {
		t.Errorf("a change sent again: %v, want that its link is left", err)
	}
	if err := svc.Confirm(ctx, k.Link(first), nil); err != nil {
		t.Errorf("its link: %v", err)
	}
}
