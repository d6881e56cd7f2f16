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
	"errors"
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
	"github.com/illumicode/illumicode/provider/providertest"
	"github.com/illumicode/illumicode/retry"
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

func TestSendOutcomes(t *testing.T) {
	quick := func(c *Config) { c.Command, c.Final = 2*time.Second, 2*time.Second }
	account := func(c *Config) { c.User, c.Password = "crew", "sea gull" }
	noTLS := "250-pier.example\r\n250 8BITMIME"
	for _, tt := range []struct {
		name   string
		mode   TLS
		host   string // in the certificate
		rules  map[string]string
		change func(*Config)
		class  retry.Class
		code   int
		reply  string
		began  int
		chunk  retry.Class // with CHUNKING, where that differs: the whole letter was on its way
	}{
		{"accepted, STARTTLS", StartTLS, "localhost", nil, nil, retry.Accepted, 250, "250 2.0.0 taken as 8215", 1, ""},
		{"accepted, implicit TLS", Implicit, "localhost", nil, nil, retry.Accepted, 250, "taken as 8215", 1, ""},
		{"accepted, no TLS", NoTLS, "localhost", nil, nil, retry.Accepted, 250, "taken as 8215", 1, ""},
		{"accepted, with a password", StartTLS, "localhost", nil, account, retry.Accepted, 250, "taken as 8215", 1, ""},
		{"accepted, LOGIN alone", StartTLS, "localhost",
			map[string]string{"EHLO": "250-pier.example\r\n250-AUTH LOGIN\r\n250 STARTTLS",
				"AUTH LOGIN Y3Jldw==": "334 UGFzc3dvcmQ6", "c2VhIGd1bGw=": "235 ok"}, account, retry.Accepted, 250,
			"taken", 1, ""},

		{"no STARTTLS offered", StartTLS, "localhost", map[string]string{"EHLO": noTLS}, account, retry.Misconfigured,
			0, "offers no STARTTLS", 0, ""},
		{"an answer to EHLO that is none", StartTLS, "localhost", map[string]string{"EHLO": "what?"}, account,
			retry.Transient, 0, "what?", 0, ""},
		{"wrong name in the certificate", StartTLS, "pier.example", nil, account, retry.Misconfigured,
			0, "pier.example", 0, ""},
		{"unknown authority", StartTLS, "localhost", nil, func(c *Config) { c.CAFile = "" }, retry.Misconfigured, 0,
			"ca_file", 0, ""},
		{"expired certificate", StartTLS, "expired", nil, account, retry.Misconfigured, 0, "expired", 0, ""},
		{"TLS spoken to a plain port", Implicit, "plain", nil, nil, retry.Misconfigured, 0, "starttls", 0, ""},
		{"wrong password", StartTLS, "localhost", map[string]string{"AUTH": "535 5.7.8 bad credentials"}, account,
			retry.Misconfigured, 535, "535 5.7.8 bad credentials", 0, ""},
		{"authentication not now", StartTLS, "localhost", map[string]string{"AUTH": "454 4.7.0 later"}, account,
			retry.Transient, 454, "later", 0, ""},
		{"sender not verified", StartTLS, "localhost", map[string]string{"MAIL": "550 5.7.1 sender not verified"}, nil,
			retry.Misconfigured, 550, "sender not verified", 0, ""},
		{"sender refused at RCPT", StartTLS, "localhost", map[string]string{"RCPT": "553 5.1.8 no such sender"}, nil,
			retry.Misconfigured, 553, "5.1.8 no such sender", 0, ""},
		{"signature refused", StartTLS, "localhost", map[string]string{".": "550 5.7.20 no passing DKIM signature\r\n"},
			nil, retry.Misconfigured, 550, "5.7.20", 1, ""},
		{"no such mailbox", StartTLS, "localhost", map[string]string{"RCPT": "550 5.1.1 nobody here"}, nil,
			retry.RecipientRefused, 550, "5.1.1 nobody", 0, ""},
		{"mailbox full", StartTLS, "localhost", map[string]string{"RCPT": "452 4.2.2 full"}, nil, retry.Transient, 452,
			"4.2.2 full", 0, ""},
		{"authentication wanted", StartTLS, "localhost", map[string]string{"RCPT": "530 5.7.0 who are you"}, nil,
			retry.Misconfigured, 530, "5.7.0", 0, ""},
		{"letter refused", StartTLS, "localhost", map[string]string{".": "554 5.6.0 not this\r\n"}, nil,
			retry.MessageRefused, 554, "not this", 1, ""},
		{"letter put off", StartTLS, "localhost", map[string]string{".": "451 4.7.1 come again"}, nil, retry.Transient,
			451, "451 4.7.1 come again", 1, ""},
		{"closing down", StartTLS, "localhost", map[string]string{"MAIL": "421 4.3.2 closing"}, nil, retry.Throttled,
			421, "4.3.2 closing", 0, ""},
		{"too many connections", StartTLS, "localhost", map[string]string{"open": "421 too many connections"}, nil,
			retry.Throttled, 421, "too many", 0, ""},
		{"system full, for now", StartTLS, "localhost", map[string]string{"MAIL": "452 4.3.1 come later"}, nil,
			retry.Throttled, 452, "4.3.1", 0, ""},
		{"a rate, in words", StartTLS, "localhost", map[string]string{"MAIL": "450 4.7.1 sending rate exceeded"}, nil,
			retry.Throttled, 450, "rate", 0, ""},
		{"a greylist", StartTLS, "localhost", map[string]string{"MAIL": "450 4.7.1 come again"}, nil, retry.Transient,
			450, "come again", 0, ""},
		{"a domain's rate", StartTLS, "localhost", map[string]string{"RCPT": "450 4.7.28 rate limited"}, nil,
			retry.Throttled, 450, "rate", 0, ""},
		{"a letter that is too large", StartTLS, "localhost", map[string]string{"MAIL": "552 5.3.4 too large"}, nil,
			retry.MessageRefused, 552, "too large", 0, ""},
		{"no text behind the code", StartTLS, "localhost", map[string]string{"MAIL": "250", "RCPT": "250", ".": "250"},
			nil, retry.Accepted, 250, "250", 1, ""},

		{"hangs at the greeting", StartTLS, "localhost", map[string]string{"open": "hang"}, quick, retry.Transient, 0,
			"did not answer in time", 0, ""},
		{"hangs at MAIL", StartTLS, "localhost", map[string]string{"MAIL": "hang"}, quick, retry.Transient,
			0, "MAIL FROM: the server did not answer in time", 0, retry.Ambiguous},
		{"closes at RCPT", StartTLS, "localhost", map[string]string{"RCPT": "close"}, nil, retry.Transient,
			0, "RCPT TO: the server closed the connection", 0, retry.Ambiguous},
		{"closes at DATA", StartTLS, "localhost", map[string]string{"DATA": "close"}, nil, retry.Transient,
			0, "DATA: the server closed", 1, ""},
		{"closes after the dot", StartTLS, "localhost", map[string]string{".": "close"}, nil, retry.Ambiguous, 0,
			"final reply: the server closed", 1, ""},
		{"hangs after the dot", StartTLS, "localhost", map[string]string{".": "hang"}, quick, retry.Ambiguous, 0,
			"did not answer in time", 1, ""},
	} {
		for _, extensions := range [][]string{nil, {"PIPELINING"}, {"PIPELINING", "CHUNKING"}} {
			name := strings.Join(append([]string{tt.name}, extensions...), ", ")
			if len(extensions) == 2 && tt.rules["DATA"] != "" {
				continue // there is no DATA
			}
			if len(extensions) > 0 && tt.rules["EHLO"] != "" {
				continue // they say what is offered themselves
			}
			t.Run(name, func(t *testing.T) {
				t.Parallel()
				mode := tt.mode
				if tt.host == "plain" {
					mode = NoTLS
				}
				s := newServer(t, mode, tt.host, offering(tt.rules, extensions...))
				p := s.provider(func(c *Config) {
					c.TLS = tt.mode
					if tt.change != nil {
						tt.change(c)
					}
				})
				h, began := handover()
				r := p.Send(t.Context(), h)
				class, begins, words := tt.class, tt.began, tt.reply
				said := s.heard()
				if len(extensions) > 0 && strings.Contains(said, "MAIL") {
					begins = 1 // before the first command, as the letter follows without a pause
				}
				if len(extensions) == 2 && tt.chunk != "" {
					class, words = tt.chunk, string(stepFinal)
				}
				if r.Class != class || r.Code != tt.code || !strings.Contains(r.Reply, words) || *began != begins {
					t.Errorf("Send = %+v, began %d times; want %s, code %d, %q, began %d times", r, *began, class,
						tt.code, words, begins)
				}
				if strings.Contains(r.Reply, "sea gull") {
					t.Error("the reply shows the password")
				}
				if tt.class == retry.Misconfigured && tt.change != nil && tt.code == 0 &&
					strings.Contains(said, "AUTH ") {
					t.Error("the password was sent over a connection that is not what was asked for")
				}
			})
		}
	}
}

