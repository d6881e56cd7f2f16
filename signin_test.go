package illumicode_test

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/pgtest"
	"github.com/illumicode/illumicode/internal/store"
)

// onBoth runs a test on both stores, each with a worker.
func onBoth(t *testing.T, test func(t *testing.T, k *illumicodetest.Kit), change ...func(*illumicode.Config)) {
	t.Run("SQLite", func(t *testing.T) { test(t, illumicodetest.New(t, change...)) })
	t.Run("PostgreSQL", func(t *testing.T) {
		test(t, illumicodetest.New(t, append(change, onPostgres(t, pgtest.Fresh(t)))...))
	})
}

// register makes a subject whose address is confirmed, and returns how many letters it has got.
func register(t *testing.T, k *illumicodetest.Kit, subject, address string) int {
	t.Helper()
	n := len(k.Inbox.Letters(address)) + 1
	if _, err := k.Service.Signup(t.Context(), illumicode.Request{Address: address, Name: "Mara"},
		illumicode.Subject(subject)); err != nil {
		t.Fatal(err)
	}
	if err := k.Service.Confirm(t.Context(), k.Link(k.Letter(address, n)), nil); err != nil {
		t.Fatal(err)
	}
	return n
}

func signIn(t *testing.T, k *illumicodetest.Kit, r illumicode.Request) illumicode.Pending {
	t.Helper()
	p, err := k.Service.SignIn(t.Context(), r)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func TestSignIn(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		n := register(t, k, "7", mara)
		p := signIn(t, k, illumicode.Request{Address: "  MARA@ternisle.example"})
		if p.Address != "MARA@ternisle.example" {
			t.Errorf("the answer shows %q, which was not typed", p.Address)
		}
		l := k.Letter(mara, n+1) // as it was confirmed
		var session string
		who, err := k.Service.SignInCode(t.Context(), p.Ticket, l.Code(),
			func(_ context.Context, _ illumicode.Tx, who illumicode.SignedIn) error {
				session = who.Subject
				return nil
			})
		if err != nil || who.Subject != "7" || session != "7" || who.Address != mara {
			t.Fatalf("signed in %+v, session of %q, %v", who, session, err)
		}
		if _, err := k.Service.SignInCode(t.Context(), p.Ticket, l.Code(), nil); !errors.Is(err, illumicode.ErrUsed) {
			t.Errorf("the code once more: %v", err)
		}

		// The link signs in the browser that began, and no other.
		p = signIn(t, k, illumicode.Request{Address: mara, Browser: who.Browser})
		tok := k.Link(k.Letter(mara, n+2))
		for _, ticket := range []illumicode.Ticket{"", "another ticket"} {
			if _, err := k.Service.SignInLink(t.Context(), ticket, tok, nil); !errors.Is(err,
				illumicode.ErrOtherBrowser) {
				t.Errorf("the link with ticket %q: %v", ticket, err)
			}
		}
		if in, err := k.Service.Inspect(t.Context(), "", tok); !errors.Is(err, illumicode.ErrOtherBrowser) ||
			in.Pending.Address != mara {
			t.Errorf("the page elsewhere is told %+v, %v", in, err)
		}
		if who, err := k.Service.SignInLink(t.Context(), p.Ticket, tok, nil); err != nil || who.Subject != "7" {
			t.Errorf("the link where it began: %+v, %v", who, err)
		}
	})
}

