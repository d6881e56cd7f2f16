package smtp

import (
	"bufio"
	"cmp"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"io"
	"maps"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/illumicode/illumicode/inbox"
	"github.com/illumicode/illumicode/internal/core/compose"
	"github.com/illumicode/illumicode/provider"
)

// A server plays one side of SMTP by rules: for each command it looks up what to answer.
type server struct {
	tb     testing.TB
	listen net.Listener
	cert   *inbox.Certificate
	tls    TLS // Implicit speaks TLS from the first byte

	// rules maps the beginning of a command line to its answer; the longest match wins. Beside
	// replies there are "hang" and "close". "." is the end of a letter.
	rules map[string]string

	mu       sync.Mutex // guards the following
	sessions int
	said     []string // every command line, in order
	letters  int
}

// polite are the answers of a server that accepts everything.
var polite = map[string]string{
	"":         "502 5.5.2 what?",
	"open":     "220 pier.example ready",
	"EHLO":     "250-pier.example\r\n250-8BITMIME\r\n250-SIZE 1000000\r\n250-AUTH PLAIN LOGIN\r\n250 STARTTLS",
	"STARTTLS": "220 go on", "AUTH": "235 2.7.0 welcome", "MAIL": "250 2.1.0 ok", "RCPT": "250 2.1.5 ok",
	"RSET": "250 ok", "QUIT": "221 bye",
	"DATA": "354 go on", ".": "250 2.0.0 taken as 8215",
}

// offering returns rules with extensions added to what EHLO offers.
func offering(rules map[string]string, extensions ...string) map[string]string {
	all := maps.Clone(rules)
	if all == nil {
		all = make(map[string]string)
	}
	for _, e := range extensions {
		all["EHLO"] = "250-pier.example\r\n250-" + e + strings.TrimPrefix(cmp.Or(all["EHLO"], polite["EHLO"]),
			"250-pier.example")
	}
	return all
}

func newServer(tb testing.TB, mode TLS, name string, rules map[string]string) *server {
	tb.Helper()
	cert, err := inbox.NewCertificate(name)
	if name == "expired" {
		cert, err = expired()
	}
	if err != nil {
		tb.Fatal(err)
	}
	s := &server{tb: tb, cert: cert, tls: mode, rules: make(map[string]string)}
	for k, v := range polite {
		s.rules[k] = v
	}
	for k, v := range rules {
		s.rules[k] = v
	}
	if s.listen, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		tb.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	var all sync.WaitGroup
	all.Go(func() {
		for {
			conn, err := s.listen.Accept()
			if err != nil {
				return
			}
			all.Go(func() {
				defer context.AfterFunc(ctx, func() { conn.Close() })()
				s.session(conn)
				conn.Close()
			})
		}
	})
	tb.Cleanup(func() { s.listen.Close(); stop(); all.Wait() })
	return s
}

// expired returns a certificate for localhost that ended yesterday.
func expired() (*inbox.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), DNSNames: []string{"localhost"}, IsCA: true,
		BasicConstraintsValid: true,
		NotBefore:             time.Now().AddDate(0, 0, -9), NotAfter: time.Now().AddDate(0, 0, -1)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	return &inbox.Certificate{TLS: tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key},
		PEM: pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})}, err
}

func (s *server) answer(command string) string {
	best := ""
	for k := range s.rules {
		if strings.HasPrefix(command, k) && len(k) > len(best) {
			best = k
		}
	}
	return s.rules[best]
}

func (s *server) session(conn net.Conn) {
	s.mu.Lock()
	s.sessions++
	s.mu.Unlock()
	config := &tls.Config{Certificates: []tls.Certificate{s.cert.TLS}}
	if s.tls == Implicit {
		conn = tls.Server(conn, config)
	}
	r := bufio.NewReader(conn)
	reply := func(command string) bool {
		s.mu.Lock()
		s.said = append(s.said, command)
		s.mu.Unlock()
		switch a := s.answer(command); a {
		case "hang":
			io.Copy(io.Discard, conn) // until the other side or the test gives up
			return false
		case "close":
			return false
		case "break TLS":
			if c, ok := conn.(*tls.Conn); ok {
				io.WriteString(c.NetConn(), "\x15\x03\x03\x00\x02\x02\x50") // an alert in the clear
			}
			return false
		default:
			_, err := io.WriteString(conn, a+"\r\n")
			return err == nil && !strings.HasPrefix(a, "221") && !strings.HasPrefix(a, "421")
		}
	}
	chunk := func(command string) bool {
		s.mu.Lock()
		s.said = append(s.said, command)
		s.mu.Unlock()
		n, err := strconv.Atoi(strings.Fields(command)[1])
		if err != nil {
			return false
		}
		if _, err := io.CopyN(io.Discard, r, int64(n)); err != nil {
			return false
		}
		if s.answer("BDAT") != polite[""] {
			return reply("BDAT")
		}
		if refused := s.answer(s.lastRcpt()); !strings.HasPrefix(refused, "250") {
			return reply("BDAT without a recipient")
		}
		s.mu.Lock()
		s.letters++
		s.mu.Unlock()
		return reply(".")
	}
	for command := "open"; strings.HasPrefix(command, "BDAT") && chunk(command) ||
		!strings.HasPrefix(command, "BDAT") && reply(command); {
		if command == "DATA" && strings.HasPrefix(s.answer(command), "354") {
			for {
				line, err := r.ReadString('\n')
				if err != nil {
					return
				}
				if s.rules["body"] == "close" {
					return
				}
				if line == ".\r\n" {
					break
				}
			}
			s.mu.Lock()
			s.letters++
			s.mu.Unlock()
			if !reply(".") {
				return
			}
		}
		if command == "STARTTLS" {
			conn = tls.Server(conn, config)
			r = bufio.NewReader(conn)
		}
		line, err := r.ReadString('\n')
		if err != nil {
			return
		}
		command = strings.TrimRight(line, "\r\n")
	}
}

// lastRcpt returns the last RCPT command.
func (s *server) lastRcpt() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, line := range slices.Backward(s.said) {
		if strings.HasPrefix(line, "RCPT") {
			return line
		}
	}
	return ""
}

// heard returns all command lines so far.
func (s *server) heard() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return strings.Join(s.said, "\n")
}

// provider returns a provider for s that trusts its certificate.
func (s *server) provider(change func(*Config)) *Provider {
	s.tb.Helper()
	ca := filepath.Join(s.tb.TempDir(), "ca.pem")
	if err := os.WriteFile(ca, s.cert.PEM, 0o600); err != nil {
		s.tb.Fatal(err)
	}
	c := Config{Host: "localhost", Port: s.listen.Addr().(*net.TCPAddr).Port, TLS: s.tls, CAFile: ca,
		Hello: "ferry.example",
		Dial:  5 * time.Second, Command: 5 * time.Second, Final: 5 * time.Second}
	if change != nil {
		change(&c)
	}
	p, err := New("harbour", c)
	if err != nil {
		s.tb.Fatal(err)
	}
	s.tb.Cleanup(func() { p.Close() })
	return p
}

// handover returns a letter and a count of how often its attempt has begun.
func handover() (provider.Handover, *int) {
	began := new(int)
	return provider.Handover{
		ID: "d-1", Envelope: provider.Envelope{From: "crew@ternisle.example", To: "mara@ternisle.example"},
		Message: compose.Bytes("Subject: x\r\n\r\n.hello\r\n"),
		Begin:   func(context.Context) error { *began++; return nil },
		Final:   func(context.Context) error { return nil },
	}, began
}
