package smtp

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"time"

	"github.com/emersion/go-sasl"
	smtpclient "github.com/emersion/go-smtp"

	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// A session is one connection, introduced, protected and authenticated. It is used by one Send
// at a time.
type session struct {
	conn     net.Conn
	client   *smtpclient.Client
	usable   bool // after the last letter, another can be sent
	lastUsed time.Time
	opened   time.Time
	letters  int // sent, or tried
}

// connect opens a session. Every step has a deadline, and the end of ctx ends them all. What is
// said is written to log, unless that is nil.
func (p *Provider) connect(ctx context.Context, log io.Writer) (*session, error) {
	dialer := net.Dialer{Timeout: p.cfg.Dial}
	raw, err := dialer.DialContext(ctx, "tcp", p.address())
	if err != nil {
		return nil, err
	}
	conn := &patientConn{Conn: raw, write: p.cfg.Command}
	stop := context.AfterFunc(ctx, func() { raw.Close() })
	defer stop()

	s := &session{conn: raw, opened: time.Now()}
	switch p.cfg.TLS {
	case Implicit:
		tlsConn := tls.Client(conn, p.tls)
		raw.SetDeadline(time.Now().Add(p.cfg.Command))
		if err := tlsConn.HandshakeContext(ctx); err != nil {
			raw.Close()
			return nil, err
		}
		s.client = smtpclient.NewClient(tlsConn)
	case StartTLS:
		// The library's constructor gives its own five minutes to the greeting and the
		// STARTTLS command; this deadline is shorter, and covers the handshake too.
		conn.log = log // until the library can write down what is said under TLS
		conn.until = time.Now().Add(p.cfg.Command)
		s.client, err = smtpclient.NewClientStartTLS(conn, p.tls)
		if err != nil {
			raw.Close()
			if conn.greeted() { // the library missed STARTTLS in the answer, and has no type for that
				return nil, errNoStartTLS
			}
			return nil, err
		}
	default:
		s.client = smtpclient.NewClient(conn)
	}
	s.client.DebugWriter = log
	s.client.CommandTimeout, s.client.SubmissionTimeout = p.cfg.Command, p.cfg.Final
	if err := s.client.Hello(p.cfg.Hello); err != nil {
		s.close()
		return nil, err
	}
	conn.until, conn.said, conn.heard = time.Time{}, nil, nil
	if p.cfg.User != "" {
		if err := s.client.Auth(p.mechanism(s.client)); err != nil {
			s.close()
			return nil, authError{err}
		}
	}
	return s, nil
}

// mechanism chooses PLAIN (RFC 4616) where it is offered, else the older LOGIN.
func (p *Provider) mechanism(c *smtpclient.Client) sasl.Client {
	if !c.SupportsAuth(sasl.Plain) && c.SupportsAuth(sasl.Login) {
		return sasl.NewLoginClient(p.cfg.User, p.cfg.Password.Reveal())
	}
	return sasl.NewPlainClient("", p.cfg.User, p.cfg.Password.Reveal())
}

// send takes one letter through MAIL, RCPT and DATA, and returns at which step it ended.
func (s *session) send(ctx context.Context, h provider.Handover) (provider.Result, step) {
	stop := context.AfterFunc(ctx, func() { s.conn.Close() })
	defer stop()
	s.usable = false
	fail := func(at step, err error) (provider.Result, step) {
		// After a reply to a single command the connection goes on with RSET; after anything
		// else its state is unknown.
		reply, ok := errors.AsType[*smtpclient.SMTPError](err)
		s.usable = ok && reply.Code != 421 && at != stepConnect && s.client.Reset() == nil
		return classify(at, err), at
	}
	if h.Envelope.UTF8 {
		if ok, _ := s.client.Extension("SMTPUTF8"); !ok {
			s.usable = true
			return provider.Result{Class: retry.MessageRefused,
				Reply: "the address has letters before the @ that this server cannot carry: it does not offer " +
					"SMTPUTF8 (RFC 6531)"}, stepMail
		}
	}
	if err := s.client.Mail(h.Envelope.From,
		&smtpclient.MailOptions{Size: h.Message.Size(), UTF8: h.Envelope.UTF8}); err != nil {
		return fail(stepMail, err)
	}
	if err := s.client.Rcpt(h.Envelope.To, nil); err != nil {
		return fail(stepRcpt, err)
	}
	if err := h.Begin(ctx); err != nil {
		s.usable = s.client.Reset() == nil
		return provider.NotSent(err), stepData
	}
	w, err := s.client.Data()
	if err != nil {
		return fail(stepData, err)
	}
	if _, err := h.Message.WriteTo(w); err != nil {
		return fail(stepBody, err) // no dot has been sent: the server cannot have the letter
	}
	if err := h.Final(ctx); err != nil {
		return provider.NotSent(err), stepBody
	}
	reply, err := w.CloseWithResponse()
	if err != nil {
		return fail(stepFinal, err)
	}
	s.usable = true
	return provider.Result{Class: retry.Accepted, Code: 250, Enhanced: enhancedIn(reply.StatusText),
		Reply: "250 " + reply.StatusText}, stepFinal
}

// close says goodbye, briefly.
func (s *session) close() {
	s.client.CommandTimeout = 2 * time.Second
	if s.usable {
		s.client.Quit() // the server may have gone: nothing depends on its answer
	}
	s.client.Close()
}

// A patientConn bounds each write, which the SMTP library leaves unbounded while the body of a
// letter goes out, and, until the given instant, everything.
type patientConn struct {
	net.Conn
	write time.Duration
	until time.Time
	log   io.Writer // what is said before TLS; may be nil

	said, heard []byte // until then: what was written last, and what was read since
}

// greeted reports whether the last that happened is that the server took EHLO or HELO.
func (c *patientConn) greeted() bool {
	lines := bytes.Split(bytes.TrimRight(c.heard, "\r\n"), []byte("\n"))
	return (bytes.HasPrefix(c.said, []byte("EHLO ")) || bytes.HasPrefix(c.said, []byte("HELO "))) &&
		bytes.HasPrefix(lines[len(lines)-1], []byte("250 "))
}

func (c *patientConn) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	if !c.until.IsZero() {
		c.heard = append(c.heard, b[:n]...)
	}
	c.note(b[:n])
	return n, err
}

// note writes down what is said, up to the first TLS record: the first byte of one is below 32 (RFC
// 8446 §5.1), which no line of SMTP begins with.
func (c *patientConn) note(b []byte) {
	if c.log == nil || len(b) == 0 {
		return
	}
	if b[0] < ' ' {
		c.log = nil
		return
	}
	c.log.Write(b) // a transcript in memory
}

func (c *patientConn) SetDeadline(t time.Time) error {
	if !c.until.IsZero() && (t.IsZero() || t.After(c.until)) {
		t = c.until
	}
	return c.Conn.SetDeadline(t)
}

func (c *patientConn) Write(b []byte) (int, error) {
	deadline := time.Now().Add(c.write)
	if !c.until.IsZero() && deadline.After(c.until) {
		deadline = c.until
	}
	c.Conn.SetWriteDeadline(deadline)
	c.note(b)
	if !c.until.IsZero() {
		c.said, c.heard = append(c.said[:0], b...), c.heard[:0]
	}
	return c.Conn.Write(b)
}
