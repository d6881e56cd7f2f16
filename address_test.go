package illumicode_test

import (
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/core/keyring"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/internal/storetest"
	"github.com/illumicode/illumicode/token"
)

// Erased, a person stands nowhere any more, not in the queue, not in lists, not where others' letters
// mention them; and the next import does not write to them.
func TestForget(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		svc, ctx := k.Service, t.Context()
		const typed = "Mara_Quist+Ferry@ternisle.example"
		n := register(t, k, "7", typed)
		p := signIn(t, k, illumicode.Request{Address: typed})
		svc.SignInCode(ctx, p.Ticket, "000 000", nil)
		k.Letter(typed, n+1)
		if _, err := svc.ChangeAddress(ctx, illumicode.Holding{Subject: "7", Address: typed},
			illumicode.Request{Address: "other@skerry.example"}); err != nil {
			t.Fatal(err)
		}
		k.Letter(typed, n+2)
		later := time.Now().Add(time.Hour)
		for _, notice := range []illumicode.Notice{
			{Letter: "moved", Data: pier(1), To: illumicode.Request{Address: typed}, At: later},
			{Letter: "moved", Data: map[string]any{"pier": "beside " + typed},
				To: illumicode.Request{Address: "ines@ternisle.example"}, At: later},
		} {
			if _, err := svc.Notify(ctx, notice); err != nil {
				t.Fatal(err)
			}
		}
		register(t, k, "8", "jens@ternisle.example")
		if _, err := svc.StepUp(ctx, "8", illumicode.Request{Address: "jens@ternisle.example"},
			illumicode.Action{Exact: []byte("x"), Words: "pay 12 to " + typed}); err != nil {
			t.Fatal(err)
		}
		if err := desk.New(svc).Suppress(ctx, "lene@ternisle.example", desk.Notices,
			desk.Reason("asked by "+strings.ToUpper(typed))); err != nil {
			t.Fatal(err)
		}
		if _, err := svc.Notify(ctx,
			illumicode.Notice{Letter: "moved", Data: pier(3), To: illumicode.Request{Address: "tom@ternisle.example"},
				Fallback: typed, At: later}); err != nil {
			t.Fatal(err)
		}
		if err := svc.Prefer(ctx, illumicode.Preference{Address: typed, Category: "sailings",
			Wanted: false}); err != nil {
			t.Fatal(err)
		}
		waitUntil(t, k, func(sum store.Summary) bool { return sum.Count[store.Claimed] == 0 })
		mailbox := "mara_quist+ferry@ternisle.example"
		before, err := storetest.Search(ctx, flow.Of(svc).Store, mailbox, typed)
		if err != nil || len(before) < 8 {
			t.Fatalf("the search finds the address in %d columns, %v", len(before), err)
		}
		f, err := desk.New(svc).Forget(ctx, typed, desk.Erasure{Leave: desk.LeaveThumbprint})
		if err != nil || !f.Done || len(f.Left) != 0 || f.Rows < 15 {
			t.Errorf("%d rows erased, left %+v, %v", f.Rows, f.Left, err)
		}
		if !slices.Equal(f.Akin, []string{"other@skerry.example"}) { // what the same account asked for
			t.Errorf("other addresses of the same account: %q", f.Akin)
		}
		for _, spelling := range []string{mailbox, typed, "mara_quist"} {
			if found, err := storetest.Search(ctx, flow.Of(svc).Store, spelling); err != nil || len(found) != 0 {
				t.Errorf("%q still stands in %+v, %v", spelling, found, err)
			}
		}
		kept, err := flow.Of(svc).Store.LettersTo(ctx, "ines@ternisle.example", "ines@ternisle.example", 5)
		if err != nil || len(kept) != 1 || !strings.Contains(kept[0].Data, "beside forgotten@invalid") {
			t.Errorf("another person's letter: %+v, %v", kept, err)
		}
		// What was forgotten with a thumbprint is not written to again, whoever imports it.
		done, err := desk.New(svc).Import(ctx,
			rowsOf(desk.Backfill{Line: 2, Subject: "7", Address: typed, Standing: "confirmed"}), desk.ImportOptions{})
		if err != nil || done.Changed != 1 {
			t.Fatalf("%+v, %v", done, err)
		}
		signIn(t, k, illumicode.Request{Address: typed})
		eventually(t, func() bool {
			sent, err := flow.Of(svc).Store.LettersTo(ctx, mailbox, typed, 5)
			return err == nil && len(sent) == 1 && sent[0].State == store.Suppressed
		})
	}, withPier(t))
}

