package inbox

import (
	"crypto/tls"
	"io"
	"log"
	"time"

	"github.com/emersion/go-sasl"
	smtpserver "github.com/emersion/go-smtp"
)

// smtpServer returns the server side. Nothing it is sent leaves this process.
func (in *Inbox) smtpServer() *smtpserver.Server {
	s := smtpserver.NewServer(smtpserver.BackendFunc(func(*smtpserver.Conn) (smtpserver.Session, error) {
		return &session{in: in}, nil
	}))
	s.Domain = "inbox.localhost"
	s.TLSConfig = &tls.Config{Certificates: []tls.Certificate{in.cert.TLS}, MinVersion: tls.VersionTLS12}
	s.MaxMessageBytes = 32 << 20
	s.MaxRecipients = 100
	s.ReadTimeout, s.WriteTimeout = 5*time.Minute, time.Minute
	s.EnableSMTPUTF8 = true
	s.ErrorLog = log.New(io.Discard, "", 0) // a client that hangs up is no event here
	return s
}

// A session is one client's connection.
type session struct {
	in   *Inbox
	from string
	to   []string
}

var _ smtpserver.AuthSession = (*session)(nil)

func (s *session) AuthMechanisms() []string { return []string{sasl.Plain} }

// Auth takes any user and password: the configuration of production works here unchanged.
func (s *session) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, _, _ string) error { return nil }), nil
}

func (s *session) Reset()        { s.from, s.to = "", nil }
func (s *session) Logout() error { return nil }

func (s *session) Mail(from string, _ *smtpserver.MailOptions) error {
	s.from = from
	return nil
}

func (s *session) Rcpt(to string, _ *smtpserver.RcptOptions) error {
	s.to = append(s.to, to)
	return nil
}

func (s *session) Data(r io.Reader) error {
	in := &spool{dir: s.in.cfg.Dir}
	defer in.close()
	if _, err := io.Copy(in, r); err != nil {
		return err
	}
	for _, to := range s.to {
		if r := s.in.offer(s.from, to, in); r != nil {
			return &smtpserver.SMTPError{Code: r.Code, EnhancedCode: r.Enhanced, Message: r.Text}
		}
	}
	return nil
}
