package illumicode_test

import (
	"context"
	"errors"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/inbox"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/message"
)

const newMara = "mara.quist@skerry.example"

// changeTo begins the change of Mara's address, and returns it with the link that undoes it.
func changeTo(t *testing.T, k *illumicodetest.Kit, address string, told int) (p illumicode.Pending,
	undo illumicode.Link) {
	t.Helper()
	p, err := k.Service.ChangeAddress(t.Context(), illumicode.Holding{Subject: "7", Address: mara},
		illumicode.Request{Address: address, Name: "Mara"})
	if err != nil {
		t.Fatal(err)
	}
	l := k.Letter(mara, told)
	if !strings.Contains(l.Text, address) || l.Code() != "" {
		t.Fatalf("the old address is not told of the change:\n%s", l.Text)
	}
	return p, notMeToken(t, l.Text)
}

// standings returns how the addresses of a subject stand, such as "mara@…: confirmed".
func standings(t *testing.T, k *illumicodetest.Kit, subject string) map[string]store.Standing {
	t.Helper()
	all, err := flow.Of(k.Service).Store.Addresses(t.Context(), subject)
	if err != nil {
		t.Fatal(err)
	}
	got := make(map[string]store.Standing)
	for _, a := range all {
		got[a.Address] = a.Standing
	}
	return got
}

func TestChangeAddress(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		n := register(t, k, "7", mara)
		begun := signIn(t, k, illumicode.Request{Address: mara})
		n++
		begunCode := k.Letter(mara, n).Code()
		p, undo := changeTo(t, k, newMara, n+1)
		if got := standings(t, k, "7"); got[mara] != store.Confirmed || got[newMara] != store.Unconfirmed {
			t.Errorf("while it is pending: %v", got)
		}
		if err := k.Service.ConfirmCode(t.Context(), p.Ticket, k.Letter(newMara, 1).Code(), nil); err != nil {
			t.Fatal(err)
		}
		if got := standings(t, k, "7"); len(got) != 1 || got[newMara] != store.Confirmed {
			t.Errorf("after it was made: %v", got)
		}
		if _, err := k.Service.SignInCode(t.Context(), begun.Ticket, begunCode, nil); !errors.Is(err,
			illumicode.ErrCalledOff) {
			t.Errorf("a sign-in that was begun at the old address: %v; %v", err, standings(t, k, "7"))
		}
		signIn(t, k, illumicode.Request{Address: newMara})
		if l := k.Letter(newMara, 2); l.Code() == "" {
			t.Error("the new address gets no code")
		}
		// As long as it can be taken back, nobody else gets the old mailbox.
		if _, err := k.Service.Signup(t.Context(), illumicode.Request{Address: mara},
			illumicode.Subject("8")); err != nil {
			t.Fatal(err)
		}
		drained(t, k)
		if l := letterAbout(t, k, mara, "Confirm your email address"); l.MessageID != k.Inbox.Letters(
			mara)[0].MessageID {
			t.Errorf("a letter confirms the old address for another subject:\n%s", l.Text)
		}
		k.Clock.Move(7 * 24 * time.Hour)
		if _, err := k.Service.Undo(t.Context(), undo, nil); !errors.Is(err, illumicode.ErrExpired) {
			t.Errorf("undone after a week: %v", err)
		}
	})
}

// Taken back while it is pending, a change is as if it had never been asked for.
func TestUndoPending(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		n := register(t, k, "7", mara)
		p, undo := changeTo(t, k, newMara, n+1)
		code := k.Letter(newMara, 1).Code()
		if in, err := k.Service.Inspect(t.Context(), "", undo); err != nil || in.Change.New != newMara ||
			in.Change.Made {
			t.Errorf("the page is told %+v, %v", in, err)
		}
		var called atomic.Int64
		var all sync.WaitGroup
		for range 20 {
			all.Go(func() {
				_, err := k.Service.Undo(t.Context(), undo,
					func(_ context.Context, _ illumicode.Tx, c illumicode.Change) error {
						called.Add(1)
						return nil
					})
				if err != nil && !errors.Is(err, illumicode.ErrUsed) {
					t.Error(err)
				}
			})
		}
		all.Wait()
		if called.Load() != 1 {
			t.Errorf("the application was called %d times", called.Load())
		}
		if err := k.Service.ConfirmCode(t.Context(), p.Ticket, code, nil); !errors.Is(err, illumicode.ErrCalledOff) {
			t.Errorf("the code afterwards: %v", err)
		}
		if got := standings(t, k, "7"); len(got) != 1 || got[mara] != store.Confirmed {
			t.Errorf("afterwards: %v", got)
		}
	})
}

