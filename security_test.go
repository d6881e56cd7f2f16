package illumicode_test

import (
	"context"
	"errors"
	"fmt"
	"math"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/internal/storetest"
	"github.com/illumicode/illumicode/store/sqlite"
)

// How long a sign-in takes does not tell whether an address has an account: over many requests of
// each kind in turn, one of those with an account takes longer than one of those without in half of
// all pairs. (The share of pairs is what Mann and Whitney's U counts; with as many as here it strays
// from a half by a fortieth.)
func TestSignInTimingTellsNothing(t *testing.T) {
	const each = 400
	k := illumicodetest.Idle(t)
	people := func(yield func(desk.Backfill, error) bool) {
		for i := range each {
			if !yield(desk.Backfill{Line: i, Subject: fmt.Sprint(i),
				Address: fmt.Sprintf("known%d@ternisle.example", i), Standing: "confirmed"}, nil) {
				return
			}
		}
	}
	if _, err := desk.New(k.Service).Import(t.Context(), people, desk.ImportOptions{}); err != nil {
		t.Fatal(err)
	}
	var begin, wrong [2][]float64
	for i := range each {
		for _, kind := range []int{i % 2, 1 - i%2} { // in turn, neither always first
			address := fmt.Sprintf([]string{"known%d@ternisle.example", "nobod%d@ternisle.example"}[kind], i)
			start := time.Now()
			p, err := k.Service.SignIn(t.Context(), illumicode.Request{Address: address})
			begun := time.Now()
			if err != nil {
				t.Fatal(err)
			}
			if _, err := k.Service.SignInCode(t.Context(), p.Ticket, "000000", nil); !errors.Is(err,
				illumicode.ErrWrongCode) {
				t.Fatal(err)
			}
			begin[kind] = append(begin[kind], begun.Sub(start).Seconds())
			wrong[kind] = append(wrong[kind], time.Since(begun).Seconds())
		}
	}
	for what, times := range map[string][2][]float64{"to ask for a code": begin, "to try a wrong one": wrong} {
		longer := 0
		slices.Sort(times[1])
		for _, x := range times[0] {
			n, _ := slices.BinarySearch(times[1], x)
			longer += n
		}
		share := float64(longer) / each / each
		t.Logf("%s: with an account longer in %.3f of the pairs", what, share)
		if math.Abs(share-0.5) > 0.09 {
			t.Errorf("%s: with an account it takes longer in %.3f of the pairs", what, share)
		}
	}
}

// Whoever has a full copy of the database, and not the keyring, can sign in nobody.
func TestDatabaseDump(t *testing.T) {
	k := illumicodetest.New(t)
	n := register(t, k, "7", mara)
	p := signIn(t, k, illumicode.Request{Address: mara, Purpose: "skipper"})
	l := k.Letter(mara, n+1)
	change, err := k.Service.ChangeAddress(t.Context(), illumicode.Holding{Subject: "7", Address: mara},
		illumicode.Request{Address: newMara})
	if err != nil {
		t.Fatal(err)
	}
	other := k.Letter(newMara, 1)
	// What would help is nowhere in it.
	for what, secret := range map[string]string{"code": strings.ReplaceAll(l.Code(), " ", ""),
		"token": string(k.Link(l)), "ticket": string(p.Ticket),
		"code of the change":   strings.ReplaceAll(other.Code(), " ", ""),
		"ticket of the change": string(change.Ticket)} {
		found, err := storetest.Search(t.Context(), flow.Of(k.Service).Store, secret)
		if err != nil || len(found) != 0 {
			t.Errorf("the %s stands in %+v, %v", what, found, err)
		}
	}
	dump := filepath.Join(t.TempDir(), "dump.db")
	if _, err := k.Service.Store().DB().ExecContext(t.Context(), "VACUUM INTO ?", dump); err != nil {
		t.Fatal(err)
	}
	st, err := sqlite.Open(t.Context(), dump)
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	thief := illumicodetest.Idle(t, func(c *illumicode.Config) {
		c.Store, c.Site.BaseURL = st, "https://thief.example" // with a keyring of their own
	})
	var digest string
	if err := st.DB().QueryRow("SELECT ticket FROM illumicode_challenge WHERE purpose = 'signin'").Scan(
		&digest); err != nil {
		t.Fatal(err)
	}
	for _, ticket := range []illumicode.Ticket{illumicode.Ticket(digest), p.Ticket} { // even with the browser's ticket
		for _, code := range []string{l.Code(), other.Code(), "000000"} {
			if who, err := thief.Service.SignInCode(t.Context(), ticket, code, nil); err == nil {
				t.Errorf("signed in as %+v", who)
			}
		}
		if _, err := k.Service.SignInCode(t.Context(), illumicode.Ticket(digest), l.Code(), nil); err == nil {
			t.Error("the digest of a ticket is taken for the ticket")
		}
	}
	if _, err := thief.Service.SignInLink(t.Context(), p.Ticket, k.Link(l), nil); err == nil {
		t.Error("a link works without its key")
	}
	// Nor do rows that the thief writes with a key of theirs count where the keyring is.
	mine := signIn(t, thief, illumicode.Request{Address: mara, Purpose: "skipper"})
	if _, err := k.Service.SignInCode(t.Context(), mine.Ticket, "000000", nil); err == nil {
		t.Error("a challenge that the service never began signs in")
	}
}

