package httpapi

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"net/url"
	"time"

	"github.com/illumicode/illumicode/provider"
)

var _ provider.Checker = (*Provider)(nil)

// Check implements [provider.Checker]: name, connection and TLS. An interface that sends at the
// first request cannot be asked more without sending.
func (p *Provider) Check(ctx context.Context, _, _ string) (report provider.Report) {
	start := time.Now()
	note := func(what string, v provider.Verdict, saw, next string) {
		report.Steps = append(report.Steps, provider.Step{What: what, Verdict: v, Saw: saw, Next: next, Took: time.Since(start)})
		start = time.Now()
	}
	u, err := url.Parse(p.cfg.URL)
	if err != nil {
		note("url", provider.Failed, plain(err), "")
		return report
	}
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
	}
	dialer := net.Dialer{Timeout: 10 * time.Second}
	conn, err := dialer.DialContext(ctx, "tcp", net.JoinHostPort(u.Hostname(), port))
	if err != nil {
		note("connect", provider.Failed, err.Error(), "check the URL, and whether this machine may reach it")
		return report
	}
	defer conn.Close()
	note("connect", provider.OK, conn.RemoteAddr().String(), "")
	if u.Scheme == "http" {
		note("TLS", provider.OK, "none, to this machine itself", "")
	} else {
		secure := tls.Client(conn, &tls.Config{ServerName: u.Hostname(), MinVersion: tls.VersionTLS12})
		if err := secure.HandshakeContext(ctx); err != nil {
			note("TLS", provider.Failed, err.Error(), "check the host in the URL; certificates are not skipped")
			return report
		}
		state := secure.ConnectionState()
		left := int(time.Until(state.PeerCertificates[0].NotAfter) / (24 * time.Hour))
		note("TLS", provider.OK, fmt.Sprintf("%s, certificate with %d days left", tls.VersionName(state.Version), left), "")
	}
	note("key, sender, recipient", provider.Warning, "not tried: this interface has no way to ask without sending", "try a letter with --send-to")
	return report
}
