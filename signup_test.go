package illumicode_test

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
)

const mara = "mara@ternisle.example"

// begin begins a signup for mara under a subject.
func begin(tb testing.TB, k *illumicodetest.Kit, subject string) illumicode.Pending {
	tb.Helper()
	p, err := k.Service.Signup(tb.Context(), illumicode.Request{Address: mara, Name: "Mara", Locale: "en"},
		illumicode.Subject(subject))
	if err != nil {
		tb.Fatal(err)
	}
	return p
}

func confirmed(tb testing.TB, k *illumicodetest.Kit, subject string) bool {
	tb.Helper()
	yes, err := k.Service.Confirmed(tb.Context(), subject)
	if err != nil {
		tb.Fatal(err)
	}
	return yes
}

// wrongCode returns a code that is not the letter's.
func wrongCode(code string) string {
	b := []byte(strings.ReplaceAll(code, " ", ""))
	b[0] = '0' + (b[0]-'0'+1)%10
	return string(b)
}

func TestConfirmByLinkAndByCode(t *testing.T) {
	k := illumicodetest.New(t)
	for _, form := range []challenge.Form{challenge.Link, challenge.Code} {
		subject := "passenger by " + string(form)
		address := string(form) + "@ternisle.example"
		p, err := k.Service.Signup(t.Context(), illumicode.Request{Address: address}, illumicode.Subject(subject))
		if err != nil {
			t.Fatal(err)
		}
		l := k.Letter(address, 1)
		if confirmed(t, k, subject) {
			t.Fatalf("%s: confirmed before anything was proven", form)
		}
		var proof illumicode.Proof
		keep := func(_ context.Context, _ illumicode.Tx, p illumicode.Proof) error { proof = p; return nil }
		if form == challenge.Link {
			err = k.Service.Confirm(t.Context(), k.Link(l), keep)
		} else {
			err = k.Service.ConfirmCode(t.Context(), p.Ticket, " "+l.Code()+" ", keep)
		}
		if err != nil || proof.Subject() != subject || proof.Address() != address {
			t.Errorf("%s: %v, proof %+v", form, err, proof)
		}
		if !confirmed(t, k, subject) {
			t.Errorf("%s: not confirmed", form)
		}
		if err := k.Service.Confirm(t.Context(), k.Link(l), nil); !errors.Is(err, illumicode.ErrUsed) {
			t.Errorf("%s: the link afterwards: %v, want ErrUsed", form, err)
		}
		if err := k.Service.ConfirmCode(t.Context(), p.Ticket, l.Code(), nil); !errors.Is(err, illumicode.ErrUsed) {
			t.Errorf("%s: the code afterwards: %v, want ErrUsed", form, err)
		}
	}
}

