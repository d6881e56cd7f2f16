// Package foreign tests the store on a database that the application has opened with another
// SQLite driver. It is a module of its own, so that the library's users do not get that driver.
package foreign

import (
	"context"
	"database/sql"
	"errors"
	"path/filepath"
	"strings"
	"testing"

	_ "github.com/mattn/go-sqlite3"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/internal/storetest"
	"github.com/illumicode/illumicode/store/sqlite"
)

const mara = "mara@ternisle.example"

// Two copies of SQLite on one file in one process lose commits without a word, so that Open
// refuses, and Use works on the application's own handle, the whole way of a signup.
func TestFileOfAnotherDriver(t *testing.T) {
	path := filepath.Join(t.TempDir(), "app.db")
	db, err := sql.Open("sqlite3",
		"file:"+path+"?_busy_timeout=10000&_journal_mode=WAL&_synchronous=FULL&_txlock=immediate")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("CREATE TABLE account (id INTEGER PRIMARY KEY, confirmed INTEGER DEFAULT 0)"); err != nil {
		t.Fatal(err)
	}
	if _, err := sqlite.Open(t.Context(), path); err == nil || !strings.Contains(err.Error(), "sqlite.Use") {
		t.Fatalf("Open of a file that the other driver has open: %v, want a refusal with the remedy", err)
	}

	st, err := sqlite.Use(t.Context(), db)
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	if err := st.Migrate(t.Context()); err != nil {
		t.Fatal(err)
	}
	k := illumicodetest.New(t, func(c *illumicode.Config) { c.Store = st })
	p, err := k.Service.Signup(t.Context(), illumicode.Request{Address: mara},
		func(ctx context.Context, tx illumicode.Tx) (string, error) {
			_, err := tx.SQL().ExecContext(ctx, "INSERT INTO account (id) VALUES (1)")
			return "1", err
		})
	if err != nil {
		t.Fatal(err)
	}
	l := k.Letter(mara, 1)
	if err := k.Service.ConfirmCode(t.Context(), p.Ticket, wrong(l.Code()), nil); !errors.Is(err,
		illumicode.ErrWrongCode) {
		t.Errorf("a wrong code: %v", err)
	}
	err = k.Service.ConfirmCode(t.Context(), p.Ticket, l.Code(),
		func(ctx context.Context, tx illumicode.Tx, p illumicode.Proof) error {
			_, err := tx.SQL().ExecContext(ctx, "UPDATE account SET confirmed = 1 WHERE id = ?", p.Subject())
			return err
		})
	if err != nil {
		t.Fatal(err)
	}
	var confirmed int
	if err := db.QueryRow("SELECT confirmed FROM account").Scan(&confirmed); err != nil || confirmed != 1 {
		t.Errorf("confirmed = %d, %v", confirmed, err)
	}
	if err := k.Service.Confirm(t.Context(), k.Link(l), nil); !errors.Is(err, illumicode.ErrUsed) {
		t.Errorf("the link afterwards: %v, want ErrUsed", err)
	}
}

// wrong returns a code that is not this one.
func wrong(code string) string { return string('0'+(code[0]-'0'+1)%10) + code[1:] }

// Every promise of a store holds on this driver too.
func TestConformance(t *testing.T) {
	storetest.Run(t, func(tb testing.TB) *store.Store {
		db, err := sql.Open("sqlite3", "file:"+filepath.Join(tb.TempDir(), "trial.db")+
			"?_busy_timeout=10000&_journal_mode=WAL&_synchronous=FULL&_txlock=immediate")
		if err != nil {
			tb.Fatal(err)
		}
		tb.Cleanup(func() { db.Close() })
		st, err := sqlite.Use(tb.Context(), db)
		if err != nil {
			tb.Fatal(err)
		}
		tb.Cleanup(func() { st.Close() })
		return store.Of(st)
	})
}