// Taken back after it was made, a change freezes the account: neither side can sign in, and a fresh
// proof alone gives the account to nobody.
func TestUndoMade(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		n := register(t, k, "7", mara)
		p, undo := changeTo(t, k, newMara, n+1)
		if err := k.Service.ConfirmCode(t.Context(), p.Ticket, k.Letter(newMara, 1).Code(), nil); err != nil {
			t.Fatal(err)
		}
		frozen, err := k.Service.Undo(t.Context(), undo,
			func(_ context.Context, _ illumicode.Tx, c illumicode.Change) error {
				if !c.Made || c.Subject != "7" {
					t.Errorf("the application is told %+v", c)
				}
				return nil
			})
		if err != nil {
			t.Fatal(err)
		}
		if confirmed(t, k, "7") {
			t.Error("the account still counts as confirmed")
		}
		for _, address := range []string{mara, newMara} {
			before := len(k.Inbox.Letters(address))
			p := signIn(t, k, illumicode.Request{Address: address})
			if c, err := k.Service.Pending(t.Context(), p.Ticket); err != nil || c.Purpose == "" {
				t.Error(err)
			}
			drained(t, k)
			for _, l := range k.Inbox.Letters(address)[before:] {
				if strings.Contains(l.Subject, "Your code") {
					t.Errorf("%s gets a code to sign in", address)
				}
			}
		}
		if again, err := flow.Of(k.Service).Store.ToAsk(t.Context(), k.Service.Now(), k.Service.Now(),
			10); err != nil ||
			len(again) != 0 {
			t.Errorf("workers would ask again: %+v, %v", again, err)
		}
		for _, address := range []string{mara, newMara} { // once, and not again and again
			asked := 0
			for _, l := range k.Inbox.Letters(address) {
				if strings.HasPrefix(l.Subject, "Do you still use") {
					asked++
				}
			}
			if asked != 1 {
				t.Errorf("%s is asked %d times", address, asked)
			}
		}
		settle := func(keep string) error {
			return desk.New(k.Service).Decide(t.Context(),
				desk.Decision{Change: frozen.ID, Keep: keep, Reason: "seen at the desk"}, nil)
		}
		if err := settle(mara); !errors.Is(err, illumicode.ErrNotConfirmed) {
			t.Errorf("settled for an address that was not proven since: %v", err)
		}
		again := k.Inbox.Letters(mara)
		link := k.Link(again[len(again)-1])
		proof, err := k.Service.ProveLink(t.Context(), link)
		if err != nil {
			t.Fatal(err)
		}
		undone := errors.New("rolled back")
		if err := inTx(t, k, func(tx illumicode.Tx) error {
			if counts, err := tx.Accept(t.Context(), proof); err != nil || counts {
				t.Errorf("a proof of a frozen account counts: %t, %v", counts, err)
			}
			if receipt, err := tx.Receipt(t.Context(), proof, "cargo"); !errors.Is(err, illumicode.ErrNotConfirmed) {
				t.Errorf("a receipt: %s, %v", receipt, err)
			}
			return undone
		}); err != undone {
			t.Fatal(err)
		}
		if err := k.Service.Confirm(t.Context(), link, func(context.Context, illumicode.Tx, illumicode.Proof) error {
			t.Error("the application makes its writes for a proof that confirms nothing")
			return nil
		}); err != nil {
			t.Fatalf("the fresh proof: %v", err)
		}
		if confirmed(t, k, "7") {
			t.Error("a fresh proof of the old address alone thawed the account")
		}
		if err := settle(newMara); !errors.Is(err, illumicode.ErrNotConfirmed) {
			t.Errorf("settled for the other address: %v", err)
		}
		if err := settle(mara); err != nil {
			t.Fatal(err)
		}
		if got := standings(t, k, "7"); len(got) != 1 || got[mara] != store.Confirmed {
			t.Errorf("after it was settled: %v", got)
		}
		if err := settle(mara); !errors.Is(err, illumicode.ErrNothingPending) {
			t.Errorf("settled twice: %v", err)
		}
	})
}

