package illumicode_test

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/feedback"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/core/report"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/pgtest"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/internal/store/db"
	"github.com/illumicode/illumicode/limit"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/capture"
	"github.com/illumicode/illumicode/store/postgres"
	"github.com/illumicode/illumicode/token"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

func onPostgres(tb testing.TB, conn string) func(*illumicode.Config) {
	tb.Helper()
	return inSchema(tb, conn, "")
}

func inSchema(tb testing.TB, conn, schema string) func(*illumicode.Config) {
	tb.Helper()
	st, err := postgres.Open(tb.Context(), conn, postgres.Options{Schema: schema})
	if err != nil {
		tb.Fatal(err)
	}
	tb.Cleanup(func() { st.Close() })
	if err := st.Migrate(tb.Context()); err != nil {
		tb.Fatal(err)
	}
	return func(c *illumicode.Config) {
		if c.Store = st; c.Outbox.Poll > 10*time.Millisecond { // a test that does not ask for it must not need it
			c.Outbox.Poll = time.Hour
		}
	}
}

func TestOnPostgres(t *testing.T) {
	conn := pgtest.Fresh(t)
	worker := illumicodetest.New(t, withPier(t), onPostgres(t, conn))
	pending := begin(t, worker, "a")
	if err := worker.Service.ConfirmCode(t.Context(), pending.Ticket, worker.Letter(mara, 1).Code(), nil); err != nil ||
		!confirmed(t, worker, "a") {
		t.Fatalf("ConfirmCode = %v", err)
	}
	web := illumicodetest.Idle(t, withPier(t), onPostgres(t, conn))
	db, err := pgx.Connect(t.Context(), conn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(context.Background())
	for _, commit := range []bool{false, true} {
		tx, err := db.Begin(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		n := illumicode.Notice{Letter: "moved", Data: map[string]any{"pier": fmt.Sprint("committed ", commit)},
			To: illumicode.Request{Address: mara}}
		if _, err := web.Service.On(postgres.Handle(tx)).Notify(t.Context(), n); err != nil {
			t.Fatal(err)
		}
		if commit {
			err = tx.Commit(t.Context())
		} else {
			err = tx.Rollback(t.Context())
		}
		if err != nil {
			t.Fatal(err)
		}
		web.Service.Wake()
	}
	if l := worker.Letter(mara, 2); l.Subject != "Moved to committed true" {
		t.Errorf("%q", l.Subject)
	}
	if n, err := web.Service.NotifyAll(t.Context(), illumicode.Notice{Letter: "moved", Data: pier(1)},
		people(450)); err != nil || n != 450 {
		t.Fatalf("NotifyAll = %d, %v", n, err)
	}
	worker.Letter("p449@ternisle.example", 1)
}

func TestClocksThatDiffer(t *testing.T) {
	conn := pgtest.Fresh(t)
	way := new(capture.Provider)
	var kits []*illumicodetest.Kit
	for _, skew := range []time.Duration{-10 * time.Minute, 10 * time.Minute} {
		kits = append(kits, illumicodetest.New(t, withPier(t), onPostgres(t, conn), func(c *illumicode.Config) {
			c.Now = func() time.Time { return time.Now().Add(skew) }
			c.Providers, c.Outbox.Poll, c.Outbox.Lease = []provider.Provider{way}, 20*time.Millisecond, 3*time.Second
			c.Outbox.Senders = 2
		}))
	}
	for _, k := range kits {
		if off := time.Until(k.Service.Now()).Abs(); off > 2*time.Second {
			t.Errorf("the service's clock is %v off", off)
		}
	}
	late := notify(t, kits[0],
		illumicode.Notice{Letter: "moved", Data: pier(2), At: kits[0].Service.Now().Add(5 * time.Minute),
			To: illumicode.Request{Address: "late@ternisle.example"}})
	if _, err := kits[1].Service.NotifyAll(t.Context(), illumicode.Notice{Letter: "moved", Data: pier(1)},
		people(300)); err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(30 * time.Second); len(way.Letters()) < 300 &&
		time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
	}
	time.Sleep(400 * time.Millisecond) // who takes the other for dead has sent its letters again by now
	if n := len(way.Letters()); n != 300 {
		t.Errorf("%d letters went out, want 300", n)
	}
	ended(t, kits[1], late, store.Waiting)
	sum, err := flow.Of(kits[0].Service).Store.Summary(t.Context(), kits[0].Service.Now())
	if err != nil || sum.Repeats != 0 {
		t.Errorf("%d repeats, %v", sum.Repeats, err)
	}
}

// A process that knows a part of the counts only takes back what it has counted, to the moment: nobody waits
// for what another process did.
func TestCountsOfAnotherProcess(t *testing.T) {
	conn := pgtest.Fresh(t)
	keys := token.Generate(time.Now())
	var services []*illumicode.Service
	for range 2 {
		services = append(services, illumicodetest.New(t, onPostgres(t, conn), func(c *illumicode.Config) {
			c.Keys = keys
			c.Limits = []limit.Rule{
				{Name: "slower", By: limit.Address,
					Ladder: limit.Ladder{Rungs: []time.Duration{300 * time.Millisecond, 301 * time.Millisecond},
						Decay: time.Hour}},
				{Name: "network", By: limit.Network, Quota: limit.Quota{Times: 100, Window: limit.Day}},
			}
		}).Service)
	}
	ask := func(who int, address string) {
		t.Helper()
		if _, err := services[who].Admit(t.Context(),
			illumicode.Request{Address: address, Client: netip.MustParseAddr("192.0.2.7")}); err != nil {
			t.Errorf("%s, in process %d: %v", address, who, err)
		}
	}
	for round := range 3 {
		ask(0, mara)
		ask(1, fmt.Sprintf("p%d@ternisle.example", round))
		time.Sleep(320 * time.Millisecond)
	}
}

func TestOneLinkManyCallersOnPostgres(t *testing.T) {
	k := illumicodetest.New(t, onPostgres(t, pgtest.Fresh(t)))
	begin(t, k, "a")
	tok := k.Link(k.Letter(mara, 1))
	var mu sync.Mutex
	won, used := 0, 0
	var all sync.WaitGroup
	for range 40 {
		all.Go(func() {
			err := k.Service.Confirm(t.Context(), tok, nil)
			mu.Lock()
			defer mu.Unlock()
			switch {
			case err == nil:
				won++
			case errors.Is(err, illumicode.ErrUsed):
				used++
			default:
				t.Error(err)
			}
		})
	}
	all.Wait()
	if won != 1 || used != 39 {
		t.Errorf("%d won, %d were told that it was used", won, used)
	}
}

// Also where the tables have a schema of their own.
func TestLeastPrivilege(t *testing.T) {
	for _, schema := range []string{"", "tern isle"} {
		t.Run("schema "+schema, func(t *testing.T) { leastPrivilege(t, schema) })
	}
}

func leastPrivilege(t *testing.T, schema string) {
	conn := pgtest.Fresh(t)
	owner := illumicodetest.Idle(t, withPier(t), inSchema(t, conn, schema))
	for range 2 { // again after an upgrade
		if _, err := owner.Service.Store().DB().Exec(db.Roles(schema)); err != nil {
			t.Fatal(err)
		}
	}
	// Where only the owner may ask for the cluster, the others work on what it has put on record.
	if home, err := flow.Of(owner.Service).Store.AtHome(t.Context()); err != nil || !home {
		t.Fatalf("at home: %v, %v", home, err)
	}
	const revoke = "REVOKE EXECUTE ON FUNCTION pg_control_system() FROM PUBLIC"
	if _, err := owner.Service.Store().DB().Exec(revoke); err != nil {
		t.Fatal(err)
	}
	as := func(role string) func(*illumicode.Config) {
		st, err := postgres.Open(t.Context(), conn+" options='-c role="+role+"'", postgres.Options{Schema: schema})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { st.Close() })
		return func(c *illumicode.Config) { c.Store = st; rules(c) }
	}
	worker := illumicodetest.New(t, withPier(t), as("illumicode_worker"))
	web := illumicodetest.Idle(t, withPier(t), as("illumicode_web"), func(c *illumicode.Config) {
		c.Keys = freshKeys(t)
	})
	if _, err := web.Service.NotifyAll(t.Context(), illumicode.Notice{Letter: "moved", Data: pier(1), Key: "k"},
		people(120, mara)); err != nil {
		t.Fatal(err)
	}
	worker.Letter(mara, 1)
	for _, step := range []func() error{
		func() error {
			return web.Service.Transact(t.Context(), func(ctx context.Context, tx illumicode.Tx) error {
				_, err := tx.Cancel(ctx, "k")
				return err
			})
		},
		func() error {
			return web.Service.Prefer(t.Context(), illumicode.Preference{Address: mara, Category: "sailings",
				Wanted: true})
		},
		func() error {
			_, err := web.Service.Signup(t.Context(), illumicode.Request{Address: "jens@ternisle.example"},
				illumicode.Subject("j"))
			return err
		},
	} {
		if err := step(); err != nil {
			t.Error(err)
		}
	}
	var sent []store.Delivery
	eventually(t, func() bool {
		var err error
		sent, err = flow.Of(owner.Service).Store.LettersTo(t.Context(), mara, mara, 1)
		return err == nil && len(sent) == 1 && sent[0].State == store.Sent
	})
	back := feedback.Feedback{Delivery: sent[0].ID, Kind: report.HardBounce, Status: "5.1.1"}
	if n, err := feedback.Take(t.Context(), web.Service, back); err != nil || n != 1 {
		t.Errorf("feedback: %d, %v", n, err)
	}
	eventually(t, func() bool { return fmt.Sprint(scopes(t, worker, mara)) == "[bounced]" })
	path := ""
	if schema != "" {
		path = "SET search_path TO " + db.Quote(schema) + "; "
	}
	event := "INSERT INTO illumicode_event (source, id, type, data) VALUES ('/quay', '1', 'sailing.moved', " +
		"'{\"pier\": \"pier 3\", \"sailing\": \"8\", \"passengers\": \"ida@ternisle.example\"}')"
	for statement, allowed := range map[string]bool{
		"SET ROLE illumicode_events; " + event:                                                                   true,
		"SET ROLE illumicode_events; SELECT COUNT(*) FROM illumicode_event":                                      false,
		"SET ROLE illumicode_events; SELECT COUNT(*) FROM illumicode_delivery":                                   false,
		"SET ROLE illumicode_web; UPDATE illumicode_attempt SET class = 'accepted'":                              false,
		"SET ROLE illumicode_web; INSERT INTO illumicode_pause VALUES ('lane','x',0,'')":                         false,
		"SET ROLE illumicode_worker; UPDATE illumicode_address SET standing = 'confirmed'":                       false,
		"SET ROLE illumicode_worker; UPDATE illumicode_address SET standing = 'bounced'":                         true,
		"SET ROLE illumicode_web; INSERT INTO illumicode_suppression VALUES ('x', 'k', '', 'all', '', 0, 0, '')": false,
		"SET ROLE illumicode_worker; INSERT INTO illumicode_holder VALUES ('x', 'y', 0)":                         false,
	} {
		c, err := owner.Service.Store().DB().Conn(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		_, err = c.ExecContext(t.Context(), path+statement)
		if (err == nil) != allowed {
			t.Errorf("%s: %v", statement, err)
		}
		c.ExecContext(t.Context(), "RESET ROLE")
		c.Close()
	}
	worker.Letter("ida@ternisle.example", 1)
}