func rowsOf(rows ...desk.Backfill) iter.Seq2[desk.Backfill, error] {
	return func(yield func(desk.Backfill, error) bool) {
		for _, r := range rows {
			if !yield(r, nil) {
				return
			}
		}
	}
}

// An import can be tried, repeated and broken off; it reports what it leaves out, and why.
func TestImport(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		svc, ctx := k.Service, t.Context()
		register(t, k, "held", "taken@ternisle.example")
		day := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
		all := []desk.Backfill{
			{Line: 2, Subject: "1", Address: "old@ternisle.example", Since: day.Add(-time.Hour)},
			{Line: 3, Subject: "2", Address: "new@ternisle.example", Since: day.Add(time.Hour)},
			{Line: 4, Subject: "3", Address: "Gone@ternisle.example", Standing: "bounced", Reason: "550",
				Locale: "de-AT"},
			{Line: 5, Subject: "4", Address: "taken@ternisle.example", Standing: "confirmed"},
			{Line: 6, Subject: "5", Address: "no address"},
			{Line: 7, Subject: "", Address: "x@ternisle.example"},
			{Line: 8, Subject: "6", Address: "y@ternisle.example", Standing: "golden"},
			{Line: 9, Subject: "7", Address: "z@ternisle.example", Locale: "klingon!"},
			// twice in one file
			{Line: 10, Subject: "1", Address: "old@ternisle.example", Since: day.Add(-2 * time.Hour)},
		}
		for range 1200 {
			i := len(all) + 2
			all = append(all, desk.Backfill{Line: i, Subject: fmt.Sprint("s", i),
				Address: fmt.Sprintf("p%d@ternisle.example", i), Standing: "confirmed", Since: day})
		}
		// which another row takes
		all = append(all, desk.Backfill{Line: len(all) + 2, Subject: "other", Address: all[10].Address,
			Standing: "stale"})
		o := desk.ImportOptions{Grandfather: day, DryRun: true}
		for round, want := range []desk.Imported{
			{Rows: 1210, Changed: 1204, Unchanged: 0, Omitted: 6},
			{Rows: 1210, Changed: 1203, Unchanged: 1, Omitted: 6},
			{Rows: 1210, Changed: 0, Unchanged: 1204, Omitted: 6},
		} {
			got, err := desk.New(svc).Import(ctx, rowsOf(all...), o)
			if err != nil || got.Rows != want.Rows || got.Changed != want.Changed || got.Unchanged != want.Unchanged ||
				got.Omitted != want.Omitted || len(got.Why) != 6 {
				t.Errorf("round %d: %+v, %v; want %+v", round, got, err, want)
			}
			if round == 0 && confirmed(t, k, "1") {
				t.Error("the dry run has changed something")
			}
			o.DryRun = false
		}
		if !confirmed(t, k, "1") || confirmed(t, k, "2") || confirmed(t, k, "4") {
			t.Error("grandfathered by date: the old one must be confirmed, the new and the taken one not")
		}
		if gone, err := flow.Of(svc).Store.Addresses(ctx, "3"); err != nil || len(gone) != 1 || gone[0].Locale != "de" {
			t.Errorf("the language of an imported address: %+v, %v", gone, err)
		}
		if _, err := desk.New(svc).Import(ctx,
			rowsOf(desk.Backfill{Line: 2, Subject: "9", Address: "quiet@ternisle.example", Standing: "suppressed",
				Reason: "asked in 2020"}), o); err != nil {
			t.Fatal(err)
		}
		if story, err := desk.New(svc).Story(ctx, "quiet@ternisle.example"); err != nil || len(story.Suppressed) != 1 ||
			story.Suppressed[0].Reason != "asked in 2020" {
			t.Errorf("imported as suppressed: %+v, %v", story.Suppressed, err)
		}
		boom := errors.New("the file ends in the middle")
		broken := func(yield func(desk.Backfill, error) bool) {
			_ = yield(desk.Backfill{Line: 2, Subject: "z", Address: "z@ternisle.example", Standing: "confirmed"},
				nil) && yield(desk.Backfill{}, boom)
		}
		if _, err := desk.New(svc).Import(ctx, broken, o); !errors.Is(err, boom) || !confirmed(t, k, "z") {
			t.Errorf("broken off: %v; what came before must be taken over", err)
		}
	})
}

