// Package smtp is the way out through an SMTP relay or a provider's submission port (RFC 5321,
// RFC 6409). [Provider] is the type to read first.
//
// TLS is what the configuration says or nothing is sent: with STARTTLS chosen, a server that
// does not offer it gets no letter and no password. Certificates are checked, always.
package smtp

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/illumicode/illumicode/internal/core/mask"
	"github.com/illumicode/illumicode/provider"
)

// A TLS says how the connection is protected.
type TLS string

// The ways.
const (
	StartTLS TLS = "starttls" // required, on the submission port (RFC 3207)
	Implicit TLS = "implicit" // from the first byte (RFC 8314)
	NoTLS    TLS = "none"     // for a relay on the same machine; refuses to carry a password elsewhere
)

// Config describes a server. Host and TLS are required; zero durations are defaults.
type Config struct {
	Host     string
	Port     int // 0 means 587, 465 or 25, after TLS
	TLS      TLS
	Clear    bool            // letters may cross a network in the clear: [NoTLS] to another machine wants it said twice
	User     string          // empty means no authentication
	Password provider.Secret // required with User
	CAFile   string          // PEM certificates to trust besides the system's; empty means none
	Hello    string          // the name to introduce oneself with; empty means the host's name

	Dial    time.Duration // to connect; 0 means 10 s
	Command time.Duration // for each reply and each write; 0 means 1 m
	Final   time.Duration // for the reply to a complete letter; 0 means 10 m (RFC 5321 §4.5.3.2.6)
	Idle    time.Duration // how long an unused connection is kept; 0 means 30 s

	Age     time.Duration // how long a connection is used at all; 0 means 10 m
	Letters int           // how many letters a connection carries; 0 means 100
	Most    int           // how many connections at once; 0 or less means 8

	Senders []string // addresses and domains that the server has verified; empty means any

	Outcomes []Outcome // what refusals mean; the first that fits wins, before the defaults
}

// A Provider sends through one server, over connections that it keeps for many letters. It is
// safe for concurrent use: each Send in progress has a connection of its own.
type Provider struct {
	name    string
	cfg     Config
	tls     *tls.Config
	secrets mask.Secrets // the password

	refusedOffers atomic.Pointer[map[string]time.Time] // extensions that were offered and refused, until when

	mu     sync.Mutex // guards idle and closed, and changes of refusedOffers
	idle   []*session // the one used last is at the end
	closed bool
}

var _ provider.Provider = (*Provider)(nil)

// exposed returns what must not cross a network in the clear and would; "" for nothing.
func (c Config) exposed() string {
	switch {
	case c.TLS != NoTLS || loopback(c.Host):
		return ""
	case c.User != "":
		return `a password would cross the network in the clear; use tls = "starttls" or "implicit"`
	case !c.Clear:
		return `letters, with their codes and links, would cross the network in the clear; use tls = "starttls" or ` +
			`"implicit", or say clear = true as well`
	}
	return ""
}

// New returns a provider for the server in c. It connects to nothing. The error names the field
// that cannot work and never holds the password.
func New(name string, c Config) (*Provider, error) {
	wrong := func(format string, args ...any) error {
		return fmt.Errorf("smtp provider %q: %w", name, fmt.Errorf(format, args...))
	}
	if c.Host == "" {
		return nil, wrong("host is missing")
	}
	port, ok := map[TLS]int{StartTLS: 587, Implicit: 465, NoTLS: 25}[c.TLS]
	if !ok {
		return nil, wrong(`tls is %q; say "starttls", "implicit" or "none"`, c.TLS)
	}
	if c.Port == 0 {
		c.Port = port
	}
	if (c.User == "") != (c.Password == "") {
		return nil, wrong("user and password go together; one of them is missing")
	}
	if why := c.exposed(); why != "" {
		return nil, wrong("%s", why)
	}
	if c.Hello == "" {
		c.Hello, _ = os.Hostname() // without one, the address literal below will do
		if c.Hello == "" {
			c.Hello = "[127.0.0.1]"
		}
	}
	for _, d := range []struct {
		field *time.Duration
		value time.Duration
	}{{&c.Dial, 10 * time.Second}, {&c.Command, time.Minute}, {&c.Final, 10 * time.Minute}, {&c.Idle, 30 * time.Second},
		{&c.Age, 10 * time.Minute}} {
		if *d.field <= 0 {
			*d.field = d.value
		}
	}
	if c.Letters <= 0 {
		c.Letters = 100
	}
	if c.Most <= 0 {
		c.Most = 8
	}
	for i, o := range c.Outcomes {
		if why := o.wrong(c.Outcomes[:i]); why != "" {
			return nil, wrong("outcome %d: %s", i+1, why)
		}
	}
	p := &Provider{name: name, cfg: c, secrets: mask.Of("", c.Password.Reveal()),
		tls: &tls.Config{ServerName: c.Host, MinVersion: tls.VersionTLS12}}
	var err error
	if p.tls.RootCAs, err = authorities(c.CAFile); err != nil {
		return nil, wrong("%w", err)
	}
	return p, nil
}

