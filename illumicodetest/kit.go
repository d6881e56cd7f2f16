// Package illumicodetest gives an application's tests a whole service: a database in memory (or the store that the test
// puts into the configuration, such as one on PostgreSQL), a clock that
// the test moves, and a capture inbox that letters reach over real SMTP, one after the other, those of one
// lane in the order in which they were asked for.
//
//	kit := illumicodetest.New(t)
//	pending, err := kit.Service.Signup(t.Context(), illumicode.Request{Address: "mara@ternisle.example"},
//
// illumicode.Subject("7"))
//
//	letter := kit.Letter("mara@ternisle.example", 1)
//	err = kit.Service.ConfirmCode(t.Context(), pending.Ticket, letter.Code(), nil) // or letter.Link(), opened
//	kit.Clock.Move(48 * time.Hour)
//
// The application's own tables can stand in the same database: kit.Service.Store().DB().
package illumicodetest

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/inbox"
	"github.com/illumicode/illumicode/internal/flow"
	rows "github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/internal/text"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/smtp"
	"github.com/illumicode/illumicode/retry"
	"github.com/illumicode/illumicode/store"
	"github.com/illumicode/illumicode/store/sqlite"
	"github.com/illumicode/illumicode/token"
)

// A Clock is the service's clock: the wall's, plus what the test has moved it by. It is safe for
// concurrent use.
type Clock struct{ ahead atomic.Int64 }

// Now returns the instant.
func (c *Clock) Now() time.Time { return time.Now().Add(time.Duration(c.ahead.Load())) }

// Move moves the clock: forward, or back for a negative d.
func (c *Clock) Move(d time.Duration) { c.ahead.Add(int64(d)) }

// A Kit is a service with everything around it.
type Kit struct {
	Service *illumicode.Service
	Inbox   *inbox.Inbox
	Clock   *Clock
	Keys    *token.Keyring
	Way     *smtp.Provider // the way out to the inbox

	tb  testing.TB
	log *text.Text
}

// New returns a kit whose worker runs until the test ends. Each change may alter the
// configuration before the service is made.
func New(tb testing.TB, change ...func(*illumicode.Config)) *Kit {
	tb.Helper()
	k := Idle(tb, change...)
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		k.Service.Run(ctx)
	}()
	tb.Cleanup(func() { stop(); <-ended })
	return k
}

// Idle is New without a worker: letters wait.
func Idle(tb testing.TB, change ...func(*illumicode.Config)) *Kit {
	tb.Helper()
	must := func(err error) {
		tb.Helper()
		if err != nil {
			tb.Fatal(err)
		}
	}
	dir := tb.TempDir()
	k := &Kit{Clock: new(Clock), log: new(text.Text), tb: tb}
	var err error
	k.Inbox, err = inbox.New(inbox.Config{})
	must(err)
	tb.Cleanup(func() { k.Inbox.Close() })
	k.Way = k.serveInbox(dir)

	from, err := message.ParseAddress("crew@ternisle.example")
	must(err)
	c := illumicode.Config{
		Keys: token.Generate(time.Now()), From: from, Providers: []provider.Provider{k.Way}, Now: k.Clock.Now,
		Site: illumicode.Site{BaseURL: "http://127.0.0.1:1", Name: "Tern Isle Ferry"},
		Log:  slog.New(slog.NewTextHandler(k.log, nil)),
		Outbox: delivery.Settings{Senders: 1, Poll: 20 * time.Millisecond,
			Retry: retry.Policy{Base: 20 * time.Millisecond}},
	}
	for _, fn := range change {
		fn(&c)
	}
	if c.Store == nil {
		c.Store = openEmpty(tb)
	} else if errors.Is(rows.Of(c.Store).Ready(tb.Context()), store.ErrVersion) {
		must(c.Store.Migrate(tb.Context()))
	}
	k.Keys = c.Keys
	k.Service, err = illumicode.New(c)
	must(err)
	return k
}

