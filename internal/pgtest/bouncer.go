package pgtest

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"
	"time"
)

// A Bouncer is a running pgbouncer before one server, which shares its sessions by the transaction.
type Bouncer struct {
	dir  string
	addr *net.TCPAddr
	run  *exec.Cmd
	done chan error
}

// Bouncer starts a pgbouncer before the server. In a network namespace it listens on the namespace's address; with nil,
// on loopback.
func (s *Server) Bouncer(ctx context.Context, in *Namespace) (*Bouncer, error) {
	program, err := exec.LookPath("pgbouncer")
	if err != nil {
		if program, err = exec.LookPath("/usr/sbin/pgbouncer"); err != nil {
			return nil, errors.New("pgtest: pgbouncer is not there; `make test` installs it (apt-get install " +
				"pgbouncer)")
		}
	}
	b := &Bouncer{done: make(chan error, 1), addr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 6432}}
	if b.dir, err = os.MkdirTemp("", "illumicode-bouncer-"); err != nil {
		return nil, err
	}
	if in != nil {
		b.addr.IP = in.inside
	} else if b.addr.Port, err = freePort(); err != nil {
		return nil, err
	}
	config := filepath.Join(b.dir, "pgbouncer.ini")
	if err := os.WriteFile(config, fmt.Appendf(nil, `[databases]
* = host=%s port=5432 user=illumicode
[pgbouncer]
listen_addr = %s
listen_port = %d
unix_socket_dir =
auth_type = any
pool_mode = transaction
max_client_conn = 500
default_pool_size = 40
server_login_retry = 1
`, s.dir, b.addr.IP, b.addr.Port), 0o644); err != nil {
		return nil, err
	}
	args := []string{program, "-q"}
	if s.as != nil {
		if err := os.Chmod(b.dir, 0o755); err != nil {
			return nil, err
		}
		args = append(args, "-u", "postgres") // it refuses to be root
	}
	args = append(args, config)
	if in != nil {
		args = append([]string{"ip", "netns", "exec", in.name}, args...)
	}
	b.run = exec.Command(args[0], args[1:]...)
	if err := b.run.Start(); err != nil {
		return nil, err
	}
	go func() { b.done <- b.run.Wait() }()
	return b, b.up(ctx)
}

// up waits until it takes connections.
func (b *Bouncer) up(ctx context.Context) error {
	for {
		c, err := net.DialTimeout("tcp", b.addr.String(), time.Second)
		if err == nil {
			return c.Close()
		}
		select {
		case ended := <-b.done:
			b.done <- ended
			return fmt.Errorf("pgtest: pgbouncer has ended: %v", ended)
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// Addr returns where it listens.
func (b *Bouncer) Addr() *net.TCPAddr { return b.addr }

// Close ends it at once.
func (b *Bouncer) Close() error {
	b.run.Process.Signal(syscall.SIGKILL) // it may have ended
	<-b.done
	return os.RemoveAll(b.dir)
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	return l.Addr().(*net.TCPAddr).Port, l.Close()
}

// A Namespace is a network of its own, with one cable to ours.
type Namespace struct {
	name, cable string
	inside      net.IP
}

// ErrNoNamespace is for a machine, or a user, that may not make a network namespace.
var ErrNoNamespace = errors.New("pgtest: no network namespace can be made here")

// NewNamespace makes a network namespace. The error matches [ErrNoNamespace] where that is not allowed.
func NewNamespace() (*Namespace, error) {
	id := os.Getpid() % (1 << 14) // for two addresses each of a /15 of RFC 1918
	address := func(end int) net.IP { return net.IPv4(10, 176, byte(id>>7), byte(id<<1|end)) }
	n := &Namespace{name: "illumicode" + strconv.Itoa(id), cable: "illu" + strconv.Itoa(id), inside: address(1)}
	outside := address(0)
	peer := n.cable + "b"
	for _, args := range [][]string{{"netns", "add", n.name},
		{"link", "add", n.cable, "type", "veth", "peer", "name", peer, "netns", n.name},
		{"addr", "add", outside.String(), "peer", n.inside.String(), "dev", n.cable},
		{"link", "set", n.cable, "up"},
		{"-n", n.name, "addr", "add", n.inside.String(), "peer", outside.String(), "dev", peer},
		{"-n", n.name, "link", "set", peer, "up"}, {"-n", n.name, "link", "set", "lo", "up"}} {
		if err := ip(args...); err != nil {
			n.Close()
			return nil, fmt.Errorf("%w: %w", ErrNoNamespace, err)
		}
	}
	return n, nil
}

// Plug pulls the cable at the other end, or puts it back: what is sent is lost, and nothing says so.
func (n *Namespace) Plug(in bool) error {
	state := map[bool]string{true: "up", false: "down"}[in]
	return ip("-n", n.name, "link", "set", n.cable+"b", state)
}

// Close removes the namespace.
func (n *Namespace) Close() error {
	ip("link", "del", n.cable) // goes with the namespace, if there is one
	return ip("netns", "del", n.name)
}

func ip(args ...string) error {
	out, err := exec.Command("ip", args...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("ip %v: %w: %s", args, err, out)
	}
	return nil
}
