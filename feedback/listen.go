package feedback

import (
	"context"
	"errors"
	"io"
	"log"
	"net"
	"time"

	"github.com/emersion/go-smtp"
	"golang.org/x/net/netutil"
)

// What a listener takes at most.
const (
	maxMessage     = 64 << 20 // bytes; little of it is ever held
	maxConnections = 50
	maxRecipients  = 10
	maxLine        = 8 << 10
)

// Serve takes messages on l until ctx ends, over SMTP (RFC 5321) or, with lmtp, LMTP (RFC 2033). It
// closes l. Recipients that are neither return paths nor addresses for complaints are refused at once,
// so that it is nobody's relay; the rest is answered when what it reports is on record, or with a 451
// where the database is away.
func (p *Post) Serve(ctx context.Context, l net.Listener, lmtp bool) error {
	s := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) {
		return &session{ctx: ctx, post: p},
			nil
	}))
	s.Domain, s.LMTP = "feedback", lmtp
	if name, _, err := net.SplitHostPort(l.Addr().String()); err == nil {
		s.Domain = name
	}
	s.MaxMessageBytes, s.MaxRecipients, s.MaxLineLength = maxMessage, maxRecipients, maxLine
	s.ReadTimeout, s.WriteTimeout = 5*time.Minute, time.Minute // RFC 5321 §4.5.3.2.7
	s.EnableSMTPUTF8 = true
	s.ErrorLog = log.New(io.Discard, "", 0) // a client that hangs up is no event here
	stop := context.AfterFunc(ctx, func() { s.Close() })
	defer stop()
	if err := s.Serve(netutil.LimitListener(l, maxConnections)); err != nil && ctx.Err() == nil {
		return err
	}
	return nil
}

// A session is one client's connection.
type session struct {
	ctx  context.Context // the listener's
	post *Post
	to   []string
}

func (s *session) Reset()                               { s.to = nil }
func (s *session) Logout() error                        { return nil }
func (s *session) Mail(string, *smtp.MailOptions) error { return nil }
func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	if !s.post.takes(to) {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1},
			Message: "no letter has this return path"}
	}
	s.to = append(s.to, to)
	return nil
}

func (s *session) Data(r io.Reader) error {
	rep, err := s.post.Take(s.ctx, s.to, r)
	switch {
	case err == nil:
		return nil
	case errors.Is(err, ErrUnread), errors.Is(err, ErrForeignPath): // to refuse it would send a bounce about a bounce
		s.post.log.Info("a message that is no feedback", "why", err, "kind", rep.Kind)
		return nil
	}
	if reply, ok := errors.AsType[*smtp.SMTPError](err); ok { // the connection's own, such as too large
		return reply
	}
	s.post.log.Error("feedback cannot be kept; its sender keeps it and comes again", "error", err)
	return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 0}, Message: "not now"}
}