// Proofs of one purpose are worth nothing to another.
func TestPurposesDoNotMix(t *testing.T) {
	k := illumicodetest.New(t)
	n := register(t, k, "7", mara)
	signup, err := k.Service.Signup(t.Context(), illumicode.Request{Address: "new@ternisle.example"},
		illumicode.Subject("8"))
	if err != nil {
		t.Fatal(err)
	}
	l := k.Letter("new@ternisle.example", 1)
	if _, err := k.Service.SignInCode(t.Context(), signup.Ticket, l.Code(), nil); !errors.Is(err,
		illumicode.ErrPurpose) {
		t.Errorf("a signup's code signs in: %v", err)
	}
	if _, err := k.Service.SignInLink(t.Context(), signup.Ticket, k.Link(l), nil); !errors.Is(err,
		illumicode.ErrPurpose) {
		t.Errorf("a signup's link signs in: %v", err)
	}
	p := signIn(t, k, illumicode.Request{Address: mara})
	l = k.Letter(mara, n+1)
	if err := k.Service.ConfirmCode(t.Context(), p.Ticket, l.Code(), nil); !errors.Is(err, illumicode.ErrPurpose) {
		t.Errorf("a sign-in's code confirms: %v", err)
	}
	if err := k.Service.ConfirmFrom(t.Context(), p.Ticket, k.Link(l), nil); !errors.Is(err, illumicode.ErrPurpose) {
		t.Errorf("a sign-in's link confirms: %v", err)
	}
	// The link "this was not me" proves nothing, and the proof disowns nothing.
	notMe := notMeToken(t, l.Text)
	if _, err := k.Service.SignInLink(t.Context(), p.Ticket, notMe, nil); !errors.Is(err, illumicode.ErrInvalid) {
		t.Errorf("the link to disown signs in: %v", err)
	}
	if err := k.Service.NotMe(t.Context(), k.Link(l), nil); !errors.Is(err, illumicode.ErrInvalid) {
		t.Errorf("the proof disowns: %v", err)
	}
	if _, err := k.Service.Undo(t.Context(), notMe, nil); !errors.Is(err, illumicode.ErrInvalid) {
		t.Errorf("the link to disown undoes: %v", err)
	}
}

// notMeToken returns the token of a letter's link to /not-me.
func notMeToken(t *testing.T, text string) illumicode.Link {
	t.Helper()
	_, rest, ok := strings.Cut(text, "/not-me?t=")
	if !ok {
		t.Fatalf("no link to disown in\n%s", text)
	}
	return illumicode.Link(strings.Fields(rest)[0])
}

// A code without the ticket of its browser, and a ticket without its code, are worth nothing.
func TestTicketAndCodeBelongTogether(t *testing.T) {
	k := illumicodetest.New(t)
	n := register(t, k, "7", mara)
	owner := signIn(t, k, illumicode.Request{Address: mara})
	code := k.Letter(mara, n+1).Code()
	thief := signIn(t, k, illumicode.Request{Address: mara})
	k.Letter(mara, n+2)
	for _, ticket := range []illumicode.Ticket{"", "guess", thief.Ticket} {
		if _, err := k.Service.SignInCode(t.Context(), ticket, code, nil); err == nil {
			t.Errorf("the code signs in with ticket %q", ticket)
		}
	}
	if _, err := k.Service.SignInCode(t.Context(), owner.Ticket, code, nil); err != nil {
		t.Errorf("the owner, after the thief: %v", err)
	}
}

