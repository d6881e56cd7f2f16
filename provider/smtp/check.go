package smtp

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"strings"
	"time"

	"github.com/illumicode/illumicode/internal/text"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

var _ provider.Checker = (*Provider)(nil)

// soonExpires is when a certificate's end is worth a warning.
const soonExpires = 21 * 24 * time.Hour

// Check implements [provider.Checker]: name, connection, TLS, authentication, sender, recipient,
// and then RSET: nothing is sent.
func (p *Provider) Check(ctx context.Context, from, to string) (report provider.Report) {
	log := new(transcript)
	defer func() { report.Raw = log.lines() }()
	var last time.Time
	note := func(what string, v provider.Verdict, saw, next string) bool {
		report.Steps = append(report.Steps, provider.Step{What: what, Verdict: v, Saw: saw, Next: next,
			Took: time.Since(last)})
		last = time.Now()
		return v != provider.Failed
	}
	fail := func(what string, at step, err error) {
		r := p.lost(at, err)
		note(what, provider.Failed, r.Reply, remedy(r, at))
	}
	last = time.Now()
	if !p.checkReach(ctx, note) {
		return report
	}
	s, err := p.withoutUser().connect(ctx, log)
	if err != nil {
		fail("greeting and TLS", stepConnect, err)
		return report
	}
	defer s.close()
	if !p.checkTLS(s, note) {
		return report
	}
	if p.cfg.User == "" {
		note("authentication", provider.OK, "none is configured", "")
	} else if err := s.authenticate(p.cfg.User, p.cfg.Password); err != nil {
		fail("authentication", stepConnect, err)
		return report
	} else {
		note("authentication", provider.OK, "accepted for user "+p.cfg.User, "")
	}
	for _, one := range []struct {
		what, command string
		at            step
	}{{"sender " + from, "MAIL FROM:<" + from + ">", stepMail}, {"recipient " + to, "RCPT TO:<" + to + ">", stepRcpt}} {
		r, err := s.ask(one.command)
		if err == nil && !r.agrees() {
			err = refusal{r}
		}
		if err != nil {
			fail(one.what, one.at, err)
			return report
		}
		note(one.what, provider.OK, "accepted", "")
	}
	s.usable = s.reset()
	note("reset", provider.OK, "nothing was sent", "")
	return report
}

// checkReach adds the steps to a connection.
func (p *Provider) checkReach(ctx context.Context, note func(string, provider.Verdict, string, string) bool) bool {
	addresses, err := net.DefaultResolver.LookupHost(ctx, p.cfg.Host)
	if err != nil {
		return note("resolve", provider.Failed, err.Error(),
			"check host for a typing mistake, and that this machine can resolve names")
	}
	note("resolve", provider.OK, strings.Join(addresses, ", "), "")

	dialer := net.Dialer{Timeout: p.cfg.Dial}
	raw, err := dialer.DialContext(ctx, "tcp", p.address())
	if err != nil {
		return note("connect", provider.Failed, err.Error(),
			"check the port; many networks block 25, where 587 or 465 get through")
	}
	raw.Close()
	return note("connect", provider.OK, p.address(), "")
}

// checkTLS adds the step about the connection's protection.
func (p *Provider) checkTLS(s *session, note func(string, provider.Verdict, string, string) bool) bool {
	if p.cfg.TLS == NoTLS {
		if loopback(p.cfg.Host) {
			return note("TLS", provider.OK, "none, to this machine itself", "")
		}
		return note("TLS", provider.Warning, "none: letters cross the network in the clear",
			`use tls = "starttls" or "implicit"`)
	}
	secure, ok := s.conn.(*tls.Conn)
	if !ok {
		return note("TLS", provider.Failed, "the connection is not protected", "")
	}
	state := secure.ConnectionState()
	cert := state.PeerCertificates[0] // there is one after a handshake (RFC 8446 §4.4.2)
	left := time.Until(cert.NotAfter)
	saw := fmt.Sprintf("%s, certificate of %s by %s, %d days left", tls.VersionName(state.Version),
		strings.Join(names(cert.DNSNames, cert.Subject.CommonName), " "),
		cert.Issuer.CommonName, int(left/(24*time.Hour)))
	if left < soonExpires {
		return note("TLS", provider.Warning, saw, "the provider's certificate ends soon; after that nothing gets out")
	}
	return note("TLS", provider.OK, saw, "")
}

func names(dns []string, common string) []string {
	if len(dns) == 0 {
		return []string{common}
	}
	return dns
}

// remedy says what to do about a refusal.
func remedy(r provider.Result, at step) string {
	switch {
	case r.Code == 535 || r.Code == 534 || r.Code == 538:
		return "check user and password; many providers want an app password or API key, not the account's own"
	case r.Code == 530:
		return "the server wants authentication: configure user and password"
	case at == stepMail && r.Class == retry.Misconfigured:
		return "verify this sender or its domain with the provider, or send from one that is"
	case at == stepRcpt && r.Class == retry.RecipientRefused:
		return "try another recipient with --to; if all are refused, the account may be limited"
	case r.Class == retry.Transient:
		return "try again in a minute; if it stays, ask the provider what the words mean"
	}
	return ""
}

// withoutUser returns a provider for the same server that does not authenticate.
func (p *Provider) withoutUser() *Provider {
	c := p.cfg
	c.User, c.Password = "", ""
	return &Provider{name: p.name, cfg: c, tls: p.tls, secrets: p.secrets}
}

// A transcript is a conversation, to be shown with what follows AUTH masked.
type transcript struct{ text.Text }

// lines returns the conversation. A line after AUTH that is no reply of the server is a secret in
// base64, however many there are.
func (t *transcript) lines() []string {
	var out []string
	secret := false
	for line := range strings.Lines(t.String()) {
		line = strings.TrimRight(line, "\r\n")
		reply := len(line) >= 3 && strings.Trim(line[:3], "0123456789") == "" &&
			(len(line) == 3 || line[3] == ' ' || line[3] == '-')
		switch {
		case strings.HasPrefix(strings.ToUpper(line), "AUTH "):
			secret = true
			mechanism, _, _ := strings.Cut(line[5:], " ")
			line = "AUTH " + mechanism + " •••"
		case secret && reply && strings.HasPrefix(line, "334"):
			line = "334 •••"
		case secret && reply:
			secret = false
		case secret:
			line = "•••"
		}
		out = append(out, line)
	}
	return out
}
