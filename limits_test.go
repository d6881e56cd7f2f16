package illumicode_test

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/pgtest"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/limit"
)

func withLimits(rules ...limit.Rule) func(*illumicode.Config) {
	return func(c *illumicode.Config) { c.Limits = rules }
}

// from returns a context of a request from a network.
func from(t *testing.T, address string) context.Context {
	return illumicode.FromNetwork(t.Context(), netip.MustParseAddr(address))
}

// refused returns the refusal in err, or fails.
func refused(t *testing.T, err error, rule string) *illumicode.TooSoonError {
	t.Helper()
	soon, ok := errors.AsType[*illumicode.TooSoonError](err)
	if !ok || soon.Rule != rule {
		t.Fatalf("%v (%+v), want a refusal by %q", err, soon, rule)
	}
	return soon
}

// However many ask at once, in however many pools, a rule lets through what it says and not one more.
func TestLimitsHoldUnderConcurrency(t *testing.T) {
	const most = 37
	rule := withLimits(
		limit.Rule{Name: "network", By: limit.Network, Quota: limit.Quota{Times: most, Window: limit.Month}},
		limit.Rule{Name: "all", By: limit.All, Rate: limit.Rate{Times: 1, Per: 24 * time.Hour, Burst: most + 1}},
	)
	count := func(t *testing.T, kits ...*illumicodetest.Kit) {
		var admitted, turnedAway atomic.Int64
		var all sync.WaitGroup
		for i := range 300 {
			k := kits[i%len(kits)]
			all.Go(func() {
				_, err := k.Service.Admit(from(t, "203.0.113.7"),
					illumicode.Request{Address: fmt.Sprintf("p%d@ternisle.example", i)})
				switch {
				case err == nil:
					admitted.Add(1)
				case errors.Is(err, illumicode.ErrTooSoon):
					turnedAway.Add(1)
				default:
					t.Error(err)
				}
			})
		}
		all.Wait()
		if admitted.Load() != most || turnedAway.Load() != 300-most {
			t.Errorf("%d admitted and %d turned away, want %d and %d", admitted.Load(), turnedAway.Load(), most,
				300-most)
		}
		// Those that the network's rule refused have spent nothing of the other one.
		if _, err := kits[0].Service.Admit(from(t, "203.0.113.8"), illumicode.Request{Address: mara}); err != nil {
			t.Errorf("one more from elsewhere: %v", err)
		}
		_, err := kits[0].Service.Admit(from(t, "203.0.113.9"), illumicode.Request{Address: mara})
		refused(t, err, "all")
	}
	t.Run("SQLite", func(t *testing.T) { count(t, illumicodetest.Idle(t, rule)) })
	t.Run("PostgreSQL", func(t *testing.T) {
		on := onPostgres(t, pgtest.Fresh(t))
		one := illumicodetest.Idle(t, rule, on)
		shared := func(c *illumicode.Config) { c.Keys = one.Keys }
		count(t, one, illumicodetest.Idle(t, rule, on, shared), illumicodetest.Idle(t, rule, on, shared))
	})
}

// What counts as the same: spellings and sub-addresses of one mailbox, hosts of one IPv6 network.
func TestLimitKeys(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		for i, r := range []struct{ address, network, rule string }{
			{"mara@ternisle.example", "2001:db8:1:2::1", ""},
			{"MARA+ferry@TernIsle.example", "2001:db8:1:3::1", "address"},
			{"mara@tërnisle.example", "2001:db8:1:4::1", ""},
			{"mara+x@TËRNISLE.example", "2001:db8:1:5::1", "address"},
			{"oda@ternisle.example", "2001:db8:1:2:ffff::9", "network"},
			{"oda@ternisle.example", "2001:db8:1:6::1", ""},
			{"ines@ternisle.example", "::ffff:203.0.113.7", ""},
			{"liv@ternisle.example", "203.0.113.7", "network"},
			{"liv@ternisle.example", "203.0.113.8", ""},
		} {
			_, err := k.Service.Admit(from(t, r.network), illumicode.Request{Address: r.address})
			if r.rule != "" {
				refused(t, err, r.rule)
			} else if err != nil {
				t.Errorf("row %d: %v", i, err)
			}
		}
	}, withLimits(
		limit.Rule{Name: "address", By: limit.Address, Quota: limit.Quota{Times: 1, Window: limit.Month}},
		limit.Rule{Name: "network", By: limit.Network, Quota: limit.Quota{Times: 1, Window: limit.Month}},
	))
}