func TestContract(t *testing.T) {
	for _, extensions := range [][]string{nil, {"PIPELINING"}, {"PIPELINING", "CHUNKING"}} {
		t.Run(strings.Join(extensions, ", "), func(t *testing.T) {
			providertest.Run(t, func(t *testing.T) providertest.Subject {
				s := newServer(t, StartTLS, "localhost", offering(nil, extensions...))
				return providertest.Subject{Provider: s.provider(nil), Received: func() int {
					s.mu.Lock()
					defer s.mu.Unlock()
					return s.letters
				}}
			})
		})
	}
}

// A letter of 4 MB is cut off in the middle of its body: the loss is certain.
func TestClosedInTheBody(t *testing.T) {
	s := newServer(t, NoTLS, "localhost", map[string]string{"body": "close"})
	h, _ := handover()
	h.Message = compose.Bytes("Subject: x\r\n\r\n" + strings.Repeat("x\r\n", 4<<20/3))
	if r := s.provider(nil).Send(t.Context(), h); r.Class != retry.Transient ||
		!strings.Contains(r.Reply, "sending the letter") {
		t.Errorf("Send = %+v, want a certain loss while sending the letter", r)
	}
}

// If the attempt cannot be recorded, not a byte of the letter leaves.
func TestNothingLeavesUnrecorded(t *testing.T) {
	s := newServer(t, StartTLS, "localhost", nil)
	h, _ := handover()
	h.Begin = func(context.Context) error { return errors.New("the disk is full") }
	if r := s.provider(nil).Send(t.Context(), h); r.Class != retry.Transient ||
		!strings.Contains(r.Reply, "disk is full") {
		t.Errorf("Send = %+v", r)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.letters != 0 || strings.Contains(strings.Join(s.said, "\n"), "DATA") {
		t.Errorf("the letter left: %v", s.said)
	}
}

func TestContextEndsASend(t *testing.T) {
	s := newServer(t, StartTLS, "localhost", map[string]string{".": "hang"})
	ctx, cancel := context.WithCancel(t.Context())
	h, _ := handover()
	h.Begin = func(context.Context) error { time.AfterFunc(50*time.Millisecond, cancel); return nil }
	if r := s.provider(func(c *Config) { c.Final = time.Hour }).Send(ctx, h); r.Class != retry.Ambiguous {
		t.Errorf("cancelled after the dot: %+v, want ambiguous", r)
	}
}

func TestSMTPUTF8(t *testing.T) {
	h, began := handover()
	h.Envelope.To, h.Envelope.UTF8 = "jörg@ternisle.example", true
	s := newServer(t, StartTLS, "localhost", nil)
	if r := s.provider(nil).Send(t.Context(), h); r.Class != retry.MessageRefused ||
		!strings.Contains(r.Reply, "SMTPUTF8") || *began != 0 {
		t.Errorf("without the extension: %+v", r)
	}
	s = newServer(t, StartTLS, "localhost",
		map[string]string{"EHLO": "250-pier.example\r\n250-STARTTLS\r\n250 SMTPUTF8"})
	if r := s.provider(nil).Send(t.Context(), h); r.Class != retry.Accepted {
		t.Errorf("with the extension: %+v", r)
	}
}

func TestNewRefuses(t *testing.T) {
	for want, c := range map[string]Config{
		"host is missing":   {TLS: StartTLS},
		"tls is":            {Host: "x.example"},
		`tls is "ssl"`:      {Host: "x.example", TLS: "ssl"},
		"go together":       {Host: "x.example", TLS: StartTLS, User: "crew"},
		"in the clear":      {Host: "x.example", TLS: NoTLS},
		"a password would":  {Host: "x.example", Clear: true, TLS: NoTLS, User: "crew", Password: "sea gull"},
		"no PEM":            {Host: "x.example", TLS: StartTLS, CAFile: "smtp_test.go"},
		"no such file":      {Host: "x.example", TLS: StartTLS, CAFile: "nowhere.pem"},
		`provider "harbour`: {},
	} {
		if _, err := New("harbour", c); err == nil || !strings.Contains(err.Error(), want) ||
			strings.Contains(err.Error(), "sea gull") {
			t.Errorf("New(%+v) = %v, want an error with %q", c, err, want)
		}
	}
}

// A letter whose attachment cannot be read any more breaks off before its dot.
func TestUnreadableAttachment(t *testing.T) {
	s := newServer(t, StartTLS, "localhost", nil)
	h, _ := handover()
	h.Message = broken{}
	r := s.provider(nil).Send(t.Context(), h)
	s.mu.Lock()
	defer s.mu.Unlock()
	if r.Class != retry.Transient || !strings.Contains(r.Reply, "the file is gone") || s.letters != 0 {
		t.Errorf("Send = %+v, and %d letters were complete", r, s.letters)
	}
}

type broken struct{}

func (broken) Size() int64 { return 100 }
func (broken) WriteTo(w io.Writer) (int64, error) {
	n, _ := io.WriteString(w, "Subject: x\r\n\r\nhalf a let")
	return int64(n), errors.New("the file is gone")
}
