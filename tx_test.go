package illumicode_test

import (
	"context"
	"database/sql"
	"errors"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/pgtest"
	"github.com/illumicode/illumicode/limit"
	"github.com/illumicode/illumicode/store"
	"github.com/illumicode/illumicode/store/postgres"
)

// onPool returns a kit on a pool of pgx that is the application's, with a table of its own beside.
func onPool(t *testing.T, change ...func(*illumicode.Config)) (*illumicodetest.Kit, *pgxpool.Pool) {
	t.Helper()
	pool, err := pgxpool.New(t.Context(), pgtest.Fresh(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(pool.Close)
	st, err := postgres.UsePool(t.Context(), pool, postgres.Options{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { st.Close() })
	if err := st.Migrate(t.Context()); err != nil {
		t.Fatal(err)
	}
	if _, err := pool.Exec(t.Context(), "CREATE TABLE diary (line TEXT NOT NULL)"); err != nil {
		t.Fatal(err)
	}
	on := func(c *illumicode.Config) { c.Store, c.Outbox.Poll = st, 10*time.Millisecond }
	return illumicodetest.New(t, append(change, on)...), pool
}

// write writes a line into the application's table, in the transaction that a callback has.
func write(ctx context.Context, tx illumicode.Tx, line string) error {
	_, err := illumicode.Own[pgx.Tx](tx).Exec(ctx, "INSERT INTO diary VALUES ($1)", line)
	return err
}

func diary(t *testing.T, pool *pgxpool.Pool) string {
	t.Helper()
	rows, err := pool.Query(t.Context(), "SELECT line FROM diary ORDER BY 1")
	if err != nil {
		t.Fatal(err)
	}
	lines, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		t.Fatal(err)
	}
	return strings.Join(lines, ", ")
}

// Every one-call form runs its callback in a transaction of the pool, in one commit with what the library writes.
func TestFlowsOnPool(t *testing.T) {
	k, pool := onPool(t, withPier(t))
	s, ctx := k.Service, t.Context()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	signup := func(address, subject string) (illumicode.Pending, error) {
		return s.Signup(ctx, illumicode.Request{Address: address},
			func(ctx context.Context, tx illumicode.Tx) (string, error) {
				_, err := tx.Notify(ctx, illumicode.Notice{Letter: "moved", Data: pier(1),
					To: illumicode.Request{Address: "desk@ternisle.example"}})
				return subject, errors.Join(err, write(ctx, tx, "1 created "+subject))
			})
	}
	p, err := signup(mara, "7")
	must(err)
	p, err = s.Correct(ctx, p.Ticket, illumicode.Request{Address: newMara},
		func(ctx context.Context, tx illumicode.Tx, subject string) error {
			return write(ctx, tx, "2 corrected "+subject)
		})
	must(err)
	must(s.ConfirmCode(ctx, p.Ticket, k.Letter(newMara, 1).Code(),
		func(ctx context.Context, tx illumicode.Tx, p illumicode.Proof) error {
			return write(ctx, tx, "3 confirmed "+p.Subject())
		}))
	in := signIn(t, k, illumicode.Request{Address: newMara})
	if _, err := s.SignInCode(ctx, in.Ticket, k.Letter(newMara, 2).Code(),
		func(ctx context.Context, tx illumicode.Tx, who illumicode.SignedIn) error {
			return write(ctx, tx, "4 signed in "+who.Subject)
		}); err != nil {
		t.Fatal(err)
	}
	holding := illumicode.Holding{Subject: "7", Address: newMara}
	p, err = s.ChangeAddress(ctx, holding, illumicode.Request{Address: "thief@ternisle.example"})
	must(err)
	must(s.ConfirmCode(ctx, p.Ticket, k.Letter("thief@ternisle.example", 1).Code(), nil))
	taken, err := s.Undo(ctx, k.Link(k.Letter(newMara, 3)),
		func(ctx context.Context, tx illumicode.Tx, c illumicode.Change) error {
			return write(ctx, tx, "5 undone for "+c.Subject)
		})
	must(err)
	must(s.Confirm(ctx, k.Link(letterAbout(t, k, newMara, "Do you still")), nil))
	must(desk.New(s).Decide(ctx, desk.Decision{Change: taken.ID, Keep: newMara, Reason: "came to the quay"},
		func(ctx context.Context, tx illumicode.Tx) error { return write(ctx, tx, "6 decided") }))
	_, err = signup("jens@ternisle.example", "8")
	must(err)
	must(s.NotMe(ctx, notMeToken(t, k.Letter("jens@ternisle.example", 1).Text),
		func(ctx context.Context, tx illumicode.Tx, d illumicode.Disowned) error {
			return write(ctx, tx, "7 disowned "+d.Subject)
		}))
	want := "1 created 7, 1 created 8, 2 corrected 7, 3 confirmed 7, 4 signed in 7, 5 undone for 7, 6 decided, " +
		"7 disowned 8"
	if got := diary(t, pool); got != want {
		t.Errorf("the diary says %q, want %q", got, want)
	}
	k.Letter("desk@ternisle.example", 2) // what the callbacks added has gone out

	// A callback that fails leaves nothing behind: no line, no account, no notice, no letter.
	fault := errors.New("the application's own")
	if _, err := s.Signup(ctx, illumicode.Request{Address: "liv@ternisle.example"},
		func(ctx context.Context, tx illumicode.Tx) (string, error) {
			return "9", errors.Join(write(ctx, tx, "never"), fault)
		}); !errors.Is(err, fault) {
		t.Errorf("a callback's error is %v", err)
	}
	if got := diary(t, pool); got != want {
		t.Errorf("after a callback that failed: %q", got)
	}
	if story, err := desk.New(s).Story(ctx, "liv@ternisle.example"); err != nil || len(story.Letters) != 0 {
		t.Errorf("after a callback that failed: %+v, %v", story.Letters, err)
	}
}

// The application's own transaction of pgx: what it begins is there with its commit. A second use of an admission is
// refused without breaking the transaction, and a rollback gives it back.
func TestAdmissionOnPool(t *testing.T) {
	k, pool := onPool(t)
	s, ctx := k.Service, t.Context()
	begin := func(a illumicode.Admission, subject string, decoy bool, end func(pgx.Tx) error) error {
		tx, err := pool.Begin(ctx)
		if err != nil {
			t.Fatal(err)
		}
		defer tx.Rollback(ctx)
		if decoy {
			_, err = s.On(postgres.Handle(tx)).BeginDecoy(ctx, a)
		} else {
			_, err = s.On(postgres.Handle(tx)).BeginSignup(ctx, a, subject)
		}
		if _, after := tx.Exec(ctx, "INSERT INTO diary VALUES ($1)", subject); after != nil {
			t.Errorf("the transaction is broken: %v", after)
		}
		if err == nil {
			err = end(tx)
		}
		s.Wake()
		return err
	}
	a, err := s.Admit(ctx, illumicode.Request{Address: mara})
	if err != nil {
		t.Fatal(err)
	}
	for i, tt := range []struct {
		decoy bool
		end   func(pgx.Tx) error
		want  error
	}{
		{false, func(tx pgx.Tx) error { return tx.Rollback(ctx) }, nil},
		{true, func(tx pgx.Tx) error { return tx.Rollback(ctx) }, nil},
		{false, func(tx pgx.Tx) error { return tx.Commit(ctx) }, nil},
		{false, func(tx pgx.Tx) error { return tx.Commit(ctx) }, illumicode.ErrAdmissionUsed},
		{true, func(tx pgx.Tx) error { return tx.Commit(ctx) }, illumicode.ErrAdmissionUsed},
	} {
		if err := begin(a, "7", tt.decoy, tt.end); !errors.Is(err, tt.want) {
			t.Errorf("use %d: %v, want %v", i+1, err, tt.want)
		}
	}
	k.Letter(mara, 1)
	if n := len(k.Inbox.Letters(mara)); n != 1 {
		t.Errorf("%d letters for one admission", n)
	}
}

// A taken address and a free one spend the same of every limit, on a pool as elsewhere: else limits would tell which
// addresses exist.
func TestDecoySpendsAsMuch(t *testing.T) {
	k, _ := onPool(t, withLimits(limit.Rule{Name: "network", By: limit.Network,
		Quota: limit.Quota{Times: 10, Window: limit.Month}}))
	left := func(network string, decoy bool) int {
		ctx := from(t, network)
		_, err := k.Service.Signup(ctx, illumicode.Request{Address: "x" + network + "@ternisle.example"},
			func(context.Context, illumicode.Tx) (string, error) {
				if decoy {
					return "", illumicode.ErrOccupied
				}
				return network, nil
			})
		if err != nil {
			t.Fatal(err)
		}
		tried, err := desk.New(k.Service).TryLimits(ctx, illumicode.Request{Address: mara, Purpose: "signup"},
			limit.First)
		if err != nil || len(tried.Rules) != 1 {
			t.Fatalf("%+v, %v", tried, err)
		}
		return tried.Rules[0].Left
	}
	if free, taken := left("203.0.113.7", false), left("203.0.113.8", true); free != taken || free != 9 {
		t.Errorf("a free address leaves %d of 10, a taken one %d", free, taken)
	}
}

// A veil is a mapper that hides its transaction.
type veil struct{ tx *sql.Tx }

func (v veil) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	return v.tx.ExecContext(ctx, query, args...)
}

func (v veil) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	return v.tx.QueryContext(ctx, query, args...)
}