// An admission of which nothing came is credited after a minute; not so by network, where a stranger
// could ask for ever. One that was used stays spent.
func TestUnusedAdmission(t *testing.T) {
	once := limit.Quota{Times: 1, Window: limit.Month}
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		s := k.Service
		mine := illumicode.Request{Address: mara}
		a, err := s.Admit(t.Context(), mine)
		if err != nil {
			t.Fatal(err)
		}
		tx, err := s.Store().DB().BeginTx(t.Context(), nil)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := s.In(tx).BeginSignup(t.Context(), a, "7"); err != nil {
			t.Fatal(err)
		}
		tx.Rollback()
		_, err = s.Admit(t.Context(), mine)
		refused(t, err, "address")
		k.Clock.Move(time.Minute + time.Second)
		eventually(t, func() bool { // a minute after the rollback, when the workers come by
			a, err = s.Admit(t.Context(), mine)
			return err == nil
		})
		if tx, err = s.Store().DB().BeginTx(t.Context(), nil); err != nil {
			t.Fatal(err)
		}
		if _, err := s.In(tx).BeginSignup(t.Context(), a, "7"); err != nil {
			t.Fatal(err)
		}
		if err := tx.Commit(); err != nil {
			t.Fatal(err)
		}
		k.Clock.Move(2 * time.Minute)
		_, err = s.Admit(t.Context(), mine)
		refused(t, err, "address")

		// The one-call forms know at once.
		other := illumicode.Request{Address: "oda@ternisle.example"}
		fault := errors.New("the application's own")
		if _, err := s.Signup(t.Context(), other, func(context.Context, illumicode.Tx) (string, error) {
			return "", fault
		}); !errors.Is(err, fault) {
			t.Fatal(err)
		}
		if _, err := s.Admit(t.Context(), other); err != nil {
			t.Errorf("after a signup that failed: %v", err)
		}

		ctx := from(t, "203.0.113.7")
		if _, err := s.Signup(ctx, illumicode.Request{Address: "liv@ternisle.example"},
			func(context.Context, illumicode.Tx) (string, error) { return "", fault }); !errors.Is(err, fault) {
			t.Fatal(err)
		}
		_, err = s.Admit(ctx, illumicode.Request{Address: "liv@ternisle.example"})
		refused(t, err, "network")
	}, withLimits(limit.Rule{Name: "address", By: limit.Address, Quota: once},
		limit.Rule{Name: "network", By: limit.Network, Quota: once}),
		func(c *illumicode.Config) { c.Outbox.Poll = 10 * time.Millisecond }) // workers refund every 20 polls
}

// A sign-in for which there is no room, as three are open, has spent nothing at its address, and something
// by network, where it came from.
func TestNoRoomIsSpentByNetwork(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		ctx := from(t, "203.0.113.7")
		for i := range 5 {
			_, err := k.Service.SignIn(ctx, illumicode.Request{Address: mara})
			soon, isSoon := errors.AsType[*illumicode.TooSoonError](err)
			if (i < 3) != (err == nil) || i >= 3 && (!isSoon || soon.Rule != "") {
				t.Fatalf("sign-in %d: %v", i+1, err)
			}
		}
		answer, err := desk.New(k.Service).TryLimits(ctx, illumicode.Request{Address: mara, Purpose: challenge.SignIn},
			limit.First)
		if err != nil {
			t.Fatal(err)
		}
		for _, r := range answer.Rules {
			if want := map[string]int{"address": 7, "network": 5}[r.Rule.Name]; r.Left != want {
				t.Errorf("%s has %d left, want %d", r.Rule.Name, r.Left, want)
			}
		}
	}, withLimits(
		limit.Rule{Name: "address", By: limit.Address, Quota: limit.Quota{Times: 10, Window: limit.Month}},
		limit.Rule{Name: "network", By: limit.Network, Quota: limit.Quota{Times: 10, Window: limit.Month}},
	))
}

