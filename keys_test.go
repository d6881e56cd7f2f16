package illumicode_test

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/core/keyring"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/internal/text"
	"github.com/illumicode/illumicode/token"
)

// again starts another service on a kit's database, at the same time, with another keyring.
func again(t *testing.T, k *illumicodetest.Kit, ring *token.Keyring, change ...func(*illumicode.Config)) (
	*illumicode.Service, error) {
	t.Helper()
	var c illumicode.Config
	illumicodetest.Idle(t, func(good *illumicode.Config) { c = *good })
	c.Store, c.Keys, c.Now = k.Service.Store(), ring, k.Clock.Now
	for _, fn := range change {
		fn(&c)
	}
	return illumicode.New(c)
}

// What a start says to a keyring depends on what is open in the database under its keys, and on nothing else.
func TestStartLooksAtKeys(t *testing.T) {
	k := illumicodetest.Idle(t)
	if _, err := again(t, k, token.Generate(time.Now())); err != nil {
		t.Fatalf("a new keyring where nothing is open: %v", err)
	}
	begin(t, k, "a")
	kid := keyring.Of(k.Keys).Active().ID()

	if _, err := again(t, k, token.Generate(time.Now())); err == nil || !strings.Contains(err.Error(), "Config.Keys") ||
		!strings.Contains(err.Error(), kid+": 1") {
		t.Errorf("a keyring that knows no open key: %v", err)
	}
	if _, err := again(t, k, k.Keys); err != nil {
		t.Errorf("the keyring itself: %v", err)
	}
	rotated, err := rotate(k.Keys, token.ForLinks, k.Clock.Now(), k.Clock.Now().Add(time.Hour))
	if err != nil {
		t.Fatal(err)
	}
	k.Clock.Move(2 * time.Hour) // the old key's time is over, and the challenge's is not
	if _, err := again(t, k, rotated); err != nil {
		t.Errorf("a keyring that has the key, whose time is over: %v", err)
	}
	if err := flow.Of(k.Service).Store.RecordRetired(t.Context(), kid); err != nil {
		t.Fatal(err)
	}
	if _, err := again(t, k, token.Generate(time.Now())); err != nil {
		t.Errorf("after the lost key was put on record: %v", err)
	}
}

// A letter whose key a worker lacks is left to one that has it, and said so: machines get a new key one after
// another. It fails only if the key is on record as retired.
func TestKeyOfAnotherMachine(t *testing.T) {
	k := illumicodetest.Idle(t)
	begin(t, k, "a") // so that the other knows a key
	old, err := rotate(k.Keys, token.ForLinks, time.Now(), time.Now().Add(time.Hour))
	if err != nil {
		t.Fatal(err)
	}
	behind, err := token.Parse(k.Keys.Marshal())
	if err != nil {
		t.Fatal(err)
	}
	k.Keys.Replace(old)
	begin(t, k, "b")
	kid := keyring.Of(k.Keys).Active().ID()
	other := illumicodetest.New(t, func(c *illumicode.Config) {
		c.Store, c.Keys = k.Service.Store(), behind
		c.Outbox.Poll = 10 * time.Millisecond
	})
	st := flow.Of(k.Service).Store
	var left store.Delivery
	eventually(t, func() bool {
		all, err := st.List(t.Context(), store.Filter{State: store.Waiting}, "", 9)
		if err != nil || len(all) != 1 {
			return false
		}
		left = all[0]
		return strings.Contains(left.Note, kid)
	})
	if !strings.Contains(other.Logged(), "left to another worker") || left.Attempts != 0 {
		t.Errorf("%+v; the log:\n%s", left, other.Logged())
	}
	if err := st.RecordRetired(t.Context(), kid); err != nil {
		t.Fatal(err)
	}
	other.Clock.Move(time.Minute)
	other.Service.Wake()
	ended(t, k, left.ID, store.Failed)
}

// A keyring that lacks one key of two is warned of, with counts.
func TestStartWarnsOfMissingKeys(t *testing.T) {
	k := illumicodetest.Idle(t)
	begin(t, k, "a")
	lost := keyring.Of(k.Keys).Active().ID()
	rotated, err := rotate(k.Keys, token.ForLinks, time.Now(), time.Now().Add(time.Hour))
	if err != nil {
		t.Fatal(err)
	}
	k.Keys.Replace(rotated)
	begin(t, k, "b")
	without, err := rotated.Without(lost)
	if err != nil {
		t.Fatal(err)
	}
	other := illumicodetest.Idle(t, func(c *illumicode.Config) { c.Store, c.Keys = k.Service.Store(), without })
	if said := other.Logged(); !strings.Contains(said, lost+": 1") {
		t.Errorf("the start says %q, and not that %s is missing for one row", said, lost)
	}
}