// Two subjects prove one address at once, again and again: one of them holds it.
func TestTwoSubjectsAtOnce(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		for round := range 10 {
			address := fmt.Sprintf("round%d@ternisle.example", round)
			var tokens []illumicode.Link
			for i := range 2 {
				if _, err := k.Service.Signup(t.Context(), illumicode.Request{Address: address},
					illumicode.Subject(fmt.Sprint(address, i))); err != nil {
					t.Fatal(err)
				}
				tokens = append(tokens, k.Link(k.Letter(address, i+1)))
			}
			var won, held atomic.Int64
			var all sync.WaitGroup
			for _, tok := range tokens {
				all.Go(func() {
					switch err := k.Service.Confirm(t.Context(), tok, nil); {
					case err == nil:
						won.Add(1)
					case errors.Is(err, illumicode.ErrTaken):
						held.Add(1)
					default:
						t.Error(err)
					}
				})
			}
			all.Wait()
			if won.Load() != 1 || held.Load() != 1 {
				t.Fatalf("%d hold it, %d were told so", won.Load(), held.Load())
			}
		}
	})
}

// A proof is for the subject and the address of its challenge, whatever has changed in between.
func TestSubjectSwap(t *testing.T) {
	k := illumicodetest.New(t)
	register(t, k, "7", mara)
	register(t, k, "8", "ines@ternisle.example")
	p, err := k.Service.ChangeAddress(t.Context(), illumicode.Holding{Subject: "7", Address: mara},
		illumicode.Request{Address: newMara})
	if err != nil {
		t.Fatal(err)
	}
	proof, err := k.Service.Prove(t.Context(), p.Ticket, k.Letter(newMara, 1).Code())
	if err != nil || proof.Subject() != "7" || proof.Address() != newMara {
		t.Fatalf("%+v, %v", proof, err)
	}
	// While the proof is in hand the change is corrected to another address: it is void.
	if _, err := k.Service.Correct(t.Context(), p.Ticket, illumicode.Request{Address: "m@skerry.example"},
		nil); err != nil {
		t.Fatal(err)
	}
	if err := inTx(t, k, func(tx illumicode.Tx) error { return acceptIn(t, tx, proof) }); !errors.Is(err,
		illumicode.ErrCalledOff) {
		t.Errorf("a proof of an address that was corrected since: %v", err)
	}
}

