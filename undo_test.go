package illumicode_test

import (
	"errors"
	"fmt"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/illumicodetest"
)

// moves begins a change of subject 7's address and returns it, with the link by which the old address takes it back.
func moves(t *testing.T, k *illumicodetest.Kit, from, to string) (illumicode.Pending, illumicode.Link) {
	t.Helper()
	before := len(k.Inbox.Letters(from))
	p, err := k.Service.ChangeAddress(t.Context(), illumicode.Holding{Subject: "7", Address: from},
		illumicode.Request{Address: to})
	if err != nil {
		t.Fatal(err)
	}
	return p, notMeToken(t, k.Letter(from, before+1).Text)
}

// proves confirms a change with the code of its letter.
func proves(t *testing.T, k *illumicodetest.Kit, p illumicode.Pending, to string) error {
	t.Helper()
	return k.Service.ConfirmCode(t.Context(), p.Ticket, letterAbout(t, k, to, "Confirm your new").Code(), nil)
}

const third = "mara@gullquay.example"

// A link that takes a change back stops everything that was begun after it, and freezes what was made; it names these,
// acts once, and is worth nothing after a decision.
func TestUndoStopsWhatFollowed(t *testing.T) {
	for name, tt := range map[string]struct {
		first, second bool // whether they are made
		stopped       []string
		frozen        bool
	}{
		"the second is pending": {stopped: []string{third}},
		"the second is made":    {second: true, stopped: []string{third}, frozen: true},
		"the first is made":     {first: true, stopped: []string{newMara, third}, frozen: true},
		"both are made":         {first: true, second: true, stopped: []string{newMara, third}, frozen: true},
	} {
		t.Run(name, func(t *testing.T) {
			onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
				register(t, k, "7", mara)
				p, undo := moves(t, k, mara, newMara)
				from := mara
				if tt.first {
					if err := proves(t, k, p, newMara); err != nil {
						t.Fatal(err)
					}
					from = newMara
				}
				next, undoNext := moves(t, k, from, third)
				code := letterAbout(t, k, third, "Confirm your new").Code()
				if tt.second {
					if err := proves(t, k, next, third); err != nil {
						t.Fatal(err)
					}
				}
				in, err := k.Service.Inspect(t.Context(), "", undo)
				if err != nil || !slices.Equal(in.Change.Stopped, tt.stopped) || in.Change.Made != tt.frozen {
					t.Errorf("its link would do %+v, %v", in.Change, err)
				}
				told, err := k.Service.Undo(t.Context(), undo, nil)
				if err != nil || !slices.Equal(told.Stopped, tt.stopped) || told.Made != tt.frozen {
					t.Fatalf("told %+v, %v; want %q to be stopped, frozen %v", told, err, tt.stopped, tt.frozen)
				}
				if err := k.Service.ConfirmCode(t.Context(), next.Ticket, code, nil); err == nil {
					t.Error("the second change is made after it was said to be stopped")
				}
				if counts := confirmed(t, k, "7"); counts == tt.frozen {
					t.Errorf("the account counts as confirmed: %v", counts)
				}
				for _, link := range []illumicode.Link{undo, undoNext} {
					if _, err := k.Service.Undo(t.Context(), link, nil); !errors.Is(err, illumicode.ErrUsed) {
						t.Errorf("a link once more: %v", err)
					}
					if in, err := k.Service.Inspect(t.Context(), "", link); !errors.Is(err, illumicode.ErrUsed) ||
						in.Change.Made != tt.frozen {
						t.Errorf("its page once more: %+v, %v; the account is frozen: %v", in.Change, err, tt.frozen)
					}
				}
				if !tt.frozen {
					return
				}
				if err := k.Service.Confirm(t.Context(), k.Link(letterAbout(t, k, mara, "Do you still")),
					nil); err != nil {
					t.Fatal(err)
				}
				if err := desk.New(k.Service).Decide(t.Context(), desk.Decision{Change: told.ID, Keep: mara},
					nil); err != nil && !errors.Is(err, illumicode.ErrNothingPending) {
					t.Fatal(err)
				}
				if !tt.first { // it was the second that was frozen
					return
				}
				for _, link := range []illumicode.Link{undo, undoNext} {
					if _, err := k.Service.Undo(t.Context(), link, nil); !errors.Is(err, illumicode.ErrExpired) {
						t.Errorf("a link after the decision: %v", err)
					}
				}
			})
		})
	}
}