// A resend that a limit refuses says when it will do; the code of the earlier letter is good
// meanwhile. An operator is not refused.
func TestResendLimit(t *testing.T) {
	rules := withLimits(limit.Rule{Name: "again", By: limit.Address, Stage: limit.Again,
		Ladder: limit.Ladder{Rungs: []time.Duration{20 * time.Minute}, Decay: time.Hour}})
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		s := k.Service
		p, err := s.Signup(t.Context(), illumicode.Request{Address: mara}, illumicode.Subject("7"))
		if err != nil {
			t.Fatal(err)
		}
		first := k.Letter(mara, 1)
		k.Clock.Move(31 * time.Second)
		if p, err = s.ResendForBrowser(t.Context(), p.Ticket); err != nil {
			t.Fatal(err)
		}
		if again := k.Letter(mara, 2); again.Code() != first.Code() {
			t.Errorf("the letter sent again has another code")
		}
		k.Clock.Move(61 * time.Second)
		_, err = s.ResendForBrowser(t.Context(), p.Ticket)
		if soon := refused(t, err, "again"); soon.At.Sub(s.Now()) < 18*time.Minute || soon.Limit == "" {
			t.Errorf("told to come back at %v (%q)", soon.At, soon.Limit)
		}
		if story, err := desk.New(s).Story(t.Context(), mara); err != nil || len(story.Limited) != 4 ||
			!story.Limited[0].Again || story.Limited[0].Rule != "again" ||
			story.Limited[0].Until.Sub(s.Now()) < 18*time.Minute {
			t.Errorf("what the story says is refused now: %+v, %v", story.Limited, err)
		}
		if _, err := s.ResendForSubject(t.Context(), "7"); !errors.Is(err, illumicode.ErrTooSoon) {
			t.Errorf("the application's own resend: %v", err)
		}
		if _, err := s.ResendForOwner(t.Context(), "Mara@ternisle.example"); err != nil {
			t.Errorf("an operator's: %v", err)
		}
		k.Letter(mara, 3)
		if err := s.ConfirmCode(t.Context(), p.Ticket, first.Code(), nil); err != nil {
			t.Errorf("the code of the first letter: %v", err)
		}
		story, err := desk.New(s).Story(t.Context(), mara)
		if err != nil {
			t.Fatal(err)
		}
		var who []string
		for _, step := range story.Trail {
			if step.What == "resent" {
				who = append(who, step.Outcome)
			}
		}
		if fmt.Sprint(who) != "[for the operator for the person]" {
			t.Errorf("the trail has %q", who)
		}
	}, rules)
}

// A stranger who has used up an address's letters has not used up those of its owner's browser.
func TestKnownBrowserIsNotLockedOut(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		n := register(t, k, "7", mara)
		p := signIn(t, k, illumicode.Request{Address: mara})
		who, err := k.Service.SignInCode(t.Context(), p.Ticket, k.Letter(mara, n+1).Code(), nil)
		if err != nil {
			t.Fatal(err)
		}
		for range 2 {
			k.Clock.Move(20 * time.Minute) // past the places that open challenges take
			k.Service.SignIn(t.Context(), illumicode.Request{Address: mara})
		}
		_, err = k.Service.SignIn(t.Context(), illumicode.Request{Address: mara})
		refused(t, err, "address")
		signIn(t, k, illumicode.Request{Address: mara, Browser: who.Browser})
		// Nor those of who is signed in and asked to prove the address once more.
		if _, err := k.Service.StepUp(t.Context(), "7", illumicode.Request{Address: mara},
			illumicode.Action{Exact: []byte("pay"), Words: "pay"}); err != nil {
			t.Errorf("a step-up: %v", err)
		}
	}, withLimits(limit.Rule{Name: "address", By: limit.Address, Quota: limit.Quota{Times: 3, Window: limit.Month}}))
}