// A stranger who knows the address opens what they can and burns all tries: the owner still gets in.
func TestStrangerCannotLockOwnerOut(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		n := register(t, k, "7", mara)
		first := signIn(t, k, illumicode.Request{Address: mara})
		n++
		who, err := k.Service.SignInCode(t.Context(), first.Ticket, k.Letter(mara, n).Code(), nil)
		if err != nil {
			t.Fatal(err)
		}
		k.Clock.Move(16 * time.Minute)
		owner := signIn(t, k, illumicode.Request{Address: mara}) // on a browser that is not known
		n++
		mine := k.Letter(mara, n).Code()

		burnt, opened := 0, 0
		var room *illumicode.TooSoonError
		for {
			p, err := k.Service.SignIn(t.Context(), illumicode.Request{Address: mara})
			if errors.As(err, &room) {
				break
			}
			if err != nil {
				t.Fatal(err)
			}
			opened++
			for {
				_, err := k.Service.SignInCode(t.Context(), p.Ticket, wrongCode(mine), nil)
				if soon, ok := errors.AsType[*illumicode.TooSoonError](err); ok {
					k.Clock.Move(soon.At.Sub(k.Service.Now()))
					continue
				}
				if errors.Is(err, illumicode.ErrNoTries) {
					break
				}
				if !errors.Is(err, illumicode.ErrWrongCode) {
					t.Fatal(err)
				}
				burnt++
			}
		}
		if opened != proof.MaxOpen-1 || burnt > 10 {
			t.Errorf("the stranger opened %d beside the owner's and had %d tries", opened, burnt)
		}
		if wait := room.At.Sub(k.Service.Now()); wait <= 0 || wait > 15*time.Minute {
			t.Errorf("there is room again in %v", wait)
		}
		if _, err := k.Service.SignInCode(t.Context(), owner.Ticket, mine, nil); err != nil {
			t.Errorf("the owner's code, after the stranger: %v", err)
		}
		n += opened
		k.Letter(mara, n)
		p := signIn(t, k, illumicode.Request{Address: mara, Browser: who.Browser})
		n++
		if _, err := k.Service.SignInCode(t.Context(), p.Ticket, k.Letter(mara, n).Code(), nil); err != nil {
			t.Errorf("the known browser, after the stranger: %v", err)
		}
		// What makes one browser known at one address is worth nothing at another.
		register(t, k, "8", "ines@ternisle.example")
		for range proof.MaxOpen {
			signIn(t, k, illumicode.Request{Address: "ines@ternisle.example", Browser: who.Browser})
		}
		if _, err := k.Service.SignIn(t.Context(), illumicode.Request{Address: "ines@ternisle.example"}); !errors.Is(
			err, illumicode.ErrTooSoon) {
			t.Errorf("a browser known to Mara is known to Ines: %v", err)
		}
	})
}

// A browser's next sign-in takes the place of its own earlier one, and of no other.
func TestSignInSupersedesItsOwn(t *testing.T) {
	k := illumicodetest.New(t)
	n := register(t, k, "7", mara)
	other := signIn(t, k, illumicode.Request{Address: mara})
	otherCode := k.Letter(mara, n+1).Code()
	p := signIn(t, k, illumicode.Request{Address: mara})
	code := k.Letter(mara, n+2).Code()
	waits := []time.Duration{30 * time.Second, time.Minute, 5 * time.Minute}
	for _, wait := range waits { // each is one more letter, and waits as a resend does
		_, err := k.Service.SignIn(t.Context(), illumicode.Request{Address: mara, Ticket: p.Ticket})
		soon, ok := errors.AsType[*illumicode.TooSoonError](err)
		if !ok {
			t.Fatalf("at once: %v", err)
		}
		if left := soon.At.Sub(k.Service.Now()); left > wait || left < wait-5*time.Second { // some of it has passed
			t.Fatalf("it has to wait for %v, want %v", left, wait)
		}
		k.Clock.Move(wait)
		p2 := signIn(t, k, illumicode.Request{Address: mara, Ticket: p.Ticket})
		if _, err := k.Service.SignInCode(t.Context(), p.Ticket, code, nil); !errors.Is(err, illumicode.ErrCalledOff) {
			t.Fatalf("the superseded one: %v", err)
		}
		p = p2
	}
	if c, err := k.Service.Pending(t.Context(), other.Ticket); err != nil || c.Confirmed || c.TriesLeft != 5 {
		t.Errorf("another browser's: %+v, %v", c, err)
	}
	if _, err := k.Service.SignInCode(t.Context(), other.Ticket, otherCode, nil); err != nil {
		t.Errorf("another browser's code: %v", err)
	}
}

