package httpapi

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/illumicode/illumicode/provider"
)

var _ provider.Checker = (*Provider)(nil)

// Check implements [provider.Checker]: name, connection, TLS, and what Config.Probe answers. An
// interface without one, which sends at the first request, cannot be asked more without sending.
func (p *Provider) Check(ctx context.Context, from, to string) (report provider.Report) {
	start := time.Now()
	note := func(what string, v provider.Verdict, saw, next string) {
		report.Steps = append(report.Steps, provider.Step{What: what, Verdict: v, Saw: saw, Next: next,
			Took: time.Since(start)})
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
		note("TLS", provider.OK, fmt.Sprintf("%s, certificate with %d days left", tls.VersionName(state.Version), left),
			"")
	}
	if p.cfg.Probe == "" {
		note("key, sender, recipient", provider.Warning,
			"not tried: no probe is configured, a URL of the interface that answers without sending",
			"set probe, or try a letter with --send-to")
		return report
	}
	what, saw, err := p.probe(ctx, from, to)
	if err != nil {
		note(what, provider.Failed, err.Error(), "check the key, and whether the provider has verified "+from)
		return report
	}
	note(what, provider.OK, saw, "")
	return report
}

// probe asks the interface without sending, and returns what the question covered and the answer.
func (p *Provider) probe(ctx context.Context, from, to string) (what, saw string, err error) {
	what = "key"
	for _, one := range [][2]string{{"{from}", ", sender"}, {"{to}", ", recipient"}} {
		if strings.Contains(p.cfg.Probe, one[0]) {
			what += one[1]
		}
	}
	at := strings.NewReplacer("{from}", url.QueryEscape(from), "{to}", url.QueryEscape(to)).Replace(p.cfg.Probe)
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
	if err != nil {
		return what, "", errors.New(plain(err))
	}
	for name, value := range p.cfg.Headers {
		req.Header.Set(name, value)
	}
	p.authenticate(req, nil)
	resp, err := p.client.Do(req)
	if err != nil {
		return what, "", errors.New(plain(err))
	}
	defer resp.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(resp.Body, keepAnswer))
	if err != nil {
		return what, "", errors.New(plain(err))
	}
	if resp.StatusCode/100 != 2 {
		return what, "", fmt.Errorf("%s %s", resp.Status, answer)
	}
	return what, resp.Status, nil
}
