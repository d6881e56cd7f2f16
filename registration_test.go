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
)

// signUp registers mara's account, as a browser with a ticket.
func signUp(t *testing.T, k *illumicodetest.Kit, ticket illumicode.Ticket) illumicode.Pending {
	t.Helper()
	p, err := k.Service.Signup(t.Context(), illumicode.Request{Address: mara, Ticket: ticket}, illumicode.Subject("7"))
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// Whoever registers an address once more before it is confirmed goes on, in the same browser with the same challenge
// and the same code; another browser has a challenge of its own. Once it is confirmed, the answer is the same.
func TestRegisterAgain(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		first := signUp(t, k, "")
		code := k.Letter(mara, 1).Code()
		if again := signUp(t, k, first.Ticket); again.Ticket != first.Ticket ||
			!again.ResendAfter.Equal(first.ResendAfter) {
			t.Errorf("pressed twice: %+v, want %+v", again, first)
		}
		k.Clock.Move(time.Minute)
		if again := signUp(t, k, first.Ticket); again.Ticket != first.Ticket ||
			!again.ResendAfter.After(first.ResendAfter) {
			t.Errorf("a minute later: %+v after %+v", again, first)
		}
		if again := k.Letter(mara, 2).Code(); again != code {
			t.Errorf("the second letter has the code %s, the first %s", again, code)
		}
		other := signUp(t, k, "")
		otherCode := k.Letter(mara, 3).Code()
		if other.Ticket == first.Ticket || otherCode == code {
			t.Fatal("two browsers share a challenge")
		}
		if _, err := k.Service.Prove(t.Context(), other.Ticket, code); !errors.Is(err, illumicode.ErrWrongCode) {
			t.Errorf("a code of another browser's challenge: %v", err)
		}
		if err := k.Service.ConfirmCode(t.Context(), first.Ticket, code, nil); err != nil {
			t.Errorf("the right code of the first letter: %v", err)
		}
		if err := k.Service.ConfirmCode(t.Context(), other.Ticket, otherCode, func(context.Context, illumicode.Tx,
			illumicode.Proof) error {
			t.Error("an account is confirmed twice")
			return nil
		}); !errors.Is(err, illumicode.ErrUsed) {
			t.Errorf("the code of the other letter, afterwards: %v", err)
		}
		decoy := signUp(t, k, "")
		if again := signUp(t, k, decoy.Ticket); again.Ticket != decoy.Ticket ||
			!again.ResendAfter.Equal(decoy.ResendAfter) {
			t.Errorf("pressed twice once it is confirmed: %+v, want %+v", again, decoy)
		}
		drained(t, k)
		if got := k.Inbox.Letters(mara); len(got) != 3 {
			t.Errorf("%d letters went out, the last\n%s", len(got), got[len(got)-1].Text)
		}
	})
}

