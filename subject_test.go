package illumicode_test

import (
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/limit"
)

// A notice to a subject goes to the address that it has at the first attempt, and stays there.
func TestNoticeToSubject(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		register(t, k, "7", mara)
		later := notify(t, k, illumicode.Notice{Letter: "moved", To: illumicode.Request{Subject: "7"}, Data: pier(4),
			At: k.Clock.Now().Add(time.Hour)})
		nobody := notify(t, k, illumicode.Notice{Letter: "moved", To: illumicode.Request{Subject: "8"}, Data: pier(4)})
		if d := ended(t, k, nobody, store.Cancelled); !strings.Contains(d.Note, "no confirmed address") {
			t.Errorf("a subject without an address: %q", d.Note)
		}
		p, undo := moves(t, k, mara, newMara)
		if err := proves(t, k, p, newMara); err != nil {
			t.Fatal(err)
		}
		k.Clock.Move(time.Hour + time.Minute)
		k.Service.Wake()
		if d := ended(t, k, later, store.Sent); d.Address != newMara {
			t.Errorf("it went to %q, and the subject has %s", d.Address, newMara)
		}
		letterAbout(t, k, newMara, "Moved to pier 4")

		// Frozen, it is held until somebody decides; then it goes to the address that stays.
		change, err := k.Service.Undo(t.Context(), undo, nil)
		if err != nil {
			t.Fatal(err)
		}
		held := notify(t, k, illumicode.Notice{Letter: "moved", To: illumicode.Request{Subject: "7"}, Data: pier(5)})
		eventually(t, func() bool {
			d, err := storeOf(k).Delivery(t.Context(), held)
			return err == nil && d.State == store.Held && d.HeldBy == store.HeldFrozen
		})
		if err := k.Service.Confirm(t.Context(), k.Link(letterAbout(t, k, mara, "Do you still")), nil); err != nil {
			t.Fatal(err)
		}
		if err := desk.New(k.Service).Decide(t.Context(), desk.Decision{Change: change.ID, Keep: mara},
			nil); err != nil {
			t.Fatal(err)
		}
		if d := ended(t, k, held, store.Sent); d.Address != mara {
			t.Errorf("after the decision it went to %q", d.Address)
		}

		// What waits for an account that is closed is cancelled.
		waits := notify(t, k, illumicode.Notice{Letter: "moved", To: illumicode.Request{Subject: "7"}, Data: pier(6),
			At: k.Clock.Now().Add(time.Hour)})
		if err := closes(t, k, illumicode.Closing{Subject: "7"}); err != nil {
			t.Fatal(err)
		}
		if d := ended(t, k, waits, store.Cancelled); !strings.Contains(d.Note, "closed") {
			t.Errorf("what waited for a closed account: %q", d.Note)
		}
	}, withPier(t), withLimits(plenty))
}

// What cannot be said of a notice to a subject is refused.
func TestNoticeToSubjectRefuses(t *testing.T) {
	k := illumicodetest.Idle(t, withPier(t))
	to := illumicode.Request{Subject: "7"}
	for want, n := range map[string]illumicode.Notice{
		"copies or fallback": {Letter: "moved", To: to, Data: pier(1), Cc: []string{newMara}},
		"no provider":        {Letter: "moved", To: to, Data: pier(1), Medium: limit.SMS},
		"mail or sms":        {Letter: "moved", To: to, Data: pier(1), Medium: "pigeon"},
		"without an address": {Letter: "moved", To: illumicode.Request{Address: mara}, Data: pier(1),
			Medium: limit.Mail},
	} {
		if _, err := k.Service.Notify(t.Context(), n); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v, want %q", n, err, want)
		}
	}
}

// Move moves what a key names, reminder or not, and says how many that were.
func TestMoveAnyNotice(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		now := k.Clock.Now().Truncate(time.Millisecond)
		plain := notify(t, k, illumicode.Notice{Letter: "moved", To: illumicode.Request{Address: mara}, Data: pier(1),
			Key: "k",
			At:  now.Add(time.Hour), DeliverBefore: now.Add(3 * time.Hour)})
		remind := notify(t, k, illumicode.Notice{Letter: "moved", To: illumicode.Request{Address: mara}, Data: pier(2),
			Key:    "k",
			Remind: illumicode.Reminder{Of: now.Add(5 * time.Hour), Before: time.Hour}})
		to := now.Add(24 * time.Hour)
		if n, err := inTxCount(t, k, func(tx illumicode.Tx) (int64, error) {
			return tx.Move(t.Context(), "k", to)
		}); err != nil || n != 2 {
			t.Fatalf("%d moved, %v; want 2", n, err)
		}
		for id, want := range map[string][2]time.Time{plain: {to, to.Add(2 * time.Hour)},
			remind: {to.Add(-time.Hour), to}} {
			d, err := storeOf(k).Delivery(t.Context(), id)
			if err != nil || !d.Due.Equal(want[0]) || !d.DeliverBefore.Equal(want[1]) {
				t.Errorf("due %v until %v, %v; want %v", d.Due, d.DeliverBefore, err, want)
			}
		}
	}, withPier(t))
}
