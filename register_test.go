package illumicode_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
)

// A newcomer registers an address with a password, and counts how often it was hashed.
type newcomer struct {
	k      *illumicodetest.Kit
	hashed int
	made   []string // "subject: profile secret"
}

func (n *newcomer) register(ctx context.Context, r illumicode.Request, profile, secret string) (illumicode.Pending,
	error) {
	return n.k.Service.Register(ctx, r, func(context.Context) (illumicode.Registration, error) {
		n.hashed++
		return illumicode.Registration{Profile: []byte(profile), Secret: []byte(secret)}, nil
	})
}

func (n *newcomer) create(_ context.Context, _ illumicode.Tx, _ illumicode.Proof,
	r illumicode.Registration) (string, error) {
	subject := fmt.Sprint("s", len(n.made)+1)
	n.made = append(n.made, fmt.Sprintf("%s: %s %s", subject, r.Profile, r.Secret))
	return subject, nil
}

func challengeOf(t *testing.T, k *illumicodetest.Kit, ticket illumicode.Ticket) store.Challenge {
	t.Helper()
	c, err := storeOf(k).ChallengeByTicket(t.Context(), flow.Digest(string(ticket)))
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// An account is made when its address is confirmed, of what the proving browser has registered; a stranger who
// registered the address before makes none, and their password opens nothing.
func TestRegister(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		n, ctx := &newcomer{k: k}, t.Context()
		stranger, err := n.register(ctx, illumicode.Request{Address: mara}, `{"name":"Mallory"}`, "theirs")
		if err != nil {
			t.Fatal(err)
		}
		theirs := k.Letter(mara, 1)
		mine, err := n.register(ctx, illumicode.Request{Address: mara}, `{"name":"Mara"}`, "mistyped")
		if err != nil || mine.Ticket == stranger.Ticket {
			t.Fatalf("%+v, %v", mine, err)
		}
		same, err := n.register(ctx, illumicode.Request{Address: mara, Ticket: mine.Ticket}, `{"name":"Mara Q"}`,
			"mine")
		if err != nil || same.Ticket != mine.Ticket {
			t.Fatalf("the same browser once more: %+v, %v", same, err)
		}
		if c := challengeOf(t, k, mine.Ticket); strings.Contains(c.Sealed, "mine") || c.Sealed == "" {
			t.Errorf("at rest it is %q", c.Sealed)
		}
		if err := k.Service.ConfirmCode(ctx, mine.Ticket, k.Letter(mara, 2).Code(), nil); !errors.Is(err,
			illumicode.ErrPurpose) {
			t.Errorf("confirmed without an account: %v", err)
		}
		if err := k.Service.RegisterCode(ctx, mine.Ticket, k.Letter(mara, 2).Code(), n.create); err != nil {
			t.Fatal(err)
		}
		if len(n.made) != 1 || n.made[0] != `s1: {"name":"Mara Q"} mine` || !confirmed(t, k, "s1") {
			t.Errorf("made %q", n.made)
		}
		if err := k.Service.RegisterLink(ctx, "", k.Link(theirs), n.create); !errors.Is(err, illumicode.ErrCalledOff) {
			t.Errorf("the stranger's letter afterwards: %v", err)
		}
		if c := challengeOf(t, k, mine.Ticket); c.Sealed != "" || c.Made != "s1" {
			t.Errorf("it is kept: %q, for %q", c.Sealed, c.Made)
		}
	})
}

// Once the tries of its code are used up a registration goes on with another challenge, which has all of it; for an
// address that has an account the same happens, in rows of the same size.
func TestRegisterAfterTheTries(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		n, ctx := &newcomer{k: k}, t.Context()
		const ines = "ines@ternisle.example"
		if err := desk.New(k.Service).Confirm(ctx, illumicode.Holding{Subject: "s9", Address: ines},
			"has an account"); err != nil {
			t.Fatal(err)
		}
		sizes := map[string]int{}
		for _, address := range []string{mara, ines} {
			p, err := n.register(ctx, illumicode.Request{Address: address}, `{"name":"Mara"}`, "mine")
			if err != nil {
				t.Fatal(err)
			}
			for range 5 {
				k.Service.Prove(ctx, p.Ticket, "000000")
			}
			k.Clock.Move(31 * time.Second)
			again, err := k.Service.ResendForBrowser(ctx, p.Ticket)
			if err != nil || again.Ticket == p.Ticket {
				t.Fatalf("%s: sent again: %+v, %v", address, again, err)
			}
			sizes[address] = len(challengeOf(t, k, again.Ticket).Sealed)
			if address == ines {
				break
			}
			if err := k.Service.RegisterCode(ctx, again.Ticket, k.Letter(mara, 2).Code(), n.create); err != nil ||
				len(n.made) != 1 || n.made[0] != `s1: {"name":"Mara"} mine` {
				t.Errorf("made %q, %v", n.made, err)
			}
		}
		if sizes[mara] != sizes[ines] {
			t.Errorf("what is sealed has %d bytes, and of a decoy %d", sizes[mara], sizes[ines])
		}
	})
}

