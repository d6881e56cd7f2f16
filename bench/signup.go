package main

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"time"

	"github.com/google/uuid"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/core/otp"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/web"
)

// tx runs fn in a transaction.
func tx(db *sql.DB, fn func(*sql.Tx) error) error {
	t, err := db.Begin()
	if err != nil {
		return err
	}
	defer t.Rollback()
	if err := fn(t); err != nil {
		return err
	}
	return t.Commit()
}

// signupFigures measures beginning a signup in the application's transaction, and confirming it, on
// both databases with their durable settings, against the same statements prepared and bare; and a
// sign-in through the JSON interface.
func signupFigures(scale int) ([]figure, error) {
	var all []figure
	for _, database := range databases() {
		some, err := signupOn(database, scale)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", database, err)
		}
		all = append(all, some...)
	}
	return all, nil
}

func signupOn(database string, scale int) ([]figure, error) {
	b, err := newBedOn(database, nobody{}, nil)
	if err != nil {
		return nil, err
	}
	defer b.close()
	begin := b.begin
	if err := begin(); err != nil {
		return nil, err
	}
	same, err := b.bareBegin()
	if err != nil {
		return nil, err
	}
	two, err := b.twoRows()
	if err != nil {
		return nil, err
	}
	times, err := inTurns(200*scale, begin, same, two)
	if err != nil {
		return nil, err
	}
	note := fmt.Sprintf("%v against", median(times[0]))
	out := []figure{
		{"begin signup in a transaction, " + database, "the same statements, prepared, bare",
			medianRatio(times[0], times[1]), 1.25, fmt.Sprint(note, " ", median(times[1]))},
		{"begin signup in a transaction, " + database, "two bare rows", medianRatio(times[0], times[2]), 3,
			fmt.Sprint(note, " ", median(times[2]))},
	}
	confirm, err := b.confirmFigure(database, scale)
	if err != nil {
		return nil, err
	}
	signIn, err := b.signInFigure(database, scale)
	return append(out, confirm, signIn), err
}

// bareBegin returns what runs the statements of begin without the library. There is a row of each table already.
func (b *bed) bareBegin() (func() error, error) {
	db := b.store.DB()
	var copies []*rowCopy
	for table, fresh := range map[string][]string{"illumicode_challenge": {"id", "ticket"},
		"illumicode_address": {"subject"}, "illumicode_delivery": {"id"},
		"illumicode_trail": {"challenge"}} {
		c, err := newRowCopy(db, table, fresh)
		if err != nil {
			return nil, err
		}
		copies = append(copies, c)
	}
	run, n := b.preparing(), 0
	const register = `INSERT INTO illumicode_registration (subject, ticket, contested, since) VALUES (?, 't',
		CASE WHEN EXISTS (SELECT 1 FROM illumicode_address WHERE subject = ?) THEN 1 ELSE 0 END, 1)
		ON CONFLICT (subject) DO UPDATE SET contested = 1
		RETURNING COALESCE((SELECT h.subject FROM illumicode_holder h WHERE h.mailbox = ?), '')`
	return func() error {
		return tx(db, func(t *sql.Tx) error {
			n++
			if err := run(t, register, fmt.Sprint("bare ", n), "s", "m"); err != nil {
				return err
			}
			for _, c := range copies {
				if err := c.insert(t); err != nil {
					return err
				}
			}
			return nil
		})
	}, nil
}

// begin begins a signup in a transaction of its own.
func (b *bed) begin() error {
	ctx, db := context.Background(), b.store.DB()
	admission, err := b.svc.Admit(ctx, illumicode.Request{Address: "mara@ternisle.example", Name: "Mara",
		Locale: "en"})
	if err != nil {
		return err
	}
	return tx(db, func(t *sql.Tx) error {
		_, err := b.svc.In(t).BeginSignup(ctx, admission, uuid.NewString())
		return err
	})
}

// twoRows returns what adds two rows of one column in a transaction.
func (b *bed) twoRows() (func() error, error) {
	db := b.store.DB()
	if _, err := db.Exec("CREATE TABLE two (id TEXT NOT NULL PRIMARY KEY, body TEXT NOT NULL)"); err != nil {
		return nil, err
	}
	insert, err := db.Prepare(b.store.Words("INSERT INTO two VALUES (?, ?)"))
	if err != nil {
		return nil, err
	}
	return func() error {
		return tx(db, func(t *sql.Tx) error {
			for range 2 {
				if _, err := t.Stmt(insert).Exec(uuid.NewString(), "a body of some length"); err != nil {
					return err
				}
			}
			return nil
		})
	}, nil
}

