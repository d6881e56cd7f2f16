package illumicode_test

import (
	"context"
	"errors"
	"testing"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/flow"
)

// meddle changes rows behind the service's back, as whoever can write to the database does.
func meddle(t *testing.T, k *illumicodetest.Kit, sql string, args ...any) {
	t.Helper()
	words := flow.Of(k.Service).Store.Words
	result, err := k.Service.Store().DB().ExecContext(t.Context(), words(sql), args...)
	if err != nil {
		t.Fatal(err)
	}
	if n, err := result.RowsAffected(); err != nil || n != 1 {
		t.Fatalf("%s: %d rows, %v", sql, n, err)
	}
}

// run runs the workers of an idle kit until the test ends.
func run(t *testing.T, k *illumicodetest.Kit) {
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		k.Service.Run(ctx)
	}()
	t.Cleanup(func() { stop(); <-ended })
}

const thief = "skua@skerry.example"

// bound are the columns of a challenge that it is bound to, and what a thief would like to write there.
var bound = map[string]string{
	"id": "'another'", "kid": "'another'", "purpose": "'skipper'", "subject": "'victim'",
	"address": "'" + newMara + "'", "mailbox": "'" + newMara + "'", "action": "'another'", "ticket": "'another'",
	"decoy": "1 - decoy",
}

// Whoever writes to the database turns no challenge into one of somebody else: a code that was right is not, no
// letter goes out, and nothing is accepted, whichever of its columns was written to and whenever.
func TestChallengeIsBound(t *testing.T) {
	skipper := func(c *illumicode.Config) {
		c.Purposes = map[string]challenge.Purpose{"skipper": {Letter: "confirm"}}
	}
	for column, value := range bound {
		t.Run(column, func(t *testing.T) {
			const set = "UPDATE illumicode_challenge SET "
			k := illumicodetest.New(t, skipper)
			p := begin(t, k, "7")
			code := k.Letter(mara, 1).Code()
			meddle(t, k, set+column+" = "+value)
			if proof, err := k.Service.Prove(t.Context(), p.Ticket, code); err == nil {
				t.Errorf("a code proves %s for %s", proof.Address(), proof.Subject())
			}
			if proof, err := k.Service.ProveLink(t.Context(), k.Link(k.Letter(mara, 1))); err == nil {
				t.Errorf("a link proves %s for %s", proof.Address(), proof.Subject())
			}

			k = illumicodetest.New(t, skipper)
			p = begin(t, k, "7")
			proof, err := k.Service.Prove(t.Context(), p.Ticket, k.Letter(mara, 1).Code())
			if err != nil {
				t.Fatal(err)
			}
			meddle(t, k, set+column+" = "+value)
			if err := inTx(t, k, func(tx illumicode.Tx) error { return acceptIn(t, tx, proof) }); err == nil {
				t.Error("a proof is accepted whose challenge was changed since")
			}

			k = illumicodetest.Idle(t, skipper)
			begin(t, k, "7")
			meddle(t, k, set+column+" = "+value)
			run(t, k)
			if said := endedAs(t, k); said == "delivered" {
				t.Error("a letter went out")
			}
		})
	}
}

// endedAs waits until the only delivery has ended, and returns its state.
func endedAs(t *testing.T, k *illumicodetest.Kit) (state string) {
	t.Helper()
	st := k.Service.Store()
	for state == "" {
		err := st.DB().QueryRowContext(t.Context(), "SELECT state FROM illumicode_ended").Scan(&state)
		if err != nil && t.Context().Err() != nil {
			t.Fatal(err)
		}
	}
	return state
}

// A thief who begins a sign-in of their own and writes the victim's account into its row, or their own address into the
// delivery of a victim's, gets neither a session nor the victim's letter.
func TestReboundSignIn(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		register(t, k, "7", mara)
		n := register(t, k, "8", thief)
		p := signIn(t, k, illumicode.Request{Address: thief})
		code := k.Letter(thief, n+1).Code()
		const mine = " WHERE purpose = 'signin' AND mailbox = ?"
		meddle(t, k, "UPDATE illumicode_challenge SET subject = '7'"+mine, thief)
		if who, err := k.Service.SignInCode(t.Context(), p.Ticket, code, nil); err == nil {
			t.Errorf("signed in as %+v", who)
		}
		meddle(t, k, "UPDATE illumicode_challenge SET address = '"+mara+"', mailbox = '"+mara+"'"+mine, thief)
		if who, err := k.Service.SignInCode(t.Context(), p.Ticket, code, nil); !errors.Is(err, illumicode.ErrInvalid) {
			t.Errorf("signed in as %+v: %v", who, err)
		}
	})
}

func TestLetterOfProofGoesToItsChallenge(t *testing.T) {
	k := illumicodetest.Idle(t)
	begin(t, k, "7")
	meddle(t, k, "UPDATE illumicode_delivery SET address = '"+thief+"'")
	run(t, k)
	endedAs(t, k)
	if got := k.Inbox.Letters(thief); len(got) != 0 {
		t.Errorf("a letter with a proof of %s went to %s", mara, thief)
	}
}

// A change of address that somebody has written to is not made, is not told of, and gives no account away.
func TestChangeIsBound(t *testing.T) {
	for _, column := range []string{"subject", "old_address", "old_mailbox", "new_address", "new_mailbox", "kid"} {
		t.Run(column, func(t *testing.T) {
			k := illumicodetest.New(t)
			n := register(t, k, "7", mara)
			p, undo := changeTo(t, k, newMara, n+1)
			code := k.Letter(newMara, 1).Code()
			meddle(t, k, "UPDATE illumicode_change SET "+column+" = 'skua@skerry.example'")
			if _, err := k.Service.Undo(t.Context(), undo, nil); !errors.Is(err, illumicode.ErrInvalid) {
				t.Errorf("undo: %v", err)
			}
			if err := k.Service.ConfirmCode(t.Context(), p.Ticket, code, nil); !errors.Is(err, illumicode.ErrInvalid) &&
				!errors.Is(err, illumicode.ErrExpired) { // as for a key that is gone
				t.Errorf("the change is made: %v", err)
			}
		})
	}
}