// The letter of a stranger's registration, opened by who reads the mailbox, makes an account without the stranger's
// secret.
func TestRegisterElsewhere(t *testing.T) {
	k := illumicodetest.New(t)
	n := &newcomer{k: k}
	if _, err := n.register(t.Context(), illumicode.Request{Address: mara}, "{}", "theirs"); err != nil {
		t.Fatal(err)
	}
	if err := k.Service.RegisterLink(t.Context(), "", k.Link(k.Letter(mara, 1)), n.create); err != nil {
		t.Fatal(err)
	}
	if len(n.made) != 1 || n.made[0] != "s1: {} " {
		t.Errorf("made %q", n.made)
	}
}

// Known and unknown addresses are answered alike: one hash each, rows of the same size, and none after a refusal. What
// nobody proves, and whose key was retired in an emergency, makes nothing.
func TestRegisterTellsNothing(t *testing.T) {
	k := illumicodetest.New(t)
	register(t, k, "7", mara)
	n := &newcomer{k: k}
	var sizes []int
	for _, address := range []string{mara, "nobody@ternisle.example"} {
		p, err := n.register(t.Context(), illumicode.Request{Address: address}, `{"name":"Mara"}`, "a hash")
		if err != nil {
			t.Fatal(err)
		}
		sizes = append(sizes, len(challengeOf(t, k, p.Ticket).Sealed))
	}
	if n.hashed != 2 || sizes[0] != sizes[1] {
		t.Errorf("%d hashes; sealed in %v bytes", n.hashed, sizes)
	}
	if _, err := n.register(t.Context(), illumicode.Request{Address: mara}, "{}",
		strings.Repeat("x", 4<<10)); err == nil {
		t.Error("more than 4 KiB are kept")
	}
	for err := error(nil); err == nil; {
		n.hashed = 0
		_, err = n.register(t.Context(), illumicode.Request{Address: "full@ternisle.example"}, "{}", "x")
	}
	if n.hashed != 0 {
		t.Error("a refused request has hashed a password")
	}
}

// An application that knows of an account which this service has not confirmed rolls its transaction back, and the
// challenge ends. A corrected address takes the registration along.
func TestRegisterOccupiedAndCorrected(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		n, ctx := &newcomer{k: k}, t.Context()
		p, err := n.register(ctx, illumicode.Request{Address: mara}, "{}", "x")
		if err != nil {
			t.Fatal(err)
		}
		code := k.Letter(mara, 1).Code()
		err = k.Service.RegisterCode(ctx, p.Ticket, code,
			func(context.Context, illumicode.Tx, illumicode.Proof, illumicode.Registration) (string, error) {
				return "", illumicode.ErrOccupied
			})
		if !errors.Is(err, illumicode.ErrOccupied) {
			t.Fatal(err)
		}
		if err := k.Service.RegisterCode(ctx, p.Ticket, code, n.create); !errors.Is(err, illumicode.ErrCalledOff) {
			t.Errorf("afterwards: %v", err)
		}
		if p, err = n.register(ctx, illumicode.Request{Address: "mra@ternisle.example"}, "{}", "mine"); err != nil {
			t.Fatal(err)
		}
		if p, err = k.Service.Correct(ctx, p.Ticket, illumicode.Request{Address: mara}, nil); err != nil {
			t.Fatal(err)
		}
		if err := k.Service.RegisterCode(ctx, p.Ticket, k.Letter(mara, 2).Code(), n.create); err != nil {
			t.Fatal(err)
		}
		if len(n.made) != 1 || n.made[0] != "s1: {} mine" {
			t.Errorf("made %q", n.made)
		}
	})
}