// confirmFigure measures confirming by a code, in the application's transaction, against the same
// statements bare.
func (b *bed) confirmFigure(database string, scale int) (figure, error) {
	ctx, db := context.Background(), b.store.DB()
	n := 100 * scale
	all, err := b.begun(2*n + 20)
	if err != nil {
		return figure{}, err
	}
	run := b.preparing()
	const trail = "INSERT INTO illumicode_trail (challenge, subject, mailbox, at, what, outcome, network) VALUES " +
		"(?, 's', 'm', 1, 'w', 'o', '')"
	const challenge = "SELECT * FROM illumicode_challenge WHERE "
	const accept = `UPDATE illumicode_challenge SET state = 'accepted', accepted = 1 WHERE id = ? AND state = 'open'
		AND proved > 0 AND decoy = 0 AND action = '' AND NOT EXISTS (SELECT 1 FROM illumicode_change c
		WHERE c.subject = illumicode_challenge.subject AND c.state = 'frozen') RETURNING *`
	const address = `INSERT INTO illumicode_address (locale, subject, address, mailbox, standing, since)
		VALUES (COALESCE((SELECT locale FROM illumicode_challenge WHERE id = ?), ''), ?, 'a', 'a', 'confirmed', 1)
		ON CONFLICT (subject, address) DO UPDATE SET standing = 'confirmed'`
	next := 0
	ours := func() error {
		one := all[next]
		next++
		return b.svc.ConfirmCode(ctx, one.ticket, one.code, nil)
	}
	bare := func() error {
		one := all[next]
		next++
		sum := sha256.Sum256([]byte(one.ticket))
		ticket := base64.RawURLEncoding.EncodeToString(sum[:])
		if err := run(nil, challenge+"ticket = ?", ticket); err != nil {
			return err
		}
		if err := run(nil, "UPDATE illumicode_challenge SET tries = tries + 1, tried = 1 WHERE ticket = ? RETURNING *",
			ticket); err != nil {
			return err
		}
		if err := tx(db, func(t *sql.Tx) error {
			return errors.Join(run(t, "UPDATE illumicode_challenge SET proved = 1, proved_by = 'code' WHERE id = ?",
				one.id), run(t, trail, one.id))
		}); err != nil {
			return err
		}
		return tx(db, func(t *sql.Tx) error {
			return errors.Join(
				run(t, accept, one.id),
				run(t, "UPDATE illumicode_registration SET since = since WHERE subject = ? AND ticket = ? AND "+
					"contested = 0", one.subject, ticket),
				run(t, "INSERT INTO illumicode_holder (mailbox, subject, since) VALUES (?, ?, 1) "+
					"ON CONFLICT (mailbox) DO NOTHING", one.id, one.id),
				run(t, address, one.id, one.id),
				run(t, "DELETE FROM illumicode_suppression WHERE thumb = ? AND scope = 'bounced'", one.id),
				run(t, trail, one.id))
		})
	}
	times, err := inTurns(n, ours, bare)
	return figure{"confirm by a code, " + database, "the same statements, prepared, bare",
		medianRatio(times[0], times[1]), 1.25,
		fmt.Sprint(median(times[0]), " against ", median(times[1]))}, err
}

// A begun is a signup that waits for its code.
type begun struct {
	ticket   illumicode.Ticket
	code, id string
	subject  string
}

// begun begins n signups.
func (b *bed) begun(n int) ([]begun, error) {
	ctx, db := context.Background(), b.store.DB()
	all := make([]begun, n)
	for i := range all {
		p, err := b.svc.Signup(ctx, illumicode.Request{Address: fmt.Sprintf("p%d@ternisle.example", i)},
			illumicode.Subject(fmt.Sprint("s", i)))
		all[i].subject = fmt.Sprint("s", i)
		if err != nil {
			return nil, err
		}
		sum := sha256.Sum256([]byte(p.Ticket))
		all[i].ticket = p.Ticket
		var bound string
		if err := db.QueryRow(b.store.Words("SELECT id, bound FROM illumicode_challenge WHERE ticket = ?"),
			base64.RawURLEncoding.EncodeToString(sum[:])).Scan(&all[i].id, &bound); err != nil {
			return nil, err
		}
		all[i].code = otp.Derive(flow.Of(b.svc).Keys.Active().CodeKey(), bound, 1, otp.MinDigits)
	}
	return all, nil
}