// authorities returns those that are trusted: the system's and a file's; nil for the system's alone.
func authorities(file string) (*x509.CertPool, error) {
	if file == "" {
		return nil, nil
	}
	pem, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("ca_file: %w", err)
	}
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if !pool.AppendCertsFromPEM(pem) {
		return nil, fmt.Errorf("ca_file %s holds no PEM certificate", file)
	}
	return pool, nil
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// Name returns the provider's name.
func (p *Provider) Name() string { return p.name }

// Can returns what the provider carries: mail.
func (p *Provider) Can() provider.Ability {
	return provider.Ability{Mail: true, Senders: p.cfg.Senders, Most: p.cfg.Most}
}

func (p *Provider) address() string { return net.JoinHostPort(p.cfg.Host, strconv.Itoa(p.cfg.Port)) }

// Send implements [provider.Provider].
func (p *Provider) Send(ctx context.Context, h provider.Handover) provider.Result {
	l := &letter{Handover: h}
	for s := p.take(); ; s = nil {
		kept := s != nil
		if !kept {
			var err error
			if s, err = p.connect(ctx, nil); err != nil {
				return p.lost(stepConnect, err)
			}
		}
		result := s.send(ctx, l)
		// A kept connection that the server has closed meanwhile says nothing about the
		// letter, of which no byte was taken: begin again on a fresh one.
		again := kept && s.stale && ctx.Err() == nil
		if s.usable {
			p.put(s) // from here on it may carry another letter
		} else {
			s.close()
		}
		if !again {
			return result
		}
	}
}

// keepReply is how much of a reply is kept, in bytes.
const keepReply = 2 << 10

// kept returns a server's words as they may be stored: bounded, and without our password, which some servers repeat.
func (p *Provider) kept(words string) string {
	words = p.secrets.Hide(words)
	if len(words) > keepReply {
		words = strings.ToValidUTF8(words[:keepReply], "") + "…"
	}
	return words
}

// distrustFor is how long an extension is not used that a server offered and then refused.
const distrustFor = time.Hour

// distrust stops using an extension for a while, over all connections.
func (p *Provider) distrust(extension string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	offered := map[string]time.Time{extension: time.Now().Add(distrustFor)}
	if known := p.refusedOffers.Load(); known != nil {
		for name, until := range *known {
			if name != extension {
				offered[name] = until
			}
		}
	}
	p.refusedOffers.Store(&offered)
}

func (p *Provider) distrusted(extension string) bool {
	known := p.refusedOffers.Load()
	return known != nil && time.Now().Before((*known)[extension])
}

// take returns the connection used last, if one is fresh enough, or nil.
func (p *Provider) take() *session {
	p.mu.Lock()
	defer p.mu.Unlock()
	for len(p.idle) > 0 {
		s := p.idle[len(p.idle)-1]
		p.idle = p.idle[:len(p.idle)-1]
		if time.Since(s.lastUsed) < p.cfg.Idle {
			return s
		}
		go s.close() // may wait for the network
	}
	return nil
}

// put keeps a connection for the next letter, unless it is old or has carried its share: relays
// behind one name take turns only with new connections.
func (p *Provider) put(s *session) {
	s.lastUsed = time.Now()
	s.letters++
	if s.letters >= p.cfg.Letters || time.Since(s.opened) > p.cfg.Age {
		s.close()
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.closed {
		go s.close()
		return
	}
	p.idle = append(p.idle, s)
}

// Close ends the idle connections. A Send in progress finishes and closes its own. Close may be
// called twice.
func (p *Provider) Close() error {
	p.mu.Lock()
	idle := p.idle
	p.idle, p.closed = nil, true
	p.mu.Unlock()
	for _, s := range idle {
		s.close()
	}
	return nil
}

// errNoStartTLS is for a server that would take letters in the clear.
var errNoStartTLS = errors.New(
	`the server offers no STARTTLS, and tls = "starttls" requires it; check the port, or use tls = "implicit" on ` +
		`port 465`)