// What taking a change back answers is true, whoever is faster: it, the beginning of another change, or a proof.
func TestUndoRaces(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		for round := range 8 {
			subject, old := fmt.Sprint("s", round), fmt.Sprintf("old%d@ternisle.example", round)
			a, b := fmt.Sprintf("a%d@skerry.example", round), fmt.Sprintf("b%d@skerry.example", round)
			holding := illumicode.Holding{Subject: subject, Address: old}
			register(t, k, subject, old)
			p, err := k.Service.ChangeAddress(t.Context(), holding, illumicode.Request{Address: a})
			if err != nil {
				t.Fatal(err)
			}
			undo := notMeToken(t, k.Letter(old, 2).Text)
			code := k.Letter(a, 1).Code()
			var told illumicode.Change
			var undoErr, beginErr, proveErr error
			var all sync.WaitGroup
			all.Go(func() { told, undoErr = k.Service.Undo(t.Context(), undo, nil) })
			all.Go(func() {
				_, beginErr = k.Service.ChangeAddress(t.Context(), holding, illumicode.Request{Address: b})
			})
			all.Go(func() { proveErr = k.Service.ConfirmCode(t.Context(), p.Ticket, code, nil) })
			all.Wait()
			if undoErr != nil {
				t.Fatalf("undo: %v", undoErr)
			}
			if told.Made != (proveErr == nil) || told.Made == confirmed(t, k, subject) {
				t.Errorf("told %+v; proven: %v; confirmed: %v", told, proveErr, confirmed(t, k, subject))
			}
			if slices.Contains(told.Stopped, b) && beginErr == nil {
				drained(t, k)
				for _, l := range k.Inbox.Letters(b) {
					if l.Link() != "" {
						if err := k.Service.Confirm(t.Context(), k.Link(l), nil); err == nil {
							t.Error("a change is made that was said to be stopped")
						}
					}
				}
			}
		}
	}, withLimits(plenty))
}

// The old address hears of a change when it is made, and once more a day later, each time with a link that takes it
// back; the last letter does not go out if the change was taken back meanwhile.
func TestOwnerHearsOfChange(t *testing.T) {
	for _, undone := range []bool{false, true} {
		k := illumicodetest.New(t)
		n := register(t, k, "7", mara)
		p, _ := moves(t, k, mara, newMara)
		if err := proves(t, k, p, newMara); err != nil {
			t.Fatal(err)
		}
		l := k.Letter(mara, n+2)
		if want := "Your email address for Tern Isle Ferry was changed"; l.Subject != want {
			t.Fatalf("the letter is %q, want %q", l.Subject, want)
		}
		if undone {
			if _, err := k.Service.Undo(t.Context(), notMeToken(t, l.Text), nil); err != nil {
				t.Fatal(err)
			}
		}
		k.Clock.Move(24*time.Hour + time.Minute)
		drained(t, k)
		told := 0
		for _, got := range k.Inbox.Letters(mara)[n+2:] {
			if got.Subject == l.Subject {
				told++
				l = got
			}
		}
		if undone {
			if told != 0 {
				t.Error("a change that was taken back is told of")
			}
			continue
		}
		if told != 1 {
			t.Fatalf("it is told of %d times more, want once", told)
		}
		if change, err := k.Service.Undo(t.Context(), notMeToken(t, l.Text), nil); err != nil || !change.Made {
			t.Errorf("the link of the last letter: %+v, %v", change, err)
		}
	}
}