// preparing returns what runs a statement, prepared once, and reads all its rows. A nil transaction is its own.
func (b *bed) preparing() func(t *sql.Tx, text string, args ...any) error {
	db, prepared := b.store.DB(), make(map[string]*sql.Stmt)
	return func(t *sql.Tx, text string, args ...any) error {
		st := prepared[text]
		if st == nil {
			var err error
			if st, err = db.Prepare(b.store.Words(text)); err != nil {
				return err
			}
			prepared[text] = st
		}
		if t != nil {
			st = t.Stmt(st)
		}
		rows, err := st.Query(args...)
		if err != nil {
			return err
		}
		for rows.Next() {
		}
		return errors.Join(rows.Err(), rows.Close())
	}
}

// signInFigure measures asking for a code through the JSON interface with everything on, one request
// after another, against the same handler with nothing to do.
func (b *bed) signInFigure(database string, scale int) (figure, error) {
	api, err := web.NewAPI(b.svc, strings.Repeat("k", 32), web.APIOptions{})
	if err != nil {
		return figure{}, err
	}
	empty := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var in map[string]string
		if json.NewDecoder(r.Body).Decode(&in) == nil {
			w.Header().Set("Content-Type", "application/json")
			json.NewEncoder(w).Encode(map[string]any{"ticket": in["address"], "resend_after": time.Time{},
				"ends": time.Time{}})
		}
	})
	n := 0
	ask := func(h http.Handler, status int) func() error {
		return func() error {
			n++
			r := httptest.NewRequest("POST", "/v1/signin",
				strings.NewReader(fmt.Sprintf(`{"address":"q%d@ternisle.example"}`, n)))
			r.Header.Set("Content-Type", "application/json")
			w := httptest.NewRecorder()
			h.ServeHTTP(w, r)
			if w.Code != status {
				return fmt.Errorf("a sign-in was answered with %d: %s", w.Code, w.Body)
			}
			return nil
		}
	}
	times, err := inTurns(100*scale, ask(api, http.StatusCreated), ask(empty, http.StatusOK))
	return figure{"ask for a code over JSON, " + database, "the same handler, nothing to do",
		medianRatio(times[0], times[1]), 0,
		fmt.Sprintf("%.0f a second, each durable, one after another", rate(1, median(times[0])))}, err
}

// A rowCopy inserts copies of a row that differ only in the columns that must.
type rowCopy struct {
	table  string
	names  []string
	stmt   *sql.Stmt
	values []any
	fresh  []int
}

func newRowCopy(db *sql.DB, table string, fresh []string) (*rowCopy, error) {
	rows, err := db.Query("SELECT * FROM " + table + " LIMIT 1")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	c := &rowCopy{values: make([]any, len(names))}
	dest := make([]any, len(names))
	for i, name := range names {
		dest[i] = &c.values[i]
		for _, f := range fresh {
			if f == name {
				c.fresh = append(c.fresh, i)
			}
		}
	}
	if !rows.Next() {
		return nil, fmt.Errorf("%s is empty", table)
	}
	if err := rows.Scan(dest...); err != nil {
		return nil, err
	}
	if err := rows.Close(); err != nil {
		return nil, err
	}
	if names[0] == "seq" { // the database numbers it
		names, c.values = names[1:], c.values[1:]
		for i := range c.fresh {
			c.fresh[i]--
		}
	}
	c.names = names
	c.table = table
	database := onSQLite
	if _, err := db.Exec("SELECT sqlite_version()"); err != nil {
		database = onPostgres
	}
	c.stmt, err = db.Prepare(c.many(1, database))
	return c, err
}

// many returns the statement that inserts n rows.
func (c *rowCopy) many(n int, database string) string {
	var b strings.Builder
	b.WriteString("INSERT INTO " + c.table + " (" + strings.Join(c.names, ", ") + ") VALUES ")
	for i := range n * len(c.values) {
		switch {
		case i == 0:
			b.WriteString("(")
		case i%len(c.values) == 0:
			b.WriteString("), (")
		default:
			b.WriteString(", ")
		}
		if database == onPostgres {
			fmt.Fprintf(&b, "$%d", i+1)
		} else {
			b.WriteString("?")
		}
	}
	return b.String() + ")"
}

func (c *rowCopy) insert(t *sql.Tx) error {
	for _, i := range c.fresh {
		c.values[i] = uuid.Must(uuid.NewV7()).String()
	}
	_, err := t.Stmt(c.stmt).Exec(c.values...)
	return err
}

// nobody is a way out that is never used.
type nobody struct{ provider.Provider }

func (nobody) Name() string          { return "nobody" }
func (nobody) Can() provider.Ability { return provider.Ability{Mail: true} }
