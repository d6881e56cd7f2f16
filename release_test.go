package illumicode_test

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
)

// closes closes an account in a transaction of the application's.
func closes(t *testing.T, k *illumicodetest.Kit, what illumicode.Closing) error {
	t.Helper()
	defer k.Service.Wake() // as after any transaction of the application's own
	return inTx(t, k, func(tx illumicode.Tx) error { return tx.Release(t.Context(), what) })
}

// A closed account leaves nothing to who gets its id, and its address can register at once; what suppresses it stays.
func TestRelease(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		n := register(t, k, "7", mara)
		known := signedIn(t, k, illumicode.Request{Address: mara}, &n)
		begun := signIn(t, k, illumicode.Request{Address: mara})
		n++
		code := k.Letter(mara, n).Code()
		changing, _ := moves(t, k, mara, newMara)
		n++
		changeCode := k.Letter(newMara, 1).Code()
		if err := flow.Of(k.Service).Store.Write(t.Context(), func(tx store.Tx) error {
			return flow.Of(k.Service).Suppress(t.Context(), tx,
				store.Suppression{Mailbox: mara, Scope: store.NoticesOnly,
					Reason: "a test"}, "")
		}); err != nil {
			t.Fatal(err)
		}
		if err := closes(t, k, illumicode.Closing{Subject: "7"}); err != nil {
			t.Fatal(err)
		}
		if _, err := k.Service.SignInCode(t.Context(), begun.Ticket, code, nil); !errors.Is(err,
			illumicode.ErrCalledOff) {
			t.Errorf("a sign-in that was begun before: %v", err)
		}
		if err := k.Service.ConfirmCode(t.Context(), changing.Ticket, changeCode, nil); !errors.Is(err,
			illumicode.ErrCalledOff) {
			t.Errorf("a change that was begun before: %v", err)
		}
		if left := browsers(t, k); len(left) != 0 {
			t.Errorf("browsers are known: %+v", left)
		}
		// The same id, for somebody else.
		if confirmed(t, k, "7") {
			t.Error("a new account with the id is confirmed with the old one's address")
		}
		register(t, k, "7", "ines@ternisle.example")
		if got := standings(t, k, "7"); len(got) != 1 {
			t.Errorf("it has inherited %v", got)
		}
		// The address registers at once, for an account of its own.
		register(t, k, "8", mara)
		if !confirmed(t, k, "8") {
			t.Error("the address is not free")
		}
		if _, err := k.Service.SignIn(t.Context(), illumicode.Request{Address: mara, Browser: known}); err != nil {
			t.Error(err)
		}
		thumbs := flow.Of(k.Service).Thumbs(mara)
		if left, err := flow.Of(k.Service).Store.SuppressedAmong(t.Context(), thumbs); err != nil || len(left) != 1 {
			t.Errorf("what suppresses the address: %+v, %v", left, err)
		}
	}, withLimits(plenty))
}

// An account is not closed while it is frozen; while a change of its address can be taken back it is closed only if the
// caller says so, and then the old address is told.
func TestReleaseAfterChange(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		register(t, k, "7", mara)
		p, undo := moves(t, k, mara, newMara)
		if err := proves(t, k, p, newMara); err != nil {
			t.Fatal(err)
		}
		if err := closes(t, k, illumicode.Closing{Subject: "7"}); !errors.Is(err, illumicode.ErrUndoable) {
			t.Fatalf("inside the time to take it back: %v", err)
		}
		if !confirmed(t, k, "7") {
			t.Error("a refusal has closed it")
		}
		if err := closes(t, k, illumicode.Closing{Subject: "7", Undoable: true}); err != nil {
			t.Fatal(err)
		}
		l := letterAbout(t, k, mara, "Your account with Tern Isle Ferry was closed")
		if !strings.Contains(l.Text, newMara) || l.Link() != "" {
			t.Errorf("the old address is told\n%s", l.Text)
		}
		if _, err := k.Service.Undo(t.Context(), undo, nil); !errors.Is(err, illumicode.ErrExpired) {
			t.Errorf("the link of the account that is gone: %v", err)
		}
		register(t, k, "8", "other@ternisle.example")
		p, err := k.Service.ChangeAddress(t.Context(),
			illumicode.Holding{Subject: "8", Address: "other@ternisle.example"},
			illumicode.Request{Address: third})
		if err != nil {
			t.Fatal(err)
		}
		undo = notMeToken(t, k.Letter("other@ternisle.example", 2).Text)
		if err := proves(t, k, p, third); err != nil {
			t.Fatal(err)
		}
		if _, err := k.Service.Undo(t.Context(), undo, nil); err != nil {
			t.Fatal(err)
		}
		if err := closes(t, k, illumicode.Closing{Subject: "8", Undoable: true}); !errors.Is(err,
			illumicode.ErrFrozen) {
			t.Errorf("a frozen account: %v", err)
		}
		register(t, k, "9", "ines@ternisle.example")
		p, err = k.Service.ChangeAddress(t.Context(),
			illumicode.Holding{Subject: "9", Address: "ines@ternisle.example"},
			illumicode.Request{Address: "ines@skerry.example"})
		if err != nil {
			t.Fatal(err)
		}
		if err := proves(t, k, p, "ines@skerry.example"); err != nil {
			t.Fatal(err)
		}
		k.Clock.Move(7*24*time.Hour + time.Minute)
		if err := closes(t, k, illumicode.Closing{Subject: "9"}); err != nil {
			t.Errorf("after the time to take it back: %v", err)
		}
	}, withLimits(plenty))
}

// A rollback closes nothing.
func TestReleaseRolledBack(t *testing.T) {
	k := illumicodetest.New(t)
	register(t, k, "7", mara)
	broken := errors.New("the application's own")
	if err := k.Service.Transact(t.Context(), func(ctx context.Context, tx illumicode.Tx) error {
		if err := tx.Release(ctx, illumicode.Closing{Subject: "7"}); err != nil {
			return err
		}
		return broken
	}); !errors.Is(err, broken) || !confirmed(t, k, "7") {
		t.Errorf("%v; confirmed %v", err, confirmed(t, k, "7"))
	}
}