// Hundreds of requests with the right code at once, in two services on one database: one wins.
func TestSignInOnce(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		second := illumicodetest.Idle(t, func(c *illumicode.Config) {
			c.Store, c.Keys = k.Service.Store(), k.Keys
		})
		n := register(t, k, "7", mara)
		p := signIn(t, k, illumicode.Request{Address: mara})
		tok := k.Link(k.Letter(mara, n+1))
		var won, used atomic.Int64
		var all sync.WaitGroup
		for i := range 200 {
			svc := k.Service
			if i%2 == 1 {
				svc = second.Service
			}
			all.Go(func() {
				_, err := svc.SignInLink(t.Context(), p.Ticket, tok, nil)
				switch {
				case err == nil:
					won.Add(1)
				case errors.Is(err, illumicode.ErrUsed):
					used.Add(1)
				case !errors.Is(err, illumicode.ErrStuck):
					t.Error(err)
				}
			})
		}
		all.Wait()
		if won.Load() != 1 {
			t.Errorf("%d won, %d were told that it was used", won.Load(), used.Load())
		}
	}, func(c *illumicode.Config) { c.Site.BaseURL = "http://127.0.0.1:1" })
}

// At most three are open, however many ask at once.
func TestOpenSignInsAreCounted(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		var began atomic.Int64
		var all sync.WaitGroup
		for range 40 {
			all.Go(func() {
				_, err := k.Service.SignIn(t.Context(), illumicode.Request{Address: "nobody@ternisle.example"})
				if err == nil {
					began.Add(1)
				} else if !errors.Is(err, illumicode.ErrTooSoon) {
					t.Error(err)
				}
			})
		}
		all.Wait()
		if began.Load() != proof.MaxOpen {
			t.Errorf("%d began at once, want %d", began.Load(), proof.MaxOpen)
		}
	})
}

// Whoever asks cannot tell whether an address has an account: not by the answer, not by what
// follows. TellOwner writes to the address itself.
func TestSignInTellsNothing(t *testing.T) {
	for _, tell := range []bool{false, true} {
		k := illumicodetest.New(t, func(c *illumicode.Config) { c.TellOwner = tell })
		register(t, k, "7", mara)
		const nobody = "nobody@ternisle.example"
		var answers [2][]string
		for i, address := range []string{mara, nobody} {
			typed := strings.ToUpper(address[:4]) + address[4:] // nobody has confirmed it in this spelling
			p := signIn(t, k, illumicode.Request{Address: typed})
			say := func(what string, err error) {
				answers[i] = append(answers[i], fmt.Sprint(what, err))
			}
			say(fmt.Sprint(p.Purpose, p.Forms, p.Confirmed, p.Ends.Sub(k.Service.Now()).Round(time.Minute),
				len(p.Ticket)), nil)
			_, err := k.Service.ResendForBrowser(t.Context(), p.Ticket)
			say("resend", err)
			shown, err := k.Service.Pending(t.Context(), p.Ticket)
			say(fmt.Sprint("shown as typed: ", shown.Address == typed), err)
			for range 6 {
				_, err := k.Service.SignInCode(t.Context(), p.Ticket, "000 000", nil)
				if wrong, ok := errors.AsType[*illumicode.WrongCodeError](err); ok {
					say(fmt.Sprint("left", wrong.TriesLeft), err)
				} else {
					say("then", err)
				}
			}
			for range 3 {
				_, err := k.Service.SignIn(t.Context(), illumicode.Request{Address: address})
				say("again", err)
				if soon, ok := errors.AsType[*illumicode.TooSoonError](err); ok {
					say(fmt.Sprint("room in ", soon.At.Sub(k.Service.Now()).Round(10*time.Second)), nil)
				}
			}
		}
		// When a code expires does not tell either: not by how long a provider takes.
		waitUntil(t, k, func(sum store.Summary) bool { return sum.Count[store.Waiting]+sum.Count[store.Claimed] == 0 })
		var lives [2]time.Duration
		for i, address := range []string{mara, nobody} {
			if err := flow.Of(k.Service).Store.Write(t.Context(), func(rows store.Tx) error {
				all, err := rows.Lately(t.Context(), address, challenge.SignIn, k.Service.Now())
				if err == nil {
					lives[i] = all[0].CodeEnds().Sub(all[0].Created)
				}
				return err
			}); err != nil {
				t.Fatal(err)
			}
		}
		if lives[0] != lives[1] || lives[0] != 10*time.Minute+30*time.Second {
			t.Errorf("a code lives for %v with an account, and for %v without", lives[0], lives[1])
		}
		if fmt.Sprint(answers[0]) != fmt.Sprint(answers[1]) {
			t.Errorf("an address with an account:\n%q\nwithout:\n%q", answers[0], answers[1])
		}
		if tell {
			if l := k.Letter(nobody, 1); l.Code() != "" || !strings.HasPrefix(l.Subject, "No account with") {
				t.Errorf("the owner without an account is told:\n%s", l.Text)
			}
			continue
		}
		waitUntil(t, k, func(sum store.Summary) bool { return sum.Count[store.Waiting]+sum.Count[store.Claimed] == 0 })
		if n := len(k.Inbox.Letters(nobody)); n != 0 {
			t.Errorf("%d letters went out to nobody", n)
		}
	}
}

