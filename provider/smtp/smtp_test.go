package smtp

import (
	"context"
	"errors"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode/internal/core/compose"
	"github.com/illumicode/illumicode/provider/providertest"
	"github.com/illumicode/illumicode/retry"
)

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