// What the application writes and what Illumicode writes commit together or not at all.
func TestOneTransaction(t *testing.T) {
	k := illumicodetest.New(t)
	db := k.Service.Store().DB()
	if _, err := db.Exec("CREATE TABLE account (id TEXT PRIMARY KEY, confirmed INTEGER DEFAULT 0)"); err != nil {
		t.Fatal(err)
	}
	count := func(query string) (n int) {
		t.Helper()
		if err := db.QueryRow(query).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	boom := errors.New("boom")
	_, err := k.Service.Signup(t.Context(), illumicode.Request{Address: mara},
		func(ctx context.Context, tx illumicode.Tx) (string, error) {
			_, err := tx.SQL().Exec("INSERT INTO account (id) VALUES ('a')")
			return "a", errors.Join(err, boom)
		})
	if !errors.Is(err, boom) ||
		count("SELECT (SELECT COUNT(*) FROM account) + (SELECT COUNT(*) FROM illumicode_delivery)") != 0 {
		t.Fatalf("a failed signup left something behind: %v", err)
	}
	if _, err := k.Service.Signup(t.Context(), illumicode.Request{Address: mara},
		func(ctx context.Context, tx illumicode.Tx) (string, error) {
			_, err := tx.SQL().Exec("INSERT INTO account (id) VALUES ('a')")
			return "a", err
		}); err != nil {
		t.Fatal(err)
	}
	tok := k.Link(k.Letter(mara, 1))
	set := func(ctx context.Context, tx illumicode.Tx, p illumicode.Proof) error {
		_, err := tx.SQL().Exec("UPDATE account SET confirmed = confirmed + 1 WHERE id = ?", p.Subject())
		return err
	}
	err = k.Service.Confirm(t.Context(), tok, func(ctx context.Context, tx illumicode.Tx, p illumicode.Proof) error {
		return errors.Join(set(ctx, tx, p), boom)
	})
	if !errors.Is(err, boom) || confirmed(t, k, "a") || count("SELECT confirmed FROM account") != 0 {
		t.Fatalf("a rolled-back confirmation left something behind: %v", err)
	}
	func() {
		defer func() {
			if recover() == nil {
				t.Error("the callback's panic was swallowed")
			}
		}()
		k.Service.Confirm(t.Context(), tok, func(context.Context, illumicode.Tx, illumicode.Proof) error {
			panic("in the callback")
		})
	}()
	if confirmed(t, k, "a") {
		t.Fatal("a panic in the callback confirmed the address")
	}
	if err := k.Service.Confirm(t.Context(), tok, set); err != nil || count("SELECT confirmed FROM account") != 1 {
		t.Errorf("after rollback and panic, Confirm = %v", err)
	}
}

// A spent try never returns, whatever the caller's transaction does; the fifth wrong code is the
// last that is looked at, and the link still works.
func TestTriesAreSpentForGood(t *testing.T) {
	k := illumicodetest.New(t)
	p := begin(t, k, "a")
	l := k.Letter(mara, 1)
	wrong := wrongCode(l.Code())
	for want := 4; want >= 0; want-- {
		err := k.Service.ConfirmCode(t.Context(), p.Ticket, wrong,
			func(context.Context, illumicode.Tx, illumicode.Proof) error {
				t.Error("the callback ran for a wrong code")
				return nil
			})
		e, ok := errors.AsType[*illumicode.WrongCodeError](err)
		if !ok || e.TriesLeft != want {
			t.Fatalf("wrong code: %v, want %d tries left", err, want)
		}
		if _, err := k.Service.Prove(t.Context(), p.Ticket, "48291"); !errors.Is(err, illumicode.ErrNotACode) {
			t.Fatalf("five digits: %v, want ErrNotACode", err) // and the next round shows that it cost nothing
		}
	}
	if _, err := k.Service.Prove(t.Context(), p.Ticket, l.Code()); !errors.Is(err, illumicode.ErrNoTries) {
		t.Errorf("the right code, too late: %v, want ErrNoTries", err)
	}
	if err := k.Service.Confirm(t.Context(), k.Link(l), nil); err != nil {
		t.Errorf("the link after burnt tries: %v", err)
	}
}

// Guessing in parallel buys no extra tries.
func TestTriesUnderConcurrency(t *testing.T) {
	k := illumicodetest.New(t)
	p := begin(t, k, "a")
	wrong := wrongCode(k.Letter(mara, 1).Code())
	var mu sync.Mutex
	looked := 0
	var all sync.WaitGroup
	for range 100 {
		all.Go(func() {
			_, err := k.Service.Prove(t.Context(), p.Ticket, wrong)
			mu.Lock()
			defer mu.Unlock()
			switch {
			case errors.Is(err, illumicode.ErrWrongCode):
				looked++
			case !errors.Is(err, illumicode.ErrNoTries):
				t.Errorf("Prove = %v", err)
			}
		})
	}
	all.Wait()
	if looked != 5 {
		t.Errorf("%d codes were looked at, want 5", looked)
	}
}

// Of two hundred requests with one link at the same moment, exactly one wins.
func TestConcurrentDoubleUse(t *testing.T) {
	k := illumicodetest.New(t)
	begin(t, k, "a")
	tok := k.Link(k.Letter(mara, 1))
	var mu sync.Mutex
	won, applied := 0, 0
	var all sync.WaitGroup
	for range 200 {
		all.Go(func() {
			err := k.Service.Confirm(t.Context(), tok, func(context.Context, illumicode.Tx, illumicode.Proof) error {
				mu.Lock()
				defer mu.Unlock()
				applied++
				return nil
			})
			mu.Lock()
			defer mu.Unlock()
			if err == nil {
				won++
			} else if !errors.Is(err, illumicode.ErrUsed) {
				t.Errorf("Confirm = %v, want nil or ErrUsed", err)
			}
		})
	}
	all.Wait()
	if won != 1 || applied != 1 {
		t.Errorf("%d won and %d callbacks ran, want 1 and 1", won, applied)
	}
}

// With a pool of one connection everything works as long as calls do not nest, and nesting them
// is told rather than waited for.
func TestPoolOfOne(t *testing.T) {
	k := illumicodetest.New(t)
	db := k.Service.Store().DB()
	db.SetMaxOpenConns(1)
	p := begin(t, k, "a")
	l := k.Letter(mara, 1)
	tx, err := db.BeginTx(t.Context(), nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := k.Service.Prove(t.Context(), p.Ticket, l.Code()); !errors.Is(err, illumicode.ErrStuck) {
		t.Errorf("Prove inside a transaction: %v, want ErrStuck", err)
	}
	tx.Rollback()

	proof, err := k.Service.Prove(t.Context(), p.Ticket, l.Code())
	if err != nil {
		t.Fatal(err)
	}
	for _, commit := range []bool{false, true} { // a rolled-back Accept can be repeated
		tx, err := db.BeginTx(t.Context(), nil)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := k.Service.In(tx).Accept(t.Context(), proof); err != nil {
			t.Errorf("Accept (to be committed: %v) = %v", commit, err)
		}
		if commit {
			err = tx.Commit()
		} else {
			err = tx.Rollback()
		}
		if err != nil || confirmed(t, k, "a") != commit {
			t.Errorf("after commit=%v: %v, confirmed %v", commit, err, !commit)
		}
	}
}

func TestExpiry(t *testing.T) {
	k := illumicodetest.New(t)
	p := begin(t, k, "a")
	l := k.Letter(mara, 1)
	waitSent(t, k, 1)
	k.Clock.Move(10*time.Minute + 31*time.Second)
	if _, err := k.Service.Prove(t.Context(), p.Ticket, l.Code()); !errors.Is(err, illumicode.ErrExpired) {
		t.Errorf("a code after ten minutes and a half: %v, want ErrExpired", err)
	}
	if _, err := k.Service.ProveLink(t.Context(), k.Link(l)); err != nil {
		t.Errorf("the link outlives the code: %v", err)
	}
	k.Clock.Move(24 * time.Hour)
	if _, err := k.Service.ProveLink(t.Context(), k.Link(l)); !errors.Is(err, illumicode.ErrExpired) {
		t.Errorf("a link after a day: %v, want ErrExpired", err)
	}
	// A proof in hand goes stale, too.
	k2 := illumicodetest.New(t)
	begin(t, k2, "b")
	proof, err := k2.Service.ProveLink(t.Context(), k2.Link(k2.Letter(mara, 1)))
	if err != nil {
		t.Fatal(err)
	}
	k2.Clock.Move(16 * time.Minute)
	tx, err := k2.Service.Store().DB().BeginTx(t.Context(), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback()
	if _, err := k2.Service.In(tx).Accept(t.Context(), proof); !errors.Is(err, illumicode.ErrExpired) {
		t.Errorf("Accept of a stale proof: %v, want ErrExpired", err)
	}
}

// waitSent waits until the database says that n deliveries are sent: a letter arrives a moment
// before that is recorded.
func waitSent(tb testing.TB, k *illumicodetest.Kit, n int) {
	tb.Helper()
	ctx, cancel := context.WithTimeout(tb.Context(), 20*time.Second)
	defer cancel()
	for {
		sum, err := flow.Of(k.Service).Store.Summary(ctx, k.Clock.Now())
		if err != nil {
			tb.Fatal(err)
		}
		if sum.Count[store.Sent] >= n {
			return
		}
	}
}

// A resend carries the same code; near the end of its life the next one comes, and the earlier
// letter works on until its own end.
func TestResend(t *testing.T) {
	k := illumicodetest.New(t)
	p := begin(t, k, "a")
	first := k.Letter(mara, 1)
	waitSent(t, k, 1)
	_, err := k.Service.ResendForBrowser(t.Context(), p.Ticket)
	if soon, ok := errors.AsType[*illumicode.TooSoonError](err); !ok || soon.At.Sub(k.Clock.Now()) > 30*time.Second {
		t.Fatalf("at once: %v, want a TooSoonError", err)
	}
	k.Clock.Move(31 * time.Second)
	if _, err := k.Service.ResendForBrowser(t.Context(), p.Ticket); err != nil {
		t.Fatal(err)
	}
	second := k.Letter(mara, 2)
	waitSent(t, k, 2)
	if first.Code() != second.Code() {
		t.Errorf("the resend holds %s, the first letter %s", second.Code(), first.Code())
	}
	k.Clock.Move(8 * time.Minute)
	if _, err := k.Service.ResendForSubject(t.Context(), "a"); err != nil {
		t.Fatal(err)
	}
	third := k.Letter(mara, 3)
	waitSent(t, k, 3)
	if third.Code() == first.Code() {
		t.Error("near its end the old code was sent again")
	}
	for name, code := range map[string]string{"old": first.Code(), "new": third.Code()} {
		if _, err := k.Service.Prove(t.Context(), p.Ticket, code); err != nil {
			t.Errorf("the %s code: %v", name, err)
		}
	}
	k.Clock.Move(3 * time.Minute)
	if _, err := k.Service.Prove(t.Context(), p.Ticket, first.Code()); !errors.Is(err, illumicode.ErrExpired) {
		t.Errorf("the old code after its own end: %v, want ErrExpired", err)
	}
}

// A letter that waits gives way to the one that was asked for after it: one goes out.
func TestResendCoalesces(t *testing.T) {
	k := illumicodetest.Idle(t)
	p := begin(t, k, "a")
	k.Clock.Move(31 * time.Second)
	for range 20 { // and of a crowd of impatient clicks, one counts
		_, err := k.Service.ResendForBrowser(t.Context(), p.Ticket)
		if err != nil && !errors.Is(err, illumicode.ErrTooSoon) {
			t.Fatal(err)
		}
	}
	run(t, k)
	waitUntil(t, k, func(sum store.Summary) bool { return sum.Count[store.Sent]+sum.Count[store.Cancelled] == 2 })
	if got := k.Inbox.Letters(mara); len(got) != 1 {
		t.Errorf("%d letters went out, want 1", len(got))
	}
}

// Two subjects may both ask for an address; only the first to prove it holds it.
func TestOneHolder(t *testing.T) {
	k := illumicodetest.New(t)
	begin(t, k, "a")
	first := k.Link(k.Letter(mara, 1))
	if _, err := k.Service.Signup(t.Context(), illumicode.Request{Address: "Mara@TernIsle.example"},
		illumicode.Subject("b")); err != nil {
		t.Fatal(err)
	}
	second := k.Link(k.Letter("Mara@ternisle.example", 2)) // the inbox folds case
	if err := k.Service.Confirm(t.Context(), first, nil); err != nil {
		t.Fatal(err)
	}
	if err := k.Service.Confirm(t.Context(), second, nil); !errors.Is(err, illumicode.ErrTaken) ||
		confirmed(t, k, "b") {
		t.Errorf("the second subject: %v, want ErrHeld", err)
	}
}

// To a stranger an address that has an account looks like one that has none.
func TestOccupiedAnswersAlike(t *testing.T) {
	k := illumicodetest.New(t)
	fresh := begin(t, k, "a")
	k.Letter(mara, 1)
	taken, err := k.Service.Signup(t.Context(), illumicode.Request{Address: mara, Name: "Mara", Locale: "en"},
		func(context.Context, illumicode.Tx) (string, error) { return "", illumicode.ErrOccupied })
	if err != nil || taken.Ticket == "" || len(taken.Ticket) != len(fresh.Ticket) || taken.Confirmed {
		t.Fatalf("Signup = %+v, %v", taken, err)
	}
	if _, err := k.Service.Prove(t.Context(), taken.Ticket, "000000"); !errors.Is(err, illumicode.ErrWrongCode) {
		t.Errorf("a code for the decoy: %v, want ErrWrongCode", err)
	}
	k.Clock.Move(31 * time.Second)
	if _, err := k.Service.ResendForBrowser(t.Context(), taken.Ticket); err != nil {
		t.Errorf("a resend of the decoy: %v", err)
	}
	begin(t, k, "c") // its letter comes after the decoys' in the queue
	k.Letter(mara, 2)
	waitSent(t, k, 2)
	if n := len(k.Inbox.Letters(mara)); n != 2 {
		t.Errorf("%d letters arrived, want 2: decoys write to nobody", n)
	}
}

func TestForgedAndForeignProofs(t *testing.T) {
	k := illumicodetest.New(t)
	p := begin(t, k, "a")
	tok := k.Link(k.Letter(mara, 1))
	other := illumicodetest.New(t) // another service with another keyring
	begin(t, other, "a")
	for name, bad := range map[string]illumicode.Link{
		"empty": "", "cut": tok[:len(tok)-2], "foreign": other.Link(other.Letter(mara, 1)),
	} {
		if _, err := k.Service.ProveLink(t.Context(), bad); !errors.Is(err, illumicode.ErrInvalid) {
			t.Errorf("%s: %v, want ErrInvalid", name, err)
		}
	}
	// The challenge's address is changed behind the letter's back: the thumbprint gives it away.
	if _, err := k.Service.Store().DB().Exec(
		"UPDATE illumicode_challenge SET address = 'eve@ternisle.example'"); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Service.ProveLink(t.Context(), tok); !errors.Is(err, illumicode.ErrInvalid) {
		t.Errorf("address changed in between: %v, want ErrInvalid", err)
	}
	if _, err := k.Service.Prove(t.Context(), p.Ticket+"x", "000000"); !errors.Is(err, illumicode.ErrInvalid) {
		t.Errorf("an unknown ticket: %v, want ErrInvalid", err)
	}
}

// Neither the database nor the log holds anything that confirms an address.
func TestNothingAtRest(t *testing.T) {
	dir := t.TempDir()
	k := illumicodetest.New(t)
	p := begin(t, k, "a")
	l := k.Letter(mara, 1)
	waitSent(t, k, 1)
	dump := filepath.Join(dir, "dump.db")
	if _, err := k.Service.Store().DB().Exec("VACUUM INTO ?", dump); err != nil {
		t.Fatal(err)
	}
	raw := readFile(t, dump)
	code := strings.ReplaceAll(l.Code(), " ", "")
	for what, secret := range map[string]string{"code": code, "printed code": l.Code(), "token": string(k.Link(l)),
		"ticket": string(p.Ticket)} {
		if strings.Contains(raw, secret) {
			t.Errorf("the database holds the %s", what)
		}
		if strings.Contains(k.Logged(), secret) {
			t.Errorf("the log holds the %s", what)
		}
	}
	if strings.Contains(k.Logged(), mara) || !strings.Contains(k.Logged(), "class=accepted") {
		t.Errorf("the log holds the address, or no attempt:\n%s", k.Logged())
	}
}

// What a stranger has put in the place of a name is not said to who gets the letter.
func TestNamesThatAreNone(t *testing.T) {
	k := illumicodetest.New(t)
	for i, name := range []string{"Visit https://evil.example", "Mara Quist"} {
		address := fmt.Sprintf("p%d@ternisle.example", i)
		if _, err := k.Service.Signup(t.Context(), illumicode.Request{Address: address, Name: name},
			illumicode.Subject(address)); err != nil {
			t.Fatal(err)
		}
		l := k.Letter(address, 1)
		said := strings.Contains(l.Text, name) && strings.Contains(l.To, name)
		if said != (i == 1) || strings.Contains(l.Text+l.To, "evil") {
			t.Errorf("to %q:\n%s", l.To, l.Text)
		}
	}
}