// The form cannot be made to write to any number of people, neither by signups nor, where addresses
// are told that they have no account, by sign-ins; and the second says nothing about it.
func TestNewAddressesAreBraked(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		for i := range 2 {
			to := fmt.Sprintf("stranger%d@ternisle.example", i)
			signIn(t, k, illumicode.Request{Address: to})
			k.Letter(to, 1)
		}
		_, err := k.Service.Signup(t.Context(), illumicode.Request{Address: mara}, illumicode.Subject("7"))
		refused(t, err, "new")
		signIn(t, k, illumicode.Request{Address: "stranger9@ternisle.example"})
		eventually(t, func() bool {
			story, err := desk.New(k.Service).Story(t.Context(), "stranger9@ternisle.example")
			return err == nil && len(story.Letters) == 1 && store.State(story.Letters[0].State).Final()
		})
		if n := len(k.Inbox.Letters("stranger9@ternisle.example")); n != 0 {
			t.Errorf("%d letters went out past the brake", n)
		}
	}, withLimits(limit.Rule{Name: "new", By: limit.All, New: true, Quota: limit.Quota{Times: 2, Window: limit.Month}}),
		func(c *illumicode.Config) { c.TellOwner = true })
}

// What TryLimits foretells is what happens, and foretelling spends nothing. A rule that observes
// refuses nobody.
func TestTryLimits(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		r := illumicode.Request{Address: mara}
		for left := 3; left >= 0; left-- {
			var told desk.Answer
			var err error
			for range 3 {
				if told, err = desk.New(k.Service).TryLimits(t.Context(), r, limit.First); err != nil {
					t.Fatal(err)
				}
			}
			if told.Now != left || told.Hour != left+5 && told.Hour != left+6 || told.Refuser != "pace" {
				t.Errorf("with %d left: %+v", left, told)
			}
			_, err = k.Service.Admit(t.Context(), r)
			if left > 0 && err != nil {
				t.Fatal(err)
			}
			if left == 0 {
				if soon := refused(t, err, "pace"); !soon.At.Equal(told.NextAfter) {
					t.Errorf("refused until %v, foretold %v", soon.At, told.NextAfter)
				}
			}
		}
	}, withLimits(
		limit.Rule{Name: "pace", By: limit.Address, Rate: limit.Rate{Times: 6, Per: time.Hour, Burst: 3}},
		limit.Rule{Name: "watched", By: limit.All, Quota: limit.Quota{Times: 1, Window: limit.Month}, Observe: true},
	))
}

