// Package pgtest runs a throwaway PostgreSQL server from Debian's package, for tests, benchmarks
// and examples: with the server's default settings, in a folder of its own, on a socket in that
// folder.
package pgtest

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"

	"github.com/illumicode/illumicode/internal/proxy"
	"github.com/jackc/pgx/v5"
)

// A Server is a running PostgreSQL.
type Server struct {
	dir string // its data and its socket
	bin string
	as  *syscall.Credential // who runs it; nil for this process's user
	n   atomic.Int32        // databases made
}

// Start makes and starts a server. PostgreSQL refuses to run as root: then the user postgres, whom
// the package has made, runs it.
func Start(ctx context.Context) (*Server, error) {
	bins, err := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if err != nil || len(bins) == 0 {
		return nil, errors.New("pgtest: PostgreSQL is not there; `make test` installs it (apt-get install postgresql)")
	}
	slices.Sort(bins)
	s := &Server{bin: filepath.Dir(bins[len(bins)-1])}
	if s.dir, err = os.MkdirTemp("", "illumicode-pg-"); err != nil {
		return nil, err
	}
	if os.Getuid() == 0 {
		if err := s.useServerUser(); err != nil {
			return nil, err
		}
	}
	if err := s.run(ctx, "initdb", "-D", s.data(), "-U", "illumicode", "-A", "trust", "-E", "UTF8", "--no-locale",
		"--no-instructions"); err != nil {
		return nil, err
	}
	return s, s.Up(ctx)
}

func (s *Server) useServerUser() error {
	u, err := user.Lookup("postgres")
	if err != nil {
		return fmt.Errorf("pgtest: %w; `make test` installs PostgreSQL, which makes that user", err)
	}
	uid, uidErr := strconv.Atoi(u.Uid)
	gid, gidErr := strconv.Atoi(u.Gid)
	if err := errors.Join(uidErr, gidErr); err != nil {
		return err
	}
	s.as = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	return os.Chown(s.dir, uid, gid)
}

func (s *Server) data() string { return filepath.Join(s.dir, "data") }

func (s *Server) run(ctx context.Context, name string, args ...string) error {
	cmd := exec.CommandContext(ctx, filepath.Join(s.bin, name), args...)
	cmd.Dir = s.dir
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: s.as}
	out, err := cmd.CombinedOutput()
	if err != nil {
		return fmt.Errorf("pgtest: %s: %w\n%s", name, err, out)
	}
	return nil
}

// Up starts the server and waits until it takes connections.
func (s *Server) Up(ctx context.Context) error {
	options := "-c listen_addresses='' -c max_connections=200 -k " + s.dir
	return s.run(ctx, "pg_ctl", "-D", s.data(), "-w", "-s", "-l", filepath.Join(s.dir, "log"), "-o", options, "start")
}

// Crash stops the server as a loss of power would stop it, but for what the disk remembers: no
// connection is ended in order, and the next start recovers from the log.
func (s *Server) Crash(ctx context.Context) error {
	return s.run(ctx, "pg_ctl", "-D", s.data(), "-w", "-s", "-m", "immediate", "stop")
}

// Close stops the server and removes all that it kept.
func (s *Server) Close() error {
	if _, err := os.Stat(filepath.Join(s.data(), "postmaster.pid")); errors.Is(err, os.ErrNotExist) { // it has crashed
		return os.RemoveAll(s.dir)
	}
	return errors.Join(s.run(context.Background(), "pg_ctl", "-D", s.data(), "-w", "-s", "-m", "immediate", "stop"),
		os.RemoveAll(s.dir))
}

// Conn returns the connection string of a database.
func (s *Server) Conn(database string) string {
	return "host=" + s.dir + " user=illumicode dbname=" + database
}

// Database makes an empty database and returns its connection string.
func (s *Server) Database(ctx context.Context) (string, error) {
	conn, err := pgx.Connect(ctx, s.Conn("postgres"))
	if err != nil {
		return "", err
	}
	defer conn.Close(ctx)
	name := fmt.Sprintf("trial%d", s.n.Add(1))
	_, err = conn.Exec(ctx, "CREATE DATABASE "+name)
	return s.Conn(name), err
}

// shared is the server of this test binary.
var shared *Server

// Main runs the tests of a package with one server for all of them.
func Main(m *testing.M) {
	var err error
	if shared, err = Start(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := m.Run()
	if err := shared.Close(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		code = max(code, 1)
	}
	os.Exit(code)
}

// Fresh returns the connection string of a new database on the server of [Main].
func Fresh(tb testing.TB) string {
	tb.Helper()
	conn, err := shared.Database(tb.Context())
	if err != nil {
		tb.Fatal(err)
	}
	return conn
}

// Through returns a connection string that leads to the same database by ways of one's own, such as proxies.
func Through(tb testing.TB, conn string, ways ...*proxy.Proxy) string {
	tb.Helper()
	cfg, err := pgx.ParseConfig(conn)
	if err != nil {
		tb.Fatal(err)
	}
	var hosts, ports []string
	for _, way := range ways {
		hosts, ports = append(hosts, "127.0.0.1"), append(ports, strconv.Itoa(way.Addr().Port))
	}
	return fmt.Sprintf("host=%s port=%s user=%s dbname=%s sslmode=disable", strings.Join(hosts, ","),
		strings.Join(ports, ","), cfg.User, cfg.Database)
}

// Proxy returns a proxy to the server of a connection string.
func Proxy(tb testing.TB, conn string) *proxy.Proxy {
	tb.Helper()
	cfg, err := pgx.ParseConfig(conn)
	if err != nil {
		tb.Fatal(err)
	}
	p, err := proxy.New("unix", fmt.Sprintf("%s/.s.PGSQL.%d", cfg.Host, cfg.Port), 0)
	if err != nil {
		tb.Fatal(err)
	}
	tb.Cleanup(p.Close)
	return p
}