// Who is written to without having asked is written to in the language in which the address was proven:
// not in that of whoever asks for a change.
func TestLanguageOfLetters(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		ctx, proof := t.Context(), func(l *inbox.Letter) {
			if err := k.Service.Confirm(t.Context(), k.Link(l), nil); err != nil {
				t.Fatal(err)
			}
		}
		if _, err := k.Service.Signup(ctx, illumicode.Request{Address: mara, Locale: "de"},
			illumicode.Subject("7")); err != nil {
			t.Fatal(err)
		}
		proof(k.Letter(mara, 1))
		signIn(t, k, illumicode.Request{Address: mara})
		k.Letter(mara, 2) // or the next one may overtake it
		if _, err := k.Service.ChangeAddress(ctx, illumicode.Holding{Subject: "7", Address: mara},
			illumicode.Request{Address: newMara, Locale: "ja"}); err != nil {
			t.Fatal(err)
		}
		proof(k.Letter(newMara, 1))
		if _, err := k.Service.Undo(ctx, notMeToken(t, k.Letter(mara, 3).Text), nil); err != nil {
			t.Fatal(err)
		}
		for _, l := range []*inbox.Letter{k.Letter(mara, 2), k.Letter(mara, 3), k.Letter(mara, 4)} {
			if !strings.Contains(l.HTML, `lang="de"`) {
				t.Errorf("to the old address: %s", l.Subject)
			}
		}
		if l := k.Letter(newMara, 2); !strings.Contains(l.HTML, `lang="ja"`) {
			t.Errorf("to the new one: %s", l.Subject)
		}
	})
}

// A change that was stopped, or whose old address is the subject's no more, is not made by a proof that was
// left open.
func TestChangeWithoutGround(t *testing.T) {
	for name, pull := range map[string]func(context.Context, store.Tx, store.Change) error{
		"stopped": func(ctx context.Context, tx store.Tx, c store.Change) error {
			return tx.StopChangeOf(ctx, c.Challenge)
		},
		"another was made": func(ctx context.Context, tx store.Tx, c store.Change) error {
			return tx.RemoveAddress(ctx, "7", mara)
		},
	} {
		k := illumicodetest.New(t)
		n := register(t, k, "7", mara)
		p, _ := changeTo(t, k, newMara, n+1)
		changes, err := flow.Of(k.Service).Store.Changes(t.Context(), "7")
		if err != nil || len(changes) != 1 {
			t.Fatal(changes, err)
		}
		if err := flow.Of(k.Service).Store.Write(t.Context(),
			func(tx store.Tx) error { return pull(t.Context(), tx, changes[0]) }); err != nil {
			t.Fatal(err)
		}
		if err := k.Service.ConfirmCode(t.Context(), p.Ticket, k.Letter(newMara, 1).Code(), nil); !errors.Is(err,
			illumicode.ErrCalledOff) {
			t.Errorf("%s: its code: %v", name, err)
		}
		if got := standings(t, k, "7"); got[newMara] == store.Confirmed {
			t.Errorf("%s: %v", name, got)
		}
	}
}

// Only a confirmed address of the subject can be changed, and a second change stops the first.
func TestChangeAddressRefuses(t *testing.T) {
	k := illumicodetest.New(t)
	n := register(t, k, "7", mara)
	for _, tt := range []struct {
		subject, old, new string
		want              error
	}{
		{"8", mara, newMara, illumicode.ErrNotConfirmed},
		{"7", "ines@ternisle.example", newMara, illumicode.ErrNotConfirmed},
		{"7", mara, "no address", message.ErrAddress},
		{"7", mara, "x@y.example\r\nBcc: all@y.example", message.ErrAddress},
	} {
		if _, err := k.Service.ChangeAddress(t.Context(), illumicode.Holding{Subject: tt.subject, Address: tt.old},
			illumicode.Request{Address: tt.new}); !errors.Is(err, tt.want) {
			t.Errorf("%s: %s to %q: %v, want %v", tt.subject, tt.old, tt.new, err, tt.want)
		}
	}
	first, _ := changeTo(t, k, newMara, n+1)
	code := k.Letter(newMara, 1).Code()
	second, _ := changeTo(t, k, "m@skerry.example", n+2)
	if err := k.Service.ConfirmCode(t.Context(), first.Ticket, code, nil); !errors.Is(err, illumicode.ErrCalledOff) {
		t.Errorf("the first change: %v", err)
	}
	if err := k.Service.ConfirmCode(t.Context(), second.Ticket, k.Letter("m@skerry.example", 1).Code(),
		nil); err != nil {
		t.Error(err)
	}
}

