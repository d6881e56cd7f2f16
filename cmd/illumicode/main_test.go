package main

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/inbox"
	"github.com/illumicode/illumicode/internal/config"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/pgtest"
)

// TestMain lets the test binary be the tool: a child process with this variable set is one.
func TestMain(m *testing.M) {
	if os.Getenv("ILLUMICODE_AS_TOOL") == "1" {
		main()
	}
	pgtest.Main(m)
}

// tool returns a command line of the tool as a process of its own.
func tool(t *testing.T, args ...string) *exec.Cmd {
	t.Helper()
	cmd := exec.Command(os.Args[0], args...)
	cmd.Env = append(os.Environ(), "ILLUMICODE_AS_TOOL=1")
	return cmd
}

// A place is a folder with a configuration, a keyring, migrated tables, and an inbox to send to.
type place struct {
	t      *testing.T
	dir    string
	config string
	inbox  *inbox.Inbox
	smtp   string // its port, once port was asked
}

func newPlace(t *testing.T) *place {
	t.Helper()
	p := &place{t: t, dir: t.TempDir()}
	p.config = p.file("illumicode.toml")
	var err error
	if p.inbox, err = inbox.New(inbox.Config{}); err != nil {
		t.Fatal(err)
	}
	var ports [2]net.Listener
	for i := range ports {
		if ports[i], err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
			t.Fatal(err)
		}
	}
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() { defer close(ended); p.inbox.Serve(ctx, ports[0], ports[1]) }()
	t.Cleanup(func() { stop(); <-ended })
	p.write("inbox.pem", string(p.inbox.CertificatePEM()))
	p.write("illumicode.toml", fmt.Sprintf(`
[site]
base_url = "https://ferry.example"
name = "Tern Isle Ferry"
[from]
address = "crew@ternisle.example"
[store]
file = "outbox.db"
[keys]
file = "keyring.json"
[[provider]]
name = "harbour"
kind = "smtp"
host = "127.0.0.1"
port = %d
tls = "starttls"
ca_file = "inbox.pem"
user = "crew"
password_env = "HARBOUR_PASSWORD"
[outbox]
lease = "30s"
poll = "20ms"
base = "20ms"
[serve]
listen = "127.0.0.1:0"
key_env = "ILLUMICODE_API_KEY"
`, ports[0].Addr().(*net.TCPAddr).Port))
	t.Setenv("HARBOUR_PASSWORD", "sea gull at noon")
	t.Setenv("ILLUMICODE_API_KEY", "a key of the application's own")
	p.must("keys", "new", "--out", p.file("keyring.json"))
	p.must("migrate")
	return p
}

// onBoth runs a test in a place with an SQLite file, and in one with a PostgreSQL database.
func onBoth(t *testing.T, test func(t *testing.T, p *place)) {
	t.Run("SQLite", func(t *testing.T) { test(t, newPlace(t)) })
	t.Run("PostgreSQL", func(t *testing.T) {
		p := newPlace(t)
		p.change(`file = "outbox.db"`, fmt.Sprintf("postgres = %q", pgtest.Fresh(t)))
		p.must("migrate")
		test(t, p)
	})
}

func (p *place) file(name string) string { return filepath.Join(p.dir, name) }

func (p *place) write(name, text string) {
	p.t.Helper()
	if err := os.WriteFile(p.file(name), []byte(text), 0o600); err != nil {
		p.t.Fatal(err)
	}
}

// change replaces a piece of the configuration, which must be there.
func (p *place) change(old, new string) {
	p.t.Helper()
	raw, err := os.ReadFile(p.config)
	if err != nil {
		p.t.Fatal(err)
	}
	if !strings.Contains(string(raw), old) {
		p.t.Fatalf("the configuration has no %q", old)
	}
	p.write("illumicode.toml", strings.Replace(string(raw), old, new, 1))
}

// do runs the tool in this process.
func (p *place) do(args ...string) (out, errOut string, code int) {
	p.t.Helper()
	var o, e bytes.Buffer
	code = run(p.t.Context(), append([]string{"--config", p.config}, args...), &o, &e)
	for _, secret := range []string{"sea gull at noon", "a key of the application's own"} {
		if strings.Contains(o.String()+e.String(), secret) {
			p.t.Errorf("%v prints a secret", args)
		}
	}
	return o.String(), e.String(), code
}

func (p *place) must(args ...string) string {
	p.t.Helper()
	out, errOut, code := p.do(args...)
	if code != exitDone {
		p.t.Fatalf("%v: exit %d\n%s%s", args, code, out, errOut)
	}
	return out
}