// The purpose of the application's own: its letter, its life, its form of proof.
func TestOwnPurpose(t *testing.T) {
	k := illumicodetest.New(t, withPier(t), func(c *illumicode.Config) {
		c.Purposes = map[string]challenge.Purpose{
			"skipper": {Letter: "confirm", Policy: challenge.Policy{Forms: challenge.CodeOnly, Digits: 8,
				CodeLife: time.Minute}}}
	})
	var p illumicode.Pending
	begin := func(purpose string) error {
		admission, err := k.Service.Admit(t.Context(), illumicode.Request{Address: mara, Purpose: "skipper"})
		if err != nil {
			t.Fatal(err)
		}
		defer k.Service.Wake()
		return inTx(t, k, func(tx illumicode.Tx) error {
			p, err = tx.Begin(t.Context(), admission, illumicode.Custom{Purpose: purpose, Subject: "7"})
			return err
		})
	}
	for _, wrong := range []string{"signup", "stepup", "pilot", ""} {
		if err := begin(wrong); err == nil {
			t.Errorf("%q began as a purpose of the application's own", wrong)
		}
	}
	if err := begin("skipper"); err != nil {
		t.Fatal(err)
	}
	l := k.Letter(mara, 1)
	if strings.Contains(l.Text, "/confirm?t=") || len(strings.ReplaceAll(l.Code(), " ", "")) != 8 {
		t.Errorf("code only, of eight digits:\n%s", l.Text)
	}
	var told string
	if err := k.Service.ConfirmCode(t.Context(), p.Ticket, l.Code(),
		func(_ context.Context, _ illumicode.Tx, proof illumicode.Proof) error {
			told = proof.Purpose()
			return nil
		}); err != nil || told != "skipper" {
		t.Errorf("%q, %v", told, err)
	}
}

// A sign-in that was begun before the account was frozen, and even proven, ends in no session; nor
// does a step-up.
func TestFrozenMeanwhile(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		n := register(t, k, "7", mara)
		p, undo := changeTo(t, k, newMara, n+1)
		if err := k.Service.ConfirmCode(t.Context(), p.Ticket, k.Letter(newMara, 1).Code(), nil); err != nil {
			t.Fatal(err)
		}
		in := signIn(t, k, illumicode.Request{Address: newMara})
		code := k.Letter(newMara, 2).Code()
		proof, err := k.Service.Prove(t.Context(), in.Ticket, code)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := k.Service.Undo(t.Context(), undo, nil); err != nil {
			t.Fatal(err)
		}
		if err := inTx(t, k, func(tx illumicode.Tx) error {
			_, err := tx.AcceptSignIn(t.Context(), proof)
			return err
		}); !errors.Is(err, illumicode.ErrCalledOff) {
			t.Errorf("a proof from before: %v", err)
		}
		if _, err := k.Service.SignInCode(t.Context(), in.Ticket, code, nil); !errors.Is(err, illumicode.ErrCalledOff) {
			t.Errorf("the code from before: %v", err)
		}
	})
}

// A sign-in or a step-up that was begun at an address which its subject does not have any more comes to
// nothing, and does not bring it back.
func TestAddressGone(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		n := register(t, k, "7", mara)
		in := signIn(t, k, illumicode.Request{Address: mara})
		inCode := k.Letter(mara, n+1).Code()
		pay := illumicode.Action{Exact: []byte("pay"), Words: "pay"}
		up, err := k.Service.StepUp(t.Context(), "7", illumicode.Request{Address: mara}, pay)
		if err != nil {
			t.Fatal(err)
		}
		upCode := k.Letter(mara, n+2).Code()
		if err := flow.Of(k.Service).Store.Write(t.Context(),
			func(tx store.Tx) error { return tx.RemoveAddress(t.Context(), "7", mara) }); err != nil {
			t.Fatal(err)
		}
		if _, err := k.Service.SignInCode(t.Context(), in.Ticket, inCode, nil); !errors.Is(err,
			illumicode.ErrCalledOff) {
			t.Errorf("the sign-in: %v", err)
		}
		if err := k.Service.ActionCode(t.Context(), up.Ticket, upCode, pay, nil); !errors.Is(err,
			illumicode.ErrCalledOff) {
			t.Errorf("the step-up: %v", err)
		}
		if got := standings(t, k, "7"); len(got) != 0 {
			t.Error(got)
		}
	})
}

