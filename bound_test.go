package illumicode_test

import (
	"context"
	"errors"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/core/keyring"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/internal/store/db"
	"github.com/illumicode/illumicode/store/sqlite"
	"github.com/illumicode/illumicode/token"
)

// meddle changes rows behind the service's back, as whoever can write to the database does.
func meddle(t *testing.T, k *illumicodetest.Kit, sql string, args ...any) {
	t.Helper()
	words := flow.Of(k.Service).Store.Words
	result, err := k.Service.Store().DB().ExecContext(t.Context(), words(sql), args...)
	if err != nil {
		t.Fatal(err)
	}
	if n, err := result.RowsAffected(); err != nil || n != 1 {
		t.Fatalf("%s: %d rows, %v", sql, n, err)
	}
}

// run runs the workers of an idle kit until the test ends.
func run(t *testing.T, k *illumicodetest.Kit) {
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		k.Service.Run(ctx)
	}()
	t.Cleanup(func() { stop(); <-ended })
}

const thief = "skua@skerry.example"

// bound are the columns of a challenge that it is bound to, and what a thief would like to write there.
var bound = map[string]string{
	"id": "'another'", "kid": "'another'", "purpose": "'skipper'", "subject": "'victim'",
	"address": "'" + newMara + "'", "mailbox": "'" + newMara + "'", "action": "'another'", "ticket": "'another'",
	"decoy": "1 - decoy",
}

// Whoever writes to the database turns no challenge into one of somebody else: a code that was right is not, no
// letter goes out, and nothing is accepted, whichever of its columns was written to and whenever.
func TestChallengeIsBound(t *testing.T) {
	skipper := func(c *illumicode.Config) {
		c.Purposes = map[string]challenge.Purpose{"skipper": {Letter: "confirm"}}
	}
	for column, value := range bound {
		t.Run(column, func(t *testing.T) {
			const set = "UPDATE illumicode_challenge SET "
			k := illumicodetest.New(t, skipper)
			p := begin(t, k, "7")
			code := k.Letter(mara, 1).Code()
			meddle(t, k, set+column+" = "+value)
			if proof, err := k.Service.Prove(t.Context(), p.Ticket, code); err == nil {
				t.Errorf("a code proves %s for %s", proof.Address(), proof.Subject())
			}
			if proof, err := k.Service.ProveLink(t.Context(), k.Link(k.Letter(mara, 1))); err == nil {
				t.Errorf("a link proves %s for %s", proof.Address(), proof.Subject())
			}

			k = illumicodetest.New(t, skipper)
			p = begin(t, k, "7")
			proof, err := k.Service.Prove(t.Context(), p.Ticket, k.Letter(mara, 1).Code())
			if err != nil {
				t.Fatal(err)
			}
			meddle(t, k, set+column+" = "+value)
			if err := inTx(t, k, func(tx illumicode.Tx) error { return acceptIn(t, tx, proof) }); err == nil {
				t.Error("a proof is accepted whose challenge was changed since")
			}

			k = illumicodetest.Idle(t, skipper)
			begin(t, k, "7")
			meddle(t, k, set+column+" = "+value)
			run(t, k)
			if column == "kid" { // perhaps another machine has that key
				leftToOthers(t, k)
			} else if said := endedAs(t, k); said == "sent" {
				t.Error("a letter went out")
			}
		})
	}
}

// leftToOthers waits until the only delivery is left to other workers.
func leftToOthers(t *testing.T, k *illumicodetest.Kit) {
	t.Helper()
	eventually(t, func() bool {
		all, err := flow.Of(k.Service).Store.List(t.Context(), store.Filter{}, "", 9)
		return err == nil && len(all) == 1 && all[0].State == store.Waiting &&
			strings.Contains(all[0].Note, "not in the keyring of this process")
	})
}

// endedAs waits until the only delivery has ended, and returns its state.
func endedAs(t *testing.T, k *illumicodetest.Kit) (state string) {
	t.Helper()
	st := k.Service.Store()
	eventually(t, func() bool {
		return st.DB().QueryRowContext(t.Context(), "SELECT state FROM illumicode_ended").Scan(&state) == nil
	})
	return state
}

// A thief who begins a sign-in of their own and writes the victim's account into its row, or their own address into the
// delivery of a victim's, gets neither a session nor the victim's letter.
func TestReboundSignIn(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		register(t, k, "7", mara)
		n := register(t, k, "8", thief)
		p := signIn(t, k, illumicode.Request{Address: thief})
		code := k.Letter(thief, n+1).Code()
		const mine = " WHERE purpose = 'signin' AND mailbox = ?"
		meddle(t, k, "UPDATE illumicode_challenge SET subject = '7'"+mine, thief)
		if who, err := k.Service.SignInCode(t.Context(), p.Ticket, code, nil); err == nil {
			t.Errorf("signed in as %+v", who)
		}
		meddle(t, k, "UPDATE illumicode_challenge SET address = '"+mara+"', mailbox = '"+mara+"'"+mine, thief)
		if who, err := k.Service.SignInCode(t.Context(), p.Ticket, code, nil); !errors.Is(err, illumicode.ErrInvalid) {
			t.Errorf("signed in as %+v: %v", who, err)
		}
	})
}

