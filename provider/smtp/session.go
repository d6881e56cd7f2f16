package smtp

import (
	"context"
	"crypto/tls"
	"encoding/base64"
	"io"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/emersion/go-sasl"

	"github.com/illumicode/illumicode/provider"
)

// A session is one connection, introduced, protected and authenticated. It is used by one Send
// at a time.
type session struct {
	*wire
	of       *Provider
	tcp      net.Conn          // below TLS
	offers   map[string]string // what EHLO offered: keywords in capitals, and their parameters
	usable   bool              // after the last letter, another can be sent
	stale    bool              // it had ended before the last letter
	lastUsed time.Time
	opened   time.Time
	letters  int // sent, or tried
}

// connect opens a session. Every step has a deadline, and the end of ctx ends them all. What is
// said is written to log, unless that is nil.
func (p *Provider) connect(ctx context.Context, log io.Writer) (*session, error) {
	dialer := net.Dialer{Timeout: p.cfg.Dial}
	conn, err := dialer.DialContext(ctx, "tcp", p.address())
	if err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	s := &session{of: p, tcp: conn, opened: time.Now(), wire: newWire(conn, p.cfg.Command, log)}
	s.until = s.opened.Add(p.cfg.Command)
	if err := s.introduce(ctx); err != nil {
		conn.Close()
		return nil, err
	}
	s.until = time.Time{}
	if p.cfg.User != "" {
		if err := s.authenticate(p.cfg.User, p.cfg.Password); err != nil {
			conn.Close()
			return nil, err
		}
	}
	return s, nil
}

// introduce takes the session through greeting, TLS and EHLO.
func (s *session) introduce(ctx context.Context) error {
	if s.of.cfg.TLS == Implicit {
		if err := s.protect(ctx); err != nil {
			return err
		}
	}
	greeting, err := s.reply(s.patience)
	if err != nil {
		return err
	}
	if greeting.code != 220 {
		return refusal{greeting}
	}
	if err := s.hello(); err != nil || s.of.cfg.TLS != StartTLS {
		return err
	}
	if !s.offered("STARTTLS") {
		return errNoStartTLS
	}
	r, err := s.ask("STARTTLS")
	switch {
	case err != nil:
		return err
	case r.code != 220:
		return refusal{r}
	case s.r.Buffered() > 0: // whoever is between could have said it, and it would count as said under TLS
		return errInsert
	}
	if err := s.protect(ctx); err != nil {
		return err
	}
	return s.hello() // what was offered in the clear does not count (RFC 3207 §4.2)
}

// protect goes on under TLS.
func (s *session) protect(ctx context.Context) error {
	secure := tls.Client(s.tcp, s.of.tls)
	if err := s.tcp.SetDeadline(s.until); err != nil {
		return err
	}
	if err := secure.HandshakeContext(ctx); err != nil {
		return err
	}
	s.over(secure)
	return nil
}

// hello says EHLO, or HELO to a server that knows only that, and learns what is offered.
func (s *session) hello() error {
	s.offers = map[string]string{}
	r, err := s.ask("EHLO " + s.of.cfg.Hello)
	if err == nil && r.code >= 500 {
		r, err = s.ask("HELO " + s.of.cfg.Hello)
	}
	if err != nil {
		return err
	}
	if r.code != 250 {
		return refusal{r}
	}
	for i, line := range r.lines {
		if keyword, parameters, _ := strings.Cut(line, " "); i > 0 { // the first is the server's name
			s.offers[strings.ToUpper(keyword)] = parameters
		}
	}
	return nil
}

// offered reports whether EHLO offered an extension, and the server has not shown since that it lacks it.
func (s *session) offered(extension string) bool {
	_, ok := s.offers[extension]
	return ok && !s.of.distrusted(extension)
}

// distrust stops using what the server offers, and reports whether that makes a difference.
func (s *session) distrust(extensions ...string) (news bool) {
	for _, extension := range extensions {
		if s.offered(extension) {
			s.of.distrust(extension)
			news = true
		}
	}
	return news
}

// authenticate gives user and password (RFC 4954). The error of a refusal is an [authError].
func (s *session) authenticate(user string, password provider.Secret) error {
	mechanism := s.mechanism(user, password.Reveal())
	name, first, err := mechanism.Start()
	if err != nil {
		return authError{err}
	}
	command := "AUTH " + name
	if first != nil {
		command += " " + base64.StdEncoding.EncodeToString(first)
	}
	for {
		r, err := s.ask(command)
		switch {
		case err != nil:
			return err
		case r.code == 235:
			return nil
		case r.code != 334:
			return authError{refusal{r}}
		}
		challenge, err := base64.StdEncoding.DecodeString(strings.Join(r.lines, ""))
		if err != nil {
			challenge = nil // LOGIN asks twice, whatever the words
		}
		answer, err := mechanism.Next(challenge)
		if err != nil {
			s.ask("*") // the connection ends either way (RFC 4954 §4)
			return authError{err}
		}
		command = base64.StdEncoding.EncodeToString(answer)
	}
}

// mechanism chooses PLAIN (RFC 4616) where it is offered, else the older LOGIN.
func (s *session) mechanism(user, password string) sasl.Client {
	offered := strings.Fields(strings.ToUpper(s.offers["AUTH"]))
	if !slices.Contains(offered, sasl.Plain) && slices.Contains(offered, sasl.Login) {
		return sasl.NewLoginClient(user, password)
	}
	return sasl.NewPlainClient("", user, password)
}

// ready reports whether nothing waits to be read: no reply that was not asked for, and no end of the connection.
// certain says whether the system can tell.
func (s *session) ready() (ready, certain bool) {
	if s.r.Buffered() > 0 {
		return false, true
	}
	waits, known := unread(s.tcp)
	return !waits, known
}

// reset makes the server forget what was begun, and reports whether the session goes on.
func (s *session) reset() bool {
	r, err := s.ask("RSET")
	return err == nil && r.agrees()
}

// close says goodbye, briefly.
func (s *session) close() {
	s.patience = 2 * time.Second
	if s.usable {
		s.ask("QUIT") // the server may have gone: nothing depends on its answer
	}
	s.tcp.Close() // under TLS too: a peer that does not read must not keep us
}