// openEmpty opens a database with all tables and nothing in them.
func openEmpty(tb testing.TB) *store.Store {
	tb.Helper()
	empty, err := migrated()
	if err != nil {
		tb.Fatal(err)
	}
	file := filepath.Join(inMemory(tb), "test.db")
	if err := os.WriteFile(file, empty, 0o600); err != nil {
		tb.Fatal(err)
	}
	st, err := sqlite.Open(tb.Context(), file)
	if err != nil {
		tb.Fatal(err)
	}
	tb.Cleanup(func() { st.Close() })
	return st
}

// inMemory returns a folder that the test's end removes: in the memory's own file system, where there is
// one, else on disk. A database there does all that one on disk does, which SQLite's own kind in memory
// does not: it makes readers wait for a writer.
func inMemory(tb testing.TB) string {
	dir, err := os.MkdirTemp("/dev/shm", "illumicodetest-")
	if err != nil {
		return tb.TempDir()
	}
	tb.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// migrated returns a database file with all tables, made once for all kits of the process: making them
// takes longer than most tests.
var migrated = sync.OnceValues(func() ([]byte, error) {
	dir, err := os.MkdirTemp("", "illumicodetest-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	file := filepath.Join(dir, "empty.db")
	st, err := sqlite.Open(context.Background(), file)
	if err != nil {
		return nil, err
	}
	err = st.Migrate(context.Background())
	if err := errors.Join(err, st.Close()); err != nil { // closed, the whole of it is in the one file
		return nil, err
	}
	return os.ReadFile(file)
})

// serveInbox starts the inbox and returns a provider that trusts its certificate.
func (k *Kit) serveInbox(dir string) *smtp.Provider {
	k.tb.Helper()
	var listeners [2]net.Listener
	for i := range listeners {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			k.tb.Fatal(err)
		}
		listeners[i] = l
	}
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		k.Inbox.Serve(ctx, listeners[0], listeners[1])
	}()
	k.tb.Cleanup(func() { stop(); <-ended })
	ca := filepath.Join(dir, "inbox.pem")
	if err := os.WriteFile(ca, k.Inbox.CertificatePEM(), 0o600); err != nil {
		k.tb.Fatal(err)
	}
	way, err := smtp.New("inbox", smtp.Config{Host: "127.0.0.1", Port: listeners[0].Addr().(*net.TCPAddr).Port,
		TLS: smtp.StartTLS, CAFile: ca})
	if err != nil {
		k.tb.Fatal(err)
	}
	k.tb.Cleanup(func() { way.Close() })
	return way
}

// Letter waits for the nth letter to an address, counted from 1, and until its hand-over is on record, with
// which the lives of its code and link begin. It returns the letter.
func (k *Kit) Letter(to string, n int) *inbox.Letter {
	k.tb.Helper()
	ctx, cancel := context.WithTimeout(k.tb.Context(), 20*time.Second)
	defer cancel()
	got, err := k.Inbox.Wait(ctx, to, n)
	if err != nil {
		k.tb.Fatal(err)
	}
	id, _, _ := strings.Cut(strings.TrimPrefix(got[n-1].MessageID, "<"), "@")
	for {
		d, err := flow.Of(k.Service).Store.Delivery(ctx, id)
		switch {
		case err != nil && !errors.Is(err, rows.ErrNotFound): // not found: forgotten already
			k.tb.Fatal(err)
		case d.State != rows.Claimed:
			return got[n-1]
		}
		time.Sleep(time.Millisecond)
	}
}

// Link returns the token that a letter's link carries, as a page would find it in the URL.
func (k *Kit) Link(l *inbox.Letter) illumicode.Link {
	k.tb.Helper()
	u, err := url.Parse(l.Link())
	if err != nil || u.Query().Get("t") == "" {
		k.tb.Fatalf("the letter's link carries no token")
	}
	return illumicode.Link(u.Query().Get("t"))
}

// Logged returns what the service has logged so far.
func (k *Kit) Logged() string { return k.log.String() }