func TestNotifyTellsWhatTheProviderSaid(t *testing.T) {
	p := newPlace(t)
	out := p.must("notify", "--to", "mara@ternisle.example", "--name", "Mara Quist", "--locale", "de")
	if !strings.Contains(out, "harbour said") || !strings.Contains(out, "250 2.0.0 OK") ||
		!strings.Contains(out, "It is sent.") {
		t.Errorf("notify says:\n%s", out)
	}
	l := p.inbox.Letters("mara@ternisle.example")
	if len(l) != 1 || !strings.Contains(l[0].Subject, "Test-E-Mail") || !strings.Contains(l[0].To, "Mara Quist") {
		t.Fatalf("%d letters arrived, or the wrong one: %+v", len(l), l)
	}
	var list struct {
		Summary    struct{ Count map[string]int }
		Deliveries []struct{ ID, State, Address string }
	}
	if err := json.Unmarshal([]byte(p.must("outbox", "list", "--json")), &list); err != nil ||
		list.Summary.Count["sent"] != 1 || len(list.Deliveries) != 1 {
		t.Fatalf("outbox list --json: %+v, %v", list, err)
	}
	id := list.Deliveries[0].ID
	if text := p.must("outbox", "list"); !strings.Contains(text, tail(id)) || !strings.Contains(text, "1 sent.") {
		t.Errorf("outbox list:\n%s", text)
	}
	show := p.must("outbox", "show", "…"+tail(id))
	if !strings.Contains(show, "attempt 1 through harbour") || !strings.Contains(show, "250 2.0.0 OK") ||
		!strings.Contains(show, "nothing: it ended") {
		t.Errorf("outbox show:\n%s", show)
	}
}

func TestNotifyFailures(t *testing.T) {
	p := newPlace(t)
	for _, tt := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"notify"}, exitMisused, "--to"},
		{[]string{"notify", "--to", "mara"}, exitFailed, "no @"},
		{[]string{"notify", "--to", "m@x.example", "--letter", "trail"}, exitFailed,
			`no letter is named "trail"; there are "trial"`},
		{[]string{"notify", "--to", "m@x.example", "--letter", "confirm"}, exitFailed, "carries a proof"},
		{[]string{"notify", "--to", "m@x.example", "--data", "x"}, exitMisused, "name=value"},
		{[]string{"notify", "--too", "m@x.example"}, exitMisused, "unknown flag"},
		{[]string{"notfy"}, exitMisused, `"notfy"`},
		{[]string{"outbox", "lst"}, exitMisused, `"lst"`},
		{[]string{"outbox", "list", "--state", "gone"}, exitMisused, "no such state"},
		{[]string{"outbox", "show"}, exitMisused, "one argument"},
		{[]string{"outbox", "show", "00000000"}, exitFailed, "no delivery"},
		{[]string{"keys", "new", "--out", p.file("keyring.json")}, exitFailed, "not overwritten"},
		{[]string{"demo", "--listen", "nowhere"}, exitFailed, "host:port"},
	} {
		_, errOut, code := p.do(tt.args...)
		if code != tt.code || !strings.Contains(errOut, tt.want) {
			t.Errorf("%v: exit %d, %q; want %d and %q", tt.args, code, errOut, tt.code, tt.want)
		}
	}
	// A provider that is not there: the answer says so, and the letter goes on waiting.
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	l.Close()
	p.change("port = ", fmt.Sprintf("port = %d # ", l.Addr().(*net.TCPAddr).Port))
	out, errOut, code := p.do("notify", "--to", "mara@ternisle.example")
	if code != exitFailed || !strings.Contains(out, "connection refused") ||
		!strings.Contains(out, "It is waiting. Next: an attempt at") || !strings.Contains(errOut, "not sent") {
		t.Errorf("no server: exit %d\n%s%s", code, out, errOut)
	}
}