// A mapper's transaction that is reached only through its two calls will do, and is what Own gives back.
func TestAdapt(t *testing.T) {
	onBoth(t, func(t *testing.T, k *illumicodetest.Kit) {
		s, ctx := k.Service, t.Context()
		a, err := s.Admit(ctx, illumicode.Request{Address: mara})
		if err != nil {
			t.Fatal(err)
		}
		tx, err := s.Store().DB().BeginTx(ctx, nil)
		if err != nil {
			t.Fatal(err)
		}
		defer tx.Rollback()
		own := veil{tx}
		on := s.On(store.Adapt(s.Store(), own, own))
		if illumicode.Own[veil](on) != own {
			t.Error("Own gives another transaction")
		}
		if _, err := on.BeginSignup(ctx, a, "7"); err != nil {
			t.Fatal(err)
		}
		if err := tx.Commit(); err != nil {
			t.Fatal(err)
		}
		s.Wake()
		if err := s.Confirm(ctx, k.Link(k.Letter(mara, 1)), nil); err != nil {
			t.Error(err)
		}
	})
}

// Who asks for a transaction of another type is told both.
func TestOwnOfAnotherType(t *testing.T) {
	k := illumicodetest.Idle(t)
	err := k.Service.Transact(t.Context(), func(ctx context.Context, tx illumicode.Tx) error {
		if tx.SQL() == nil {
			t.Error("SQL is nil")
		}
		defer func() {
			said, _ := recover().(string)
			if !strings.Contains(said, "*sql.Tx") || !strings.Contains(said, "veil") {
				t.Errorf("it panics with %q", said)
			}
		}()
		illumicode.Own[veil](tx)
		return nil
	})
	if err != nil {
		t.Error(err)
	}
}

// Every call on no transaction is an error, and none panics.
func TestNoTransaction(t *testing.T) {
	k := illumicodetest.Idle(t)
	for name, tx := range map[string]illumicode.Tx{"the zero Tx": {}, "In(nil)": k.Service.In(nil),
		"On of no handle": k.Service.On(store.Handle{}), "On of a nil pgx.Tx": k.Service.On(postgres.Handle(nil))} {
		v := reflect.ValueOf(tx)
		calls := 0
		for i := range v.NumMethod() {
			method := v.Type().Method(i)
			if method.Type.NumIn() < 2 { // the receiver alone: SQL
				continue
			}
			args := []reflect.Value{reflect.ValueOf(t.Context())}
			for in := 2; in < method.Type.NumIn(); in++ {
				args = append(args, reflect.Zero(method.Type.In(in)))
			}
			out := v.Method(i).Call(args)
			if err, _ := out[len(out)-1].Interface().(error); !errors.Is(err, illumicode.ErrNoTx) {
				t.Errorf("%s, %s: %v, want ErrNoTx", name, method.Name, err)
			}
			calls++
		}
		if calls < 10 {
			t.Errorf("%s: only %d calls tried", name, calls)
		}
	}
}