// A suppressed address gets no notices, or nothing at all, until it is restored; each step stands in
// its story.
func TestSuppress(t *testing.T) {
	k := illumicodetest.New(t, withPier(t))
	svc, ctx := k.Service, t.Context()
	n := register(t, k, "7", mara)
	ended := func() store.Delivery {
		t.Helper()
		waitUntil(t, k, func(sum store.Summary) bool { return sum.Count[store.Waiting]+sum.Count[store.Claimed] == 0 })
		all, err := flow.Of(svc).Store.LettersTo(ctx, mara, mara, 1)
		if err != nil {
			t.Fatal(err)
		}
		return all[0]
	}
	notify := func() store.State {
		t.Helper()
		if _, err := svc.Notify(ctx,
			illumicode.Notice{Letter: "moved", Data: pier(1), To: illumicode.Request{Address: mara}}); err != nil {
			t.Fatal(err)
		}
		return ended().State
	}
	if err := desk.New(svc).Suppress(ctx, strings.ToUpper(mara), desk.Notices, "they complained"); err != nil {
		t.Fatal(err)
	}
	if got := notify(); got != store.Suppressed {
		t.Errorf("a notice: %s", got)
	}
	signIn(t, k, illumicode.Request{Address: mara})
	k.Letter(mara, n+1) // what its owner asks for still comes
	if err := desk.New(svc).Suppress(ctx, mara, desk.AllLetters, "by court order"); err != nil {
		t.Fatal(err)
	}
	signIn(t, k, illumicode.Request{Address: mara})
	if d := ended(); d.State != store.Suppressed || !strings.Contains(d.Note, "address show") {
		t.Errorf("a code: %s, %q", d.State, d.Note)
	}
	if any, err := desk.New(svc).Restore(ctx, mara, "the order was lifted"); err != nil || !any {
		t.Errorf("restored: %v, %v", any, err)
	}
	if got := notify(); got != store.Sent {
		t.Errorf("a notice after it was restored: %s", got)
	}
	// Suppressed again under a newer key for lookups, it is moved once, and the later word holds.
	for _, reason := range []string{"the first", "the second"} {
		if err := desk.New(svc).Suppress(ctx, mara, desk.Notices, desk.Reason(reason)); err != nil {
			t.Fatal(err)
		}
		if reason == "the first" {
			next, err := rotate(k.Keys, token.ForLookups, time.Now(), time.Time{})
			if err != nil {
				t.Fatal(err)
			}
			k.Keys.Replace(next)
		}
	}
	newest := keyring.Of(k.Keys).Index()[0]
	if n, err := flow.Of(svc).Store.RekeySuppressions(ctx, newest.ID(), newest.Lookup, 10); err != nil || n != 1 {
		t.Errorf("%d moved, %v", n, err)
	}
	if sup, err := flow.Of(svc).Store.SuppressedAmong(ctx, []string{newest.Lookup(mara)}); err != nil ||
		len(sup) != 1 || sup[0].Reason != "the second" {
		t.Errorf("after it was moved: %+v, %v", sup, err)
	}
	if any, err := desk.New(svc).Restore(ctx, mara, "the order was lifted"); err != nil || !any {
		t.Errorf("restored once more: %v, %v", any, err)
	}
	story, err := desk.New(svc).Story(ctx, mara)
	if err != nil {
		t.Fatal(err)
	}
	var whats []string
	for _, s := range story.Trail {
		whats = append(whats, s.What)
	}
	if at := slices.IndexFunc(story.Trail, func(s desk.Step) bool { return s.What == "suppressed" }); at < 0 ||
		story.Trail[at].Actor != "operator" {
		t.Errorf("nobody has suppressed it: %+v", story.Trail)
	}
	if text := strings.Join(whats, " "); !strings.Contains(text,
		"restored suppressed suppressed restored begun suppressed begun suppressed") || len(story.Letters) < 5 ||
		len(story.Addresses) != 1 {
		t.Errorf("the story: %s; %d letters", text, len(story.Letters))
	}
}