// The application learns once of every signup that nobody confirmed, and may drop the account; not
// of one that was, nor while a later letter can still be answered.
func TestLapse(t *testing.T) {
	var mu sync.Mutex
	var told []illumicode.Lapse
	fail := true
	tells := func(c *illumicode.Config) {
		c.Outbox.Poll = 5 * time.Millisecond
		c.Lapsed = func(_ context.Context, _ illumicode.Tx, l illumicode.Lapse) error {
			mu.Lock()
			defer mu.Unlock()
			if fail { // it comes again
				fail = false
				return errors.New("the application's database says no")
			}
			told = append(told, l)
			return nil
		}
	}
	k := illumicodetest.New(t, tells)
	register(t, k, "7", mara)
	for _, subject := range []string{"8", "9"} {
		if _, err := k.Service.Signup(t.Context(), illumicode.Request{Address: subject + "@ternisle.example"},
			illumicode.Subject(subject)); err != nil {
			t.Fatal(err)
		}
		k.Letter(subject+"@ternisle.example", 1)
	}
	k.Clock.Move(71 * time.Hour)
	if _, err := k.Service.Signup(t.Context(), illumicode.Request{Address: "9@ternisle.example"},
		illumicode.Subject("9")); err != nil {
		t.Fatal(err)
	}
	k.Clock.Move(2 * time.Hour)
	eventually(t, func() bool {
		open, err := flow.Of(k.Service).Store.Lapsed(t.Context(), k.Service.Now(), true, 10)
		return err == nil && len(open) == 0
	})
	mu.Lock()
	defer mu.Unlock()
	if len(told) != 1 || told[0].Subject != "8" || told[0].Grace {
		t.Errorf("the application was told %+v", told)
	}
	if got := standings(t, k, "8"); len(got) != 0 {
		t.Errorf("of the lapsed signup stays %v", got)
	}
	if !confirmed(t, k, "7") {
		t.Error("a confirmed address went with it")
	}
}

// eventually waits for something that a worker does.
func eventually(t *testing.T, good func() bool) {
	t.Helper()
	for end := time.Now().Add(time.Minute); !good(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("it did not happen in a minute")
		}
	}
}

// Addresses that are stale or bounced are asked again, a few an hour; each works for its time of
// grace, whose end the application is told once; a proof makes it confirmed.
func TestRecheck(t *testing.T) {
	var lapsed atomic.Int64
	k := illumicodetest.New(t, func(c *illumicode.Config) {
		c.Outbox.Poll = 5 * time.Millisecond
		c.Recheck = delivery.Recheck{Batch: 2}
		c.Lapsed = func(_ context.Context, _ illumicode.Tx, l illumicode.Lapse) error {
			if l.Grace {
				lapsed.Add(1)
			}
			return nil
		}
	})
	people := []string{"a@ternisle.example", "b@ternisle.example", "c@ternisle.example"}
	for i, address := range people {
		register(t, k, address, address)
		if err := k.Service.Transact(t.Context(), func(ctx context.Context, tx illumicode.Tx) error {
			return tx.MarkStale(ctx, illumicode.Holding{Subject: address, Address: address},
				illumicode.Doubt{Bounced: i == 0, Reason: "no answer for a year"})
		}); err != nil {
			t.Fatal(err)
		}
		if !confirmed(t, k, address) {
			t.Errorf("%s does not work in its time of grace", address)
		}
	}
	if _, err := k.Service.Signup(t.Context(), illumicode.Request{Address: "new@ternisle.example"},
		illumicode.Subject("new")); err != nil {
		t.Fatal(err)
	}
	if err := k.Service.Transact(t.Context(), func(ctx context.Context, tx illumicode.Tx) error {
		return tx.MarkStale(ctx, illumicode.Holding{Subject: "new", Address: "new@ternisle.example"},
			illumicode.Doubt{Reason: "a mistake"})
	}); err != nil || confirmed(t, k, "new") {
		t.Errorf("an address that was never confirmed works after it was marked stale, %v", err)
	}
	asked := func() (n int) {
		for _, address := range people {
			n += len(k.Inbox.Letters(address)) - 1
		}
		return n
	}
	eventually(t, func() bool { return asked() == 2 })
	k.Clock.Move(time.Hour)
	eventually(t, func() bool { return asked() == 3 })
	if err := k.Service.Confirm(t.Context(), k.Link(k.Letter(people[0], 2)), nil); err != nil {
		t.Fatal(err)
	}
	if got := standings(t, k, people[0]); got[people[0]] != store.Confirmed {
		t.Errorf("after the proof: %v", got)
	}
	k.Clock.Move(15 * 24 * time.Hour)
	eventually(t, func() bool { return lapsed.Load() == 2 })
	if confirmed(t, k, people[1]) || !confirmed(t, k, people[0]) {
		t.Error("after its time of grace a stale address works, or a proven one does not")
	}
}