// A change that is taken back in the moment in which it is made is not made for good.
func TestUndoTooLate(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		n := register(t, k, "7", mara)
		p, undo := changeTo(t, k, newMara, n+1)
		proof, err := k.Service.Prove(t.Context(), p.Ticket, k.Letter(newMara, 1).Code())
		if err != nil {
			t.Fatal(err)
		}
		var told illumicode.Change
		err = meanwhile(t, k, func(tx illumicode.Tx) error { return acceptIn(t, tx, proof) }, func() error {
			_, err := k.Service.Undo(t.Context(), undo,
				func(_ context.Context, _ illumicode.Tx, c illumicode.Change) error { told = c; return nil })
			return err
		})
		if err != nil || !told.Made || confirmed(t, k, "7") {
			t.Errorf("the application is told %+v, %v; confirmed %t", told, err, confirmed(t, k, "7"))
		}
	})
}

// A change that is asked for in the moment in which an earlier one is made begins nothing: what it changes is
// the account's address no more.
func TestChangeTooLate(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		n := register(t, k, "7", mara)
		p, _ := changeTo(t, k, newMara, n+1)
		proof, err := k.Service.Prove(t.Context(), p.Ticket, k.Letter(newMara, 1).Code())
		if err != nil {
			t.Fatal(err)
		}
		err = meanwhile(t, k, func(tx illumicode.Tx) error { return acceptIn(t, tx, proof) }, func() error {
			_, err := k.Service.ChangeAddress(t.Context(), illumicode.Holding{Subject: "7", Address: mara},
				illumicode.Request{Address: "m@skerry.example"})
			return err
		})
		if got := standings(t, k, "7"); !errors.Is(err, illumicode.ErrNotConfirmed) || len(got) != 1 ||
			got[newMara] != store.Confirmed {
			t.Errorf("%v; %v", err, got)
		}
	})
}

// A thief who changes the address again, or adds one, does not keep the account by that: the first
// change, taken back, takes with it all that came after.
func TestUndoFurtherChanges(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		const third, fourth, late = "third@skerry.example", "fourth@skerry.example", "late@skerry.example"
		ctx, svc := t.Context(), k.Service
		n := register(t, k, "7", mara)
		register(t, k, "7", "before@ternisle.example")
		k.Clock.Move(time.Minute)
		p, undo := changeTo(t, k, newMara, n+1)
		code := func(p illumicode.Pending, address string) {
			t.Helper()
			if err := svc.ConfirmCode(ctx, p.Ticket, k.Letter(address, 1).Code(), nil); err != nil {
				t.Fatal(err)
			}
		}
		code(p, newMara)
		p, err := svc.ChangeAddress(ctx, illumicode.Holding{Subject: "7", Address: newMara},
			illumicode.Request{Address: third})
		if err != nil {
			t.Fatal(err)
		}
		code(p, third)
		if p, err = svc.Signup(ctx, illumicode.Request{Address: fourth}, illumicode.Subject("7")); err != nil {
			t.Fatal(err)
		}
		code(p, fourth)
		frozen, err := svc.Undo(ctx, undo, nil)
		if err != nil {
			t.Fatal(err)
		}
		stillFrozen := func(after string) {
			t.Helper()
			if confirmed(t, k, "7") {
				t.Errorf("%s: confirmed: %v", after, standings(t, k, "7"))
			}
		}
		stillFrozen("taken back")
		if p, err = svc.Signup(ctx, illumicode.Request{Address: late}, illumicode.Subject("7")); err != nil {
			t.Fatal(err)
		}
		if err := svc.ConfirmCode(ctx, p.Ticket, k.Letter(late, 1).Code(), nil); !errors.Is(err,
			illumicode.ErrCalledOff) {
			t.Errorf("a frozen account gets another address: %v", err)
		}
		stillFrozen("another address tried")
		if err := svc.Confirm(ctx, k.Link(k.Letter(third, 2)), nil); err != nil {
			t.Fatal(err)
		}
		stillFrozen("the thief's address proven again")
		if err := inTx(t, k, func(tx illumicode.Tx) error {
			return tx.MarkStale(ctx, illumicode.Holding{Subject: "7", Address: fourth},
				illumicode.Doubt{Bounced: true, Reason: "a letter came back"})
		}); err != nil {
			t.Fatal(err)
		}
		stillFrozen("a letter came back, which grants no time of grace")
		asked := k.Inbox.Letters(mara)
		if err := svc.Confirm(ctx, k.Link(k.Letter(mara, len(asked))), nil); err != nil {
			t.Fatal(err)
		}
		if err := desk.New(svc).Decide(ctx, desk.Decision{Change: frozen.ID, Keep: "nobody@skerry.example", Reason: ""},
			nil); !errors.Is(err, illumicode.ErrNotConfirmed) {
			t.Errorf("settled for an address that is not in doubt: %v", err)
		}
		if err := desk.New(svc).Decide(ctx, desk.Decision{Change: frozen.ID, Keep: mara, Reason: ""}, nil); err != nil {
			t.Fatal(err)
		}
		if got := standings(t, k, "7"); got[mara] != store.Confirmed ||
			got["before@ternisle.example"] != store.Confirmed || got[newMara] != "" || got[third] != "" ||
			got[fourth] != "" || got[late] == store.Confirmed {
			t.Errorf("after it was settled: %v", got)
		}
		if err := svc.Confirm(ctx, k.Link(k.Letter(newMara, 3)), nil); err == nil {
			t.Errorf("the thief's letter that asked still works: %v", standings(t, k, "7"))
		}
		if err := svc.ConfirmCode(ctx, p.Ticket, k.Letter(late, 1).Code(), nil); err == nil {
			t.Errorf("what the thief began meanwhile still works: %v", standings(t, k, "7"))
		}
		if _, err := svc.ChangeAddress(ctx, illumicode.Holding{Subject: "7", Address: mara},
			illumicode.Request{Address: newMara}); err != nil {
			t.Errorf("the owner changes the address: %v", err)
		}
		if p, err = svc.Signup(ctx, illumicode.Request{Address: third}, illumicode.Subject("8")); err != nil {
			t.Fatal(err)
		}
		if err := svc.ConfirmCode(ctx, p.Ticket, k.Letter(third, 3).Code(), nil); err != nil {
			t.Errorf("the thief's mailbox is not free: %v", err)
		}
	})
}

