package illumicode_test

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/limit"
	"github.com/illumicode/illumicode/message"
)

// The spellings of one mailbox are one to the limits, and letters go to the address as it was confirmed: a sign that
// looks like a letter must not lead them elsewhere.
func TestOneMailbox(t *testing.T) {
	k := illumicodetest.New(t, func(c *illumicode.Config) {
		c.Conventions = map[string]message.Convention{"letters.example": {IgnoresDots: true, Signs: "+-"}}
		c.Limits = []limit.Rule{{Name: "one", By: limit.Address, On: []string{"signup"}, Stage: limit.First,
			Quota: limit.Quota{Times: 1, Window: limit.Month}}}
	})
	begins := func(address string) error {
		_, err := k.Service.Signup(t.Context(), illumicode.Request{Address: address}, illumicode.Subject(address))
		return err
	}
	if err := begins("kari@letters.example"); err != nil {
		t.Fatal(err)
	}
	for _, same := range []string{"k.ari@letters.example", "Kari+news@letters.example", "ka.r.i-2@LETTERS.example",
		"\u212Aari@letters.example"} {
		if err := begins(same); !errors.Is(err, illumicode.ErrTooSoon) {
			t.Errorf("%s is another mailbox to the limits: %v", same, err)
		}
	}
	for _, other := range []string{"karin@letters.example", "kari@ternisle.example", "k.ari@ternisle.example"} {
		if err := begins(other); err != nil {
			t.Errorf("%s: %v", other, err)
		}
	}
	if err := k.Service.Confirm(t.Context(), k.Link(k.Letter("kari@letters.example", 1)), nil); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Service.StepUp(t.Context(), "kari@letters.example",
		illumicode.Request{Address: "\u212Aari@letters.example"},
		illumicode.Action{Exact: []byte("x"), Words: "x"}); err != nil {
		t.Fatal(err)
	}
	k.Letter("kari@letters.example", 2)
}

// Every change of address is told to the old one, so that a session cannot flood it: it counts there, too.
func TestChangesCountAtTheOldAddress(t *testing.T) {
	k := illumicodetest.New(t, func(c *illumicode.Config) {
		c.Limits = []limit.Rule{{Name: "day", By: limit.Address, On: []string{"reverify"},
			Rate: limit.Rate{Times: 3, Per: 24 * time.Hour, Burst: 3}}}
	})
	register(t, k, "7", mara)
	for i := range 5 {
		_, err := k.Service.ChangeAddress(t.Context(), illumicode.Holding{Subject: "7", Address: mara},
			illumicode.Request{Address: fmt.Sprintf("new%d@skerry.example", i)})
		if refused := errors.Is(err, illumicode.ErrTooSoon); refused != (i >= 3) || err != nil && !refused {
			t.Errorf("change %d: %v", i+1, err)
		}
	}
}