// Wrong codes are counted by network over all challenges, before a code is looked at: no number of tries at once gets
// past the rule. A right code costs nothing, and a known browser is apart.
func TestWrongCodesByNetwork(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		n := register(t, k, "7", mara)
		known := signIn(t, k, illumicode.Request{Address: mara})
		who, err := k.Service.SignInCode(t.Context(), known.Ticket, k.Letter(mara, n+1).Code(), nil)
		if err != nil {
			t.Fatal(err)
		}
		ctx := from(t, "203.0.113.7")
		var tickets []illumicode.Ticket
		for i := range 10 {
			p, err := k.Service.Signup(ctx, illumicode.Request{Address: fmt.Sprintf("p%d@ternisle.example", i)},
				illumicode.Subject(fmt.Sprint("s", i)))
			if err != nil {
				t.Fatal(err)
			}
			tickets = append(tickets, p.Ticket)
		}
		var wrong, late atomic.Int64
		var all sync.WaitGroup
		for _, ticket := range tickets {
			all.Go(func() {
				_, err := k.Service.Prove(ctx, ticket, "000000")
				switch soon, isSoon := errors.AsType[*illumicode.TooSoonError](err); {
				case errors.Is(err, illumicode.ErrWrongCode):
					wrong.Add(1)
				case isSoon && soon.Rule == "wrong":
					late.Add(1)
				default:
					t.Error(err)
				}
			})
		}
		all.Wait()
		if wrong.Load() != 4 || late.Load() != 6 {
			t.Errorf("%d codes were looked at, %d were too soon; want 4 and 6", wrong.Load(), late.Load())
		}
		mine, err := k.Service.SignIn(ctx, illumicode.Request{Address: mara, Browser: who.Browser})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := k.Service.Prove(ctx, mine.Ticket, "000000"); !errors.Is(err, illumicode.ErrWrongCode) {
			t.Errorf("a known browser in the same network: %v", err)
		}
		k.Clock.Move(7 * time.Hour) // room for one more
		for i := range 2 {
			address := fmt.Sprintf("q%d@ternisle.example", i)
			p, err := k.Service.Signup(ctx, illumicode.Request{Address: address}, illumicode.Subject(address))
			if err != nil {
				t.Fatal(err)
			}
			if _, err := k.Service.Prove(ctx, p.Ticket, k.Letter(address, 1).Code()); err != nil {
				t.Errorf("right code %d: %v", i+1, err)
			}
		}
	}, func(c *illumicode.Config) {
		c.Limits = []limit.Rule{{Name: "wrong", By: limit.Network, Stage: limit.Wrong,
			Rate: limit.Rate{Times: 4, Per: 24 * time.Hour, Burst: 4}}}
	})
}

// Strangers can use up what a rule for everybody leaves them, and shut nobody out who presents something: a browser
// that has signed in there, a session, or what the application vouches for. Whoever is refused is told that a puzzle
// helps.
func TestReservedShares(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		n := register(t, k, "7", mara)
		p := signIn(t, k, illumicode.Request{Address: mara})
		who, err := k.Service.SignInCode(t.Context(), p.Ticket, k.Letter(mara, n+1).Code(), nil)
		if err != nil {
			t.Fatal(err)
		}
		k.Clock.Move(24 * time.Hour)
		refusedAt := 0
		for i := range 10 {
			_, err := k.Service.SignIn(t.Context(), illumicode.Request{Address: fmt.Sprintf("p%d@ternisle.example", i)})
			if err == nil {
				continue
			}
			refusedAt = i
			if soon := refused(t, err, "all"); !soon.Vouch {
				t.Errorf("nobody is told that a puzzle helps: %+v", soon)
			}
			break
		}
		if refusedAt != 5 {
			t.Errorf("strangers were refused after %d, want 5", refusedAt)
		}
		for name, r := range map[string]illumicode.Request{
			"a known browser": {Address: mara, Browser: who.Browser},
			"vouched for":     {Address: "p9@ternisle.example", Vouched: true},
		} {
			if _, err := k.Service.SignIn(t.Context(), r); err != nil {
				t.Errorf("%s: %v", name, err)
			}
		}
		// who holds the typed address makes no difference
		if _, err := k.Service.SignIn(t.Context(), illumicode.Request{Address: mara}); !errors.Is(err,
			illumicode.ErrTooSoon) {
			t.Errorf("a stranger at an address that has an account: %v", err)
		}
		for range 3 {
			if _, err = k.Service.SignIn(t.Context(), illumicode.Request{Address: "z@ternisle.example",
				Vouched: true}); err != nil {
				break
			}
		}
		for range 10 {
			if _, err = k.Service.SignIn(t.Context(), illumicode.Request{Address: fmt.Sprint(time.Now().UnixNano(),
				"@ternisle.example"), Vouched: true}); err != nil {
				break
			}
		}
		if soon := refused(t, err, "all"); soon.Vouch {
			t.Error("all is used up, and who is vouched for is told to be vouched for")
		}
	}, func(c *illumicode.Config) {
		c.Limits = []limit.Rule{{Name: "all", By: limit.All, On: []string{"signin"}, Reserved: 0.5,
			Rate: limit.Rate{Times: 10, Per: 24 * time.Hour, Burst: 10}}}
	})
}