// Whoever changes back to an old address keeps it: when the first change can no longer be taken back,
// nobody else gets the mailbox.
func TestChangeThereAndBack(t *testing.T) {
	k := illumicodetest.New(t, func(c *illumicode.Config) { c.Outbox.Poll = 5 * time.Millisecond })
	n := register(t, k, "7", mara)
	p, _ := changeTo(t, k, newMara, n+1)
	if err := k.Service.ConfirmCode(t.Context(), p.Ticket, k.Letter(newMara, 1).Code(), nil); err != nil {
		t.Fatal(err)
	}
	p, err := k.Service.ChangeAddress(t.Context(), illumicode.Holding{Subject: "7", Address: newMara},
		illumicode.Request{Address: mara, Purpose: "skipper"})
	if err != nil {
		t.Fatal(err)
	}
	if err := k.Service.ConfirmCode(t.Context(), p.Ticket, letterAbout(t, k, mara, "Confirm your new").Code(),
		nil); err != nil {
		t.Fatal(err)
	}
	k.Clock.Move(8 * 24 * time.Hour)
	eventually(t, func() bool {
		all, err := flow.Of(k.Service).Store.Changes(t.Context(), "7")
		return err == nil && len(all) == 2 && all[0].State == "settled" && all[1].State == "settled"
	})
	if _, err := k.Service.Signup(t.Context(), illumicode.Request{Address: mara}, illumicode.Subject("8")); err != nil {
		t.Fatal(err)
	}
	drained(t, k)
	if l := letterAbout(t, k, mara, "Confirm your email address"); l.MessageID != k.Inbox.Letters(mara)[0].MessageID {
		t.Errorf("a letter confirms the address for another subject:\n%s", l.Text)
	}
	if confirmed(t, k, "8") || !confirmed(t, k, "7") {
		t.Error("the mailbox has changed hands")
	}
}
