package main

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/signal"
	"strconv"
	"syscall"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/limit"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/smtp"
	"github.com/illumicode/illumicode/retry"
	"github.com/illumicode/illumicode/store"
	"github.com/illumicode/illumicode/store/postgres"
	"github.com/illumicode/illumicode/store/sqlite"
	"github.com/illumicode/illumicode/token"
)

// A setup is what the parent and its workers have in common. It goes to a worker in its
// environment.
type setup struct {
	file   string // SQLite; empty for PostgreSQL
	conn   string
	listen string // of the mail server

	listenAt string        // postgres.Options.Listen
	skew     time.Duration // of this process's clock
	keyring  string        // the file of it; empty for one of the process's own
	before   bool          // it works as the version before this one did
}

// workerEnv makes a process a worker, whatever program it is.
const workerEnv = "ILLUMICODE_CHAOS_WORKER"

// senders is how many letters a worker has in work: what a kill can make arrive twice.
const senders = 16

func (s setup) environ() []string {
	return append(os.Environ(), workerEnv+"=1", "CHAOS_FILE="+s.file, "CHAOS_CONN="+s.conn, "CHAOS_LISTEN="+s.listen,
		"CHAOS_LISTEN_AT="+s.listenAt, "CHAOS_SKEW="+s.skew.String(), "CHAOS_KEYRING="+s.keyring,
		"CHAOS_BEFORE="+strconv.FormatBool(s.before))
}

func setupOf() (setup, error) {
	skew, err := time.ParseDuration(os.Getenv("CHAOS_SKEW"))
	return setup{file: os.Getenv("CHAOS_FILE"), conn: os.Getenv("CHAOS_CONN"), listen: os.Getenv("CHAOS_LISTEN"),
		listenAt: os.Getenv("CHAOS_LISTEN_AT"), skew: skew, keyring: os.Getenv("CHAOS_KEYRING"),
		before: os.Getenv("CHAOS_BEFORE") == "true"}, err
}

// open opens the store and a service on it.
func (s setup) open(ctx context.Context) (*illumicode.Service, func(), error) {
	var st *store.Store
	var err error
	if s.file != "" {
		st, err = sqlite.Open(ctx, s.file)
	} else {
		st, err = postgres.Open(ctx, s.conn, postgres.Options{Listen: s.listenAt})
	}
	if err != nil {
		return nil, nil, err
	}
	svc, way, err := s.service(ctx, st)
	if err != nil {
		st.Close()
		return nil, nil, err
	}
	return svc, func() { way.Close(); st.Close() }, nil
}

// service makes a service. Without a file its key is its own, as notices need none in common.
func (s setup) service(ctx context.Context, st *store.Store) (*illumicode.Service, *smtp.Provider, error) {
	if err := st.Migrate(ctx); err != nil {
		return nil, nil, err
	}
	host, portText, err := net.SplitHostPort(s.listen)
	if err != nil {
		return nil, nil, err
	}
	port, err := strconv.Atoi(portText)
	if err != nil {
		return nil, nil, err
	}
	way, err := smtp.New("harbour", smtp.Config{Host: host, Port: port, TLS: smtp.NoTLS, Clear: true,
		Command: time.Second, Final: time.Second})
	if err != nil {
		return nil, nil, err
	}
	from, err := message.ParseAddress("crew@ternisle.example")
	if err != nil {
		return nil, nil, err
	}
	c := illumicode.Config{
		Store: st, From: from, Providers: []provider.Provider{way}, Limits: []limit.Rule{},
		Log:  slog.New(slog.DiscardHandler),
		Site: illumicode.Site{BaseURL: "https://ferry.example", Name: "Tern Isle Ferry"},
		Now:  func() time.Time { return time.Now().Add(s.skew) },
		Outbox: delivery.Settings{Senders: senders, Lease: leaseOfWorkers, Poll: 50 * time.Millisecond,
			Attempt: 5 * time.Second,
			Retry:   retry.Policy{Base: 100 * time.Millisecond, Max: time.Second, Attempts: 1000}},
	}
	if s.keyring == "" {
		c.Keys = token.Generate(time.Now())
	} else {
		c.KeySource = illumicode.KeyFile(s.keyring)
	}
	svc, err := illumicode.New(c)
	return svc, way, err
}

// work is a worker process: it delivers until it is stopped, in one way or another.
func work() int {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM)
	defer stop()
	s, err := setupOf()
	for err == nil {
		var svc *illumicode.Service
		var closeAll func()
		if svc, closeAll, err = s.open(ctx); err == nil {
			if s.before {
				err = workAsBefore(ctx, svc, s.listen)
			} else {
				err = svc.Run(ctx)
			}
			closeAll()
			break
		}
		// The database may be down just now.
		select {
		case <-ctx.Done():
			return 0
		case <-time.After(100 * time.Millisecond):
			err = nil
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "worker:", err)
		return 1
	}
	return 0
}