// An account is contested unless every registration came from the browser that proves its address.
func TestContested(t *testing.T) {
	type scene struct {
		*testing.T
		k       *illumicodetest.Kit
		letters int
	}
	up := func(s *scene, ticket illumicode.Ticket) illumicode.Pending {
		p := signUp(s.T, s.k, ticket)
		s.letters++
		s.k.Letter(mara, s.letters)
		return p
	}
	byCode := func(p illumicode.Pending) func(s *scene) (illumicode.Proof, error) {
		return func(s *scene) (illumicode.Proof, error) {
			return s.k.Service.Prove(s.Context(), p.Ticket, s.k.Letter(mara, s.letters).Code())
		}
	}
	byLink := func(ticket illumicode.Ticket) func(s *scene) (illumicode.Proof, error) {
		return func(s *scene) (illumicode.Proof, error) {
			return s.k.Service.ProveLinkFrom(s.Context(), ticket, s.k.Link(s.k.Letter(mara, s.letters)))
		}
	}
	for name, tt := range map[string]struct {
		want  bool
		begin func(s *scene) func(s *scene) (illumicode.Proof, error)
	}{
		"one browser, by code": {false, func(s *scene) func(*scene) (illumicode.Proof, error) {
			return byCode(up(s, ""))
		}},
		"one browser, by link": {false, func(s *scene) func(*scene) (illumicode.Proof, error) {
			return byLink(up(s, "").Ticket)
		}},
		"one browser, the link elsewhere": {true, func(s *scene) func(*scene) (illumicode.Proof, error) {
			up(s, "")
			return byLink("")
		}},
		"a stranger registered first": {true, func(s *scene) func(*scene) (illumicode.Proof, error) {
			up(s, "")
			return byCode(up(s, ""))
		}},
		"a stranger registered later": {true, func(s *scene) func(*scene) (illumicode.Proof, error) {
			mine := up(s, "")
			code := s.k.Letter(mara, 1).Code()
			up(s, "")
			return func(s *scene) (illumicode.Proof, error) { return s.k.Service.Prove(s.Context(), mine.Ticket, code) }
		}},
		"one browser again, after the challenge has lapsed": {
			false, func(s *scene) func(*scene) (illumicode.Proof, error) {
				first := up(s, "")
				s.k.Clock.Move(73 * time.Hour)
				return byCode(up(s, first.Ticket))
			}},
		"a stranger registered, and everything of that is swept": {true,
			func(s *scene) func(*scene) (illumicode.Proof, error) {
				up(s, "")
				s.k.Clock.Move(100 * 24 * time.Hour)
				settle(s.T, s.k)
				now := s.k.Clock.Now()
				for sweep, done := flow.Of(s.k.Service).Store.Sweep(now, now), false; !done; {
					var err error
					if _, done, err = sweep.Piece(s.Context()); err != nil {
						s.Fatal(err)
					}
				}
				return byCode(up(s, ""))
			}},
		"imported before": {true, func(s *scene) func(*scene) (illumicode.Proof, error) {
			people := func(yield func(desk.Backfill, error) bool) {
				yield(desk.Backfill{Line: 1, Subject: "7", Address: mara, Standing: "unconfirmed"}, nil)
			}
			if _, err := desk.New(s.k.Service).Import(s.Context(), people, desk.ImportOptions{}); err != nil {
				s.Fatal(err)
			}
			return byCode(up(s, ""))
		}},
	} {
		t.Run(name, func(t *testing.T) {
			s := &scene{T: t, k: illumicodetest.New(t)}
			prove := tt.begin(s)
			proof, err := prove(s)
			if err != nil {
				t.Fatal(err)
			}
			if !proof.Contested() {
				t.Error("it is said not to be contested before it is accepted")
			}
			if err := inTx(t, s.k, func(tx illumicode.Tx) error { return acceptIn(t, tx, proof) }); err != nil {
				t.Fatal(err)
			}
			if got := proof.Contested(); got != tt.want {
				t.Errorf("contested: %v, want %v", got, tt.want)
			}
		})
	}
	t.Run("a mistyped address", func(t *testing.T) {
		k := illumicodetest.New(t)
		p, err := k.Service.Signup(t.Context(), illumicode.Request{Address: "nara@ternisle.example"},
			illumicode.Subject("7"))
		if err != nil {
			t.Fatal(err)
		}
		if p, err = k.Service.Correct(t.Context(), p.Ticket, illumicode.Request{Address: mara}, nil); err != nil {
			t.Fatal(err)
		}
		if err := k.Service.ConfirmCode(t.Context(), p.Ticket, k.Letter(mara, 1).Code(), func(_ context.Context,
			_ illumicode.Tx, p illumicode.Proof) error {
			if p.Contested() {
				t.Error("a corrected address is contested")
			}
			return nil
		}); err != nil {
			t.Fatal(err)
		}
	})
}

// The letter that tells an owner of an account goes out only if there is one that is confirmed.
func TestNoAccountIsClaimed(t *testing.T) {
	k := illumicodetest.New(t, func(c *illumicode.Config) { c.TellOwner = true })
	occupied := func(context.Context, illumicode.Tx) (string, error) { return "", illumicode.ErrOccupied }
	if _, err := k.Service.Signup(t.Context(), illumicode.Request{Address: mara}, occupied); err != nil {
		t.Fatal(err)
	}
	drained(t, k)
	if got := k.Inbox.Letters(mara); len(got) != 0 {
		t.Errorf("of an account that nobody has confirmed:\n%s", got[0].Text)
	}
	register(t, k, "7", mara)
	signUp(t, k, "")
	if l := k.Letter(mara, 2); !strings.Contains(l.Text, "already") || l.Code() != "" {
		t.Errorf("the owner is told\n%s", l.Text)
	}
}