// The callbacks of the one-call forms add notices in the same commit, and workers are told of them: the poll of this
// service is an hour.
func TestCallbacksWake(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		s, ctx := k.Service, t.Context()
		tell := func(tx illumicode.Tx, to string) error {
			_, err := tx.Notify(t.Context(), illumicode.Notice{Letter: "moved", Data: pier(1),
				To: illumicode.Request{Address: to}})
			return err
		}
		n := register(t, k, "7", mara)
		p := signIn(t, k, illumicode.Request{Address: mara})
		if _, err := s.SignInCode(ctx, p.Ticket, k.Letter(mara, n+1).Code(),
			func(_ context.Context, tx illumicode.Tx, _ illumicode.SignedIn) error {
				return tell(tx, "a@quay.example")
			}); err != nil {
			t.Fatal(err)
		}
		k.Letter("a@quay.example", 1)

		pay := illumicode.Action{Exact: []byte("pay"), Words: "pay"}
		p, err := s.StepUp(ctx, "7", illumicode.Request{Address: mara}, pay)
		if err != nil {
			t.Fatal(err)
		}
		if err := s.ActionCode(ctx, p.Ticket, k.Letter(mara, n+2).Code(), pay,
			func(_ context.Context, tx illumicode.Tx, _ illumicode.Proof) error {
				return tell(tx, "b@quay.example")
			}); err != nil {
			t.Fatal(err)
		}
		k.Letter("b@quay.example", 1)

		signIn(t, k, illumicode.Request{Address: mara})
		if err := s.NotMe(ctx, notMeToken(t, k.Letter(mara, n+3).Text),
			func(_ context.Context, tx illumicode.Tx, _ illumicode.Disowned) error {
				return tell(tx, "c@quay.example")
			}); err != nil {
			t.Fatal(err)
		}
		k.Letter("c@quay.example", 1)
	}, withPier(t), func(c *illumicode.Config) { c.Outbox.Poll = time.Hour })
}

// An admission is good for a minute: later it may have been refunded, and would cost nothing.
func TestAdmissionGrowsOld(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		a, err := k.Service.Admit(t.Context(), illumicode.Request{Address: mara})
		if err != nil {
			t.Fatal(err)
		}
		k.Clock.Move(time.Minute + time.Second)
		err = inTx(t, k, func(tx illumicode.Tx) error {
			_, err := tx.BeginSignup(t.Context(), a, "7")
			return err
		})
		if !errors.Is(err, illumicode.ErrExpired) {
			t.Errorf("an admission of a minute ago: %v, want ErrExpired", err)
		}
	})
}

// rotate returns a keyring with a new key that signs.
func rotate(ring *token.Keyring, use token.Use, now, until time.Time) (*token.Keyring, error) {
	next, id, err := ring.Add(use, now)
	if err != nil {
		return nil, err
	}
	return next.Activate(id, now, until)
}

// A keyring from a function is read again while the service runs, and when it is called; if that fails, the keys stay.
// Other processes see which keys this one knows, until it ends.
func TestKeySource(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		var now atomic.Pointer[token.Keyring]
		var away atomic.Bool
		now.Store(k.Keys)
		source := func(context.Context) ([]byte, error) {
			if away.Load() {
				return nil, errors.New("the safe is shut")
			}
			return now.Load().Marshal(), nil
		}
		var said text.Text
		svc, err := again(t, k, nil, func(c *illumicode.Config) {
			c.KeySource, c.Log, c.Outbox.Poll = source, slog.New(slog.NewTextHandler(&said, nil)), time.Millisecond
		})
		if err != nil {
			t.Fatal(err)
		}
		next, kid, err := k.Keys.Add(token.ForLinks, time.Now())
		if err != nil {
			t.Fatal(err)
		}
		now.Store(next)
		st := flow.Of(svc).Store
		knows := func() bool {
			all, err := st.Processes(t.Context(), time.Now())
			return err == nil && slices.ContainsFunc(all, func(p store.Process) bool {
				return p.PID == os.Getpid() && p.Knows(kid) && keyring.Of(next).Active().ID() == p.Signs[0]
			})
		}
		eventually(t, func() bool { // by calls alone
			svc.Prove(t.Context(), "no ticket", "123 456")
			return knows()
		})
		away.Store(true)
		ctx, stop := context.WithCancel(t.Context())
		ended := make(chan error, 1)
		go func() { ended <- svc.Run(ctx) }()
		eventually(t, func() bool { return strings.Contains(said.String(), "the safe is shut") })
		if !flow.Of(svc).Keys.Has(kid) {
			t.Error("the keys went with their source")
		}
		if next, err = next.Activate(kid, time.Now(), time.Now().Add(time.Hour)); err != nil {
			t.Fatal(err)
		}
		now.Store(next)
		away.Store(false)
		eventually(t, func() bool { return flow.Of(svc).Keys.Active().ID() == kid && knows() })
		stop()
		if err := <-ended; err != nil || knows() {
			t.Errorf("after its end it is on the list: %v, %v", knows(), err)
		}
	})
	k := illumicodetest.Idle(t)
	for want, change := range map[string]func(*illumicode.Config){
		"is given beside Keys": func(c *illumicode.Config) { c.Keys = k.Keys },
		"no such file":         func(c *illumicode.Config) { c.KeySource = illumicode.KeyFile("gone.json") },
		"FERRY_KEYS is empty":  func(c *illumicode.Config) { c.KeySource = illumicode.KeyEnv("FERRY_KEYS") },
		"is not a JWK Set": func(c *illumicode.Config) {
			c.KeySource = func(context.Context) ([]byte, error) { return []byte("no keys"), nil }
		},
	} {
		if _, err := again(t, k, nil, func(c *illumicode.Config) {
			c.KeySource = func(context.Context) ([]byte, error) { return k.Keys.Marshal(), nil }
		}, change); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
}