func TestLetterOfProofGoesToItsChallenge(t *testing.T) {
	k := illumicodetest.Idle(t)
	begin(t, k, "7")
	meddle(t, k, "UPDATE illumicode_delivery SET address = '"+thief+"'")
	run(t, k)
	endedAs(t, k)
	if got := k.Inbox.Letters(thief); len(got) != 0 {
		t.Errorf("a letter with a proof of %s went to %s", mara, thief)
	}
}

// A change of address that somebody has written to is not made, is not told of, and gives no account away.
func TestChangeIsBound(t *testing.T) {
	for _, column := range []string{"subject", "old_address", "old_mailbox", "new_address", "new_mailbox", "kid"} {
		t.Run(column, func(t *testing.T) {
			k := illumicodetest.New(t)
			n := register(t, k, "7", mara)
			p, undo := changeTo(t, k, newMara, n+1)
			code := k.Letter(newMara, 1).Code()
			meddle(t, k, "UPDATE illumicode_change SET "+column+" = 'skua@skerry.example'")
			if _, err := k.Service.Undo(t.Context(), undo, nil); !errors.Is(err, illumicode.ErrInvalid) {
				t.Errorf("undo: %v", err)
			}
			if err := k.Service.ConfirmCode(t.Context(), p.Ticket, code, nil); !errors.Is(err, illumicode.ErrInvalid) &&
				!errors.Is(err, illumicode.ErrExpired) { // as for a key that is gone
				t.Errorf("the change is made: %v", err)
			}
		})
	}
}

// What was open before challenges were bound ends with the migration: the application is told of accounts that were not
// confirmed, and mailboxes of changes are free.
func TestUpgradeEndsWhatIsOpen(t *testing.T) {
	st, err := sqlite.Open(t.Context(), filepath.Join(t.TempDir(), "old.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { st.Close() })
	now := time.Now().UnixMilli()
	must := func(text string, args ...any) {
		t.Helper()
		if _, err := st.DB().Exec(text, args...); err != nil {
			t.Fatalf("%s: %v", text, err)
		}
	}
	must("CREATE TABLE illumicode_migration (number INTEGER NOT NULL PRIMARY KEY, name TEXT NOT NULL, applied BIGINT " +
		"NOT NULL)")
	for _, m := range db.Migrations()[:8] {
		must(strings.NewReplacer("@bytes()", "BLOB", "@serial()", "INTEGER PRIMARY KEY AUTOINCREMENT", "@norowid()",
			"WITHOUT ROWID").Replace(m.SQL))
		must("INSERT INTO illumicode_migration VALUES (?, ?, 0)", m.Number, m.Name)
	}
	ring := token.Generate(time.Now())
	kid := keyring.Of(ring).Active().ID()
	must(`INSERT INTO illumicode_challenge (id, purpose, subject, address, mailbox, name, locale, kid, ticket, state,
		decoy,
		created, ends, code_life, link_life, digits, tries, tries_allowed, generation, code_from, previous_until,
		link_from, resends, resend_after, proved, proved_by, accepted) VALUES ('c', 'signup', '7', ?, ?, '', 'en', ?, ?,
		'open', 0, ?, ?, 600000, 86400000, 6, 0, 5, 1, 0, 0, 0, 0, 0, 0, '', 0)`, mara, mara, kid,
		flow.Digest("ticket"), now, now+1e8)
	must("INSERT INTO illumicode_address (subject, address, mailbox, standing, since) VALUES ('7', ?, ?, "+
		"'unconfirmed', ?)",
		mara, mara, now)
	must("INSERT INTO illumicode_address (subject, address, mailbox, standing, since) VALUES ('8', ?, ?, "+
		"'confirmed', ?)",
		newMara, newMara, now)
	must("INSERT INTO illumicode_holder (mailbox, subject, since) VALUES (?, '8', ?), (?, '8', ?)", newMara, now, third,
		now)
	must(`INSERT INTO illumicode_change (id, subject, old_address, old_mailbox, new_address, new_mailbox, challenge,
		state, kid,
		made, undo_ends, frozen) VALUES ('h', '8', ?, ?, ?, ?, 'gone', 'made', ?, ?, ?, 0)`, third, third, newMara,
		newMara, kid, now, now+1e8)

	var lapsed atomic.Int64
	k := illumicodetest.New(t, func(c *illumicode.Config) {
		c.Store, c.Keys = st, ring
		c.Lapsed = func(_ context.Context, _ illumicode.Tx, l illumicode.Lapse) error {
			if l.Subject == "7" {
				lapsed.Add(1)
			}
			return nil
		}
	})
	if _, err := k.Service.Prove(t.Context(), "ticket", "123456"); err == nil {
		t.Error("a challenge that nothing binds is proven")
	}
	eventually(t, func() bool { return lapsed.Load() == 1 })
	eventually(t, func() bool {
		held, err := storeOf(k).Held(t.Context(), third)
		return err == nil && !held
	})
	if !confirmed(t, k, "8") {
		t.Error("the account whose change was made has lost its address")
	}
	// Nobody knows who registered an account that was begun before.
	p := signUp(t, k, "")
	if err := k.Service.ConfirmCode(t.Context(), p.Ticket, k.Letter(mara, 1).Code(),
		func(_ context.Context, _ illumicode.Tx,
			p illumicode.Proof) error {
			if !p.Contested() {
				t.Error("the account is said not to be contested")
			}
			return nil
		}); err != nil {
		t.Fatal(err)
	}
}