// waitUntil waits for a summary of the outbox.
func waitUntil(t *testing.T, k *illumicodetest.Kit, good func(store.Summary) bool) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	for ; ; time.Sleep(5 * time.Millisecond) {
		sum, err := flow.Of(k.Service).Store.Summary(ctx, k.Service.Now())
		if err != nil {
			t.Fatal(err)
		}
		if good(sum) {
			return
		}
	}
}

// Wrong codes make guessing slower, by address and by network, also across challenges and after the
// caller's rollbacks; the clock going back does not lock.
func TestWrongCodesSlowDown(t *testing.T) {
	k := illumicodetest.New(t)
	n := register(t, k, "7", mara)
	from := illumicode.FromNetwork(t.Context(), netip.MustParseAddr("2001:db8:7:7::1"))
	p, err := k.Service.SignIn(from, illumicode.Request{Address: mara})
	if err != nil {
		t.Fatal(err)
	}
	wrong := wrongCode(k.Letter(mara, n+1).Code())
	for range 5 {
		k.Service.SignInCode(from, p.Ticket, wrong, nil)
	}
	p2, err := k.Service.SignIn(from, illumicode.Request{Address: mara})
	if err != nil {
		t.Fatal(err)
	}
	code := k.Letter(mara, n+2).Code()
	if _, err := k.Service.SignInCode(from, p2.Ticket, wrong, nil); !errors.Is(err, illumicode.ErrWrongCode) {
		t.Fatalf("the first try of a challenge never waits: %v", err)
	}
	_, err = k.Service.SignInCode(from, p2.Ticket, code, nil)
	soon, ok := errors.AsType[*illumicode.TooSoonError](err)
	if wait := soon.At.Sub(k.Service.Now()); !ok || wait <= 0 || wait > 30*time.Second {
		t.Fatalf("the second one, after six wrong codes: %v, in %v", err, wait)
	}
	k.Clock.Move(-24 * time.Hour)
	k.Clock.Move(24*time.Hour + time.Until(soon.At))
	if _, err := k.Service.SignInCode(from, p2.Ticket, code, nil); err != nil {
		t.Errorf("the right code after the pause: %v", err)
	}
	steps, err := flow.Of(k.Service).Store.Trail(t.Context(), mara, 100)
	if err != nil {
		t.Fatal(err)
	}
	wrongs := 0
	for _, s := range steps {
		if s.What == "tried" && s.Network == "2001:db8:7:7::/64" {
			wrongs++
		}
	}
	if wrongs != 6 || steps[0].What != "accepted" {
		t.Errorf("the trail has %d wrong codes from the network, and ends with %q", wrongs, steps[0].What)
	}
}