func TestTokens(t *testing.T) {
	p := newPlace(t)
	f, err := config.Load(p.config)
	if err != nil {
		t.Fatal(err)
	}
	open := func(use func(*illumicode.Service)) { // one process opens the file once
		svc, closeAll, err := f.Open(t.Context(), slog.New(slog.DiscardHandler), nil)
		if err != nil {
			t.Fatal(err)
		}
		use(svc)
		if err := closeAll(); err != nil {
			t.Fatal(err)
		}
	}
	var id string
	open(func(svc *illumicode.Service) {
		if _, err := svc.Signup(t.Context(), illumicode.Request{Address: "mara@ternisle.example"},
			illumicode.Subject("1")); err != nil {
			t.Fatal(err)
		}
		c, err := flow.Of(svc).Store.OpenAt(t.Context(), "mara@ternisle.example", time.Now())
		if err != nil {
			t.Fatal(err)
		}
		id = c.ID
	})
	tok := strings.TrimSpace(p.must("token", "mint", id))
	open(func(svc *illumicode.Service) {
		if _, err := svc.ProveLink(t.Context(), illumicode.Link(tok)); err != nil {
			t.Errorf("the token that was made proves nothing: %v", err)
		}
	})
	out := p.must("token", "read", "https://ferry.example/confirm?t="+tok)
	if !strings.Contains(out, id) || !strings.Contains(out, "The signature fits.") ||
		strings.Contains(out, "mara@") {
		t.Errorf("token read:\n%s", out)
	}
	for bad, want := range map[string]string{
		tok[:len(tok)-1] + "_": "signature does not fit", "hello": "not a token", tok[:40]: "not a token",
	} {
		if _, errOut, code := p.do("token", "read", bad); code != exitFailed || !strings.Contains(errOut, want) {
			t.Errorf("token read of a bad one: exit %d, %q; want %q", code, errOut, want)
		}
	}
	if _, errOut, code := p.do("token", "read", "--purpose", "signin", tok); code != exitFailed ||
		!strings.Contains(errOut, "another purpose") {
		t.Errorf("another purpose: exit %d, %q", code, errOut)
	}
	var read struct{ Good bool }
	if err := json.Unmarshal([]byte(p.must("token", "read", "--json", tok)), &read); err != nil || !read.Good {
		t.Errorf("token read --json: %+v, %v", read, err)
	}
}

// What migrate prints makes the tables when another program runs it, and leaves nothing to do.
func TestMigratePrints(t *testing.T) {
	server := pgtest.Fresh(t)
	for _, tt := range []struct{ kind, driver, source, setting string }{
		{"sqlite", "sqlite", "printed.db", `file = "printed.db"`},
		{"postgres", "pgx", server, fmt.Sprintf("postgres = %q", server)},
	} {
		p := newPlace(t)
		if tt.kind == "sqlite" {
			tt.source = p.file(tt.source)
		}
		db, err := sql.Open(tt.driver, tt.source)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := db.Exec(p.must("migrate", "--print", "--for", tt.kind)); err != nil {
			t.Errorf("what is printed for %s: %v", tt.kind, err)
		}
		if tt.kind == "postgres" {
			if _, err := db.Exec(p.must("migrate", "--print", "--for", "postgres", "--schema", "of its own") +
				p.must("migrate", "--print-roles", "--schema", "of its own")); err != nil {
				t.Errorf("what is printed for a schema: %v", err)
			}
			if _, err := db.Exec("RESET search_path"); err != nil {
				t.Fatal(err)
			}
			if _, err := db.Exec(p.must("migrate", "--print-roles")); err != nil {
				t.Errorf("the roles: %v", err)
			}
		}
		if err := db.Close(); err != nil {
			t.Fatal(err)
		}
		p.change(`file = "outbox.db"`, tt.setting)
		if out := p.must("migrate"); !strings.Contains(out, "nothing to do") {
			t.Errorf("migrate after what it printed for %s: %s", tt.kind, out)
		}
	}
	for _, ignored := range [][]string{{"--schema", "own"}, {"--for", "postgres"},
		{"--print-roles", "--for", "sqlite"}} {
		if _, errOut, code := newPlace(t).do(append([]string{"migrate"}, ignored...)...); code != exitMisused ||
			!strings.Contains(errOut, ignored[len(ignored)-2]) {
			t.Errorf("migrate %v: exit %d, %s", ignored, code, errOut)
		}
	}
	if _, errOut, code := newPlace(t).do("migrate", "--print", "--for", "another"); code != exitMisused ||
		!strings.Contains(errOut, "there are sqlite and postgres") {
		t.Errorf("another database: exit %d, %s", code, errOut)
	}
}

// A second demo on the same port is told what to do.
func TestDemoTakenPort(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	var out, errOut bytes.Buffer
	if code := run(t.Context(), []string{"demo", "--listen", l.Addr().String()}, &out, &errOut); code != exitFailed ||
		!strings.Contains(errOut.String(), "is taken by another program; choose other ports with --listen") {
		t.Errorf("exit %d, %s", code, errOut.String())
	}
}

// port returns the port of the inbox, as the configuration has it.
func (p *place) port() string {
	p.t.Helper()
	raw, err := os.ReadFile(p.config)
	if err != nil {
		p.t.Fatal(err)
	}
	for line := range strings.Lines(string(raw)) {
		if port, ok := strings.CutPrefix(line, "port = "); ok && strings.TrimSpace(port) != "1" {
			p.smtp = strings.TrimSpace(port)
		}
	}
	return p.smtp
}
