// Package httpapi is the way out through any HTTP interface that takes JSON or a form, for mail
// and for SMS: what it is called, what it is sent and what its answers mean is configuration.
// [Config] is the type to read first.
package httpapi

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/illumicode/illumicode/internal/core/events"
	"github.com/illumicode/illumicode/internal/core/mask"
	"github.com/illumicode/illumicode/internal/core/verdict"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// Config describes an HTTP interface. URL and Body are required.
type Config struct {
	Method string // empty means POST
	URL    string // absolute; https, or http on loopback
	Form   bool   // Body is a form's fields, one "name=value" a line, values as templates; else JSON

	// Body is a text/template. It is executed with a [Fields], and has the functions
	// {{json .Subject}}, a JSON string with its quotes, and {{base64 .Raw}}.
	Body string

	Headers map[string]string
	SMS     bool     // it carries SMS, not mail
	Senders []string // addresses and domains that it has verified; empty means any

	// Probe is a URL that Check reads, with the same authentication, and that sends nothing: the
	// interface's page of the account, or of a sender. {from} and {to} in it stand for the two
	// addresses. A 2xx is good. Empty means that the interface has none.
	Probe string

	Auth              Auth
	IdempotencyHeader string // the field that carries the delivery's id; empty means none

	MessageID string    // an RFC 6901 pointer to the provider's id in a JSON answer; empty means none
	Outcomes  []Outcome // what answers mean; the first that fits wins, before the defaults

	Timeout time.Duration // for the whole exchange; 0 means 30 s
	Most    int           // letters on their way at once; 0 or less means 16
}

// Auth says how requests are authenticated. At most one of its ways is used.
type Auth struct {
	Bearer   provider.Secret // Authorization: Bearer …
	User     string          // with Password: HTTP basic authentication
	Password provider.Secret
	HMAC     provider.Secret // key of HMAC-SHA256 over the body, in hexadecimal
	Header   string          // the field that carries the HMAC; required with it
}

// An Outcome says what an answer means.
type Outcome struct {
	Status  string // "429", "4xx", or empty for any
	Pointer string // an RFC 6901 pointer into a JSON answer; empty means that the status decides
	Equals  string // what stands there, as text; empty means that anything may
	Class   retry.Class
}

// Fields are what a body is made of.
type Fields struct {
	ID, From, FromName, To, ToName, ReplyTo, Subject, Text, HTML string
	SMS                                                          string
	// the whole message, as RFC 5322 wants it; empty unless Body uses it
	Raw string
}

// maxAnswer is how much of an answer is read, in bytes, and keepAnswer how much is kept.
const (
	maxAnswer  = 1 << 20
	keepAnswer = 4 << 10
)

// A Provider calls one interface. It is safe for concurrent use. Use [New].
type Provider struct {
	name   string
	cfg    Config
	body   body
	raw    bool // Body uses Raw
	client *http.Client

	secrets mask.Secrets // those of Auth
}

var _ provider.Provider = (*Provider)(nil)

// New returns a provider for the interface in c. It connects to nothing. The error names the field
// that cannot work and never holds a secret.
func New(name string, c Config) (*Provider, error) {
	wrong := func(format string, args ...any) error {
		return fmt.Errorf("HTTP provider %q: %s", name, fmt.Sprintf(format, args...))
	}
	if why := c.unreachable(); why != "" {
		return nil, wrong("%s", why)
	}
	if c.Method == "" {
		c.Method = http.MethodPost
	}
	if c.Timeout <= 0 {
		c.Timeout = 30 * time.Second
	}
	if c.Most <= 0 {
		c.Most = 16
	}
	for i, o := range c.Outcomes {
		if why := o.wrong(c.Outcomes[:i]); why != "" {
			return nil, wrong("outcome %d: %s", i+1, why)
		}
	}
	if c.MessageID != "" && c.MessageID[0] != '/' {
		return nil, wrong("message_id: a pointer begins with a slash (RFC 6901)")
	}
	p := &Provider{name: name, cfg: c, raw: strings.Contains(c.Body, ".Raw"),
		secrets: mask.Of("", c.Auth.Bearer.Reveal(), c.Auth.Password.Reveal(), c.Auth.HMAC.Reveal())}
	var err error
	if p.body, err = readBody(c.Body, c.Form); err != nil {
		return nil, wrong("body: %v", err)
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.MaxIdleConnsPerHost = c.Most
	p.client = &http.Client{Transport: transport, Timeout: c.Timeout,
		// A redirect would carry the letter and the key to where nobody configured.
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	return p, nil
}

// unreachable says why nobody can be reached, or safely, if so.
func (c Config) unreachable() string {
	if probe, err := url.Parse(c.Probe); c.Probe != "" && (err != nil || probe.Host == "" || probe.Scheme != "https" &&
		!loopback(probe.Hostname())) {
		return "probe is not an absolute https URL; it is read with the key"
	}
	u, err := url.Parse(c.URL)
	switch {
	case c.URL == "" || err != nil || u.Host == "":
		return "url is missing or not absolute"
	case u.Scheme == "http" && !loopback(u.Hostname()) || u.Scheme != "http" && u.Scheme != "https":
		return "url is not https: the key and the letters would cross the network in the clear"
	case c.Auth.HMAC != "" && c.Auth.Header == "":
		return "auth: an HMAC needs the header that carries it"
	case (c.Auth.User == "") != (c.Auth.Password == ""):
		return "auth: user and password go together"
	}
	ways := 0
	for _, used := range []bool{c.Auth.Bearer != "", c.Auth.User != "", c.Auth.HMAC != ""} {
		if used {
			ways++
		}
	}
	if ways > 1 {
		return "auth: choose one of bearer, user with password, and hmac"
	}
	return ""
}

// wrong says what is wrong with an outcome, if anything. before are those that come first.
func (o Outcome) wrong(before []Outcome) string {
	if !verdict.Known(o.Class) {
		return fmt.Sprintf("there is no class %q", o.Class)
	}
	if !slices.Contains([]string{"", "1xx", "2xx", "3xx", "4xx", "5xx"}, o.Status) {
		if n, err := strconv.Atoi(o.Status); err != nil || n < 100 || n > 599 {
			return fmt.Sprintf("status %q is neither a number nor such as 4xx", o.Status)
		}
	}
	if o.Pointer != "" && o.Pointer[0] != '/' {
		return "a pointer begins with a slash (RFC 6901)"
	}
	if o.Equals != "" && o.Pointer == "" {
		return "equals says what stands at a pointer, and there is none"
	}
	for i, first := range before {
		if first.covers(o) {
			return fmt.Sprintf("it never counts: outcome %d fits whatever it fits, and comes first", i+1)
		}
	}
	return ""
}

// covers reports whether o fits wherever later does.
func (o Outcome) covers(later Outcome) bool {
	status := o.Status == "" || o.Status == later.Status ||
		strings.HasSuffix(o.Status, "xx") && strings.HasPrefix(later.Status, o.Status[:1])
	return status && (o.Pointer == "" || o.Pointer == later.Pointer && (o.Equals == "" || o.Equals == later.Equals))
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// Name returns the provider's name.
func (p *Provider) Name() string { return p.name }

// Can returns what the interface carries.
func (p *Provider) Can() provider.Ability {
	return provider.Ability{Mail: !p.cfg.SMS, SMS: p.cfg.SMS, Senders: p.cfg.Senders, Most: p.cfg.Most}
}

// Close ends idle connections.
func (p *Provider) Close() error {
	p.client.CloseIdleConnections()
	return nil
}

// Send implements [provider.Provider].
func (p *Provider) Send(ctx context.Context, h provider.Handover) provider.Result {
	f := Fields{ID: h.ID, From: h.Letter.From, FromName: h.Letter.FromName, To: h.Envelope.To, ToName: h.Letter.ToName,
		ReplyTo: h.Letter.ReplyTo, Subject: h.Letter.Subject, Text: h.Letter.Text, HTML: h.Letter.HTML, SMS: h.SMS}
	if p.raw && h.Message != nil {
		var b bytes.Buffer
		if _, err := h.Message.WriteTo(&b); err != nil {
			return provider.Result{Class: retry.Transient, Reply: err.Error()}
		}
		f.Raw = b.String()
	}
	body, kind, err := p.body.make(f)
	if err != nil {
		return provider.Result{Class: retry.MessageRefused, Reply: "the body cannot be made: " + err.Error()}
	}
	var written atomic.Bool // the whole request is on its way
	ctx = httptrace.WithClientTrace(ctx,
		&httptrace.ClientTrace{WroteRequest: func(i httptrace.WroteRequestInfo) { written.Store(i.Err == nil) }})
	gate := &gate{rest: body, open: func() error { return h.Final(ctx) }}
	req, err := http.NewRequestWithContext(ctx, p.cfg.Method, p.cfg.URL, gate)
	if err != nil {
		return provider.Result{Class: retry.Misconfigured, Reply: err.Error()}
	}
	// Without GetBody there is no retry behind our back: an attempt is one request.
	req.ContentLength = int64(len(body))
	req.Header.Set("Content-Type", kind)
	for name, value := range p.cfg.Headers {
		req.Header.Set(name, value)
	}
	if p.cfg.IdempotencyHeader != "" {
		req.Header.Set(p.cfg.IdempotencyHeader, h.ID)
	}
	p.authenticate(req, body)
	if err := h.Begin(ctx); err != nil {
		return provider.NotSent(err)
	}
	resp, err := p.client.Do(req)
	if shut := gate.refused(); shut != nil {
		if err == nil { // it answered before the request was complete
			resp.Body.Close()
		}
		return provider.NotSent(shut)
	}
	if err != nil {
		return p.lost(err, written.Load())
	}
	defer resp.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(resp.Body, maxAnswer))
	if err != nil && resp.StatusCode/100 == 2 {
		return p.lost(err, true) // it began to agree, and what it said is unknown
	}
	return p.judge(resp, answer)
}

func (p *Provider) authenticate(req *http.Request, body []byte) {
	switch a := p.cfg.Auth; {
	case a.Bearer != "":
		req.Header.Set("Authorization", "Bearer "+a.Bearer.Reveal())
	case a.User != "":
		req.SetBasicAuth(a.User, a.Password.Reveal())
	case a.HMAC != "":
		m := hmac.New(sha256.New, []byte(a.HMAC.Reveal()))
		m.Write(body)
		req.Header.Set(a.Header, hex.EncodeToString(m.Sum(nil)))
	}
}

// lost returns what the loss of an exchange means: certain while the request was not complete.
func (p *Provider) lost(err error, written bool) provider.Result {
	r := provider.Result{Class: retry.Transient, Reply: "no connection: " + plain(err)}
	if written {
		r.Class, r.Reply = retry.Ambiguous, "the request was sent and no answer came: "+plain(err)
	}
	return r
}

// plain returns an error without the URL, which may hold a key.
func plain(err error) string {
	if u, ok := errors.AsType[*url.Error](err); ok {
		err = u.Err
	}
	return err.Error()
}

// judge returns what an answer means.
func (p *Provider) judge(resp *http.Response, answer []byte) provider.Result {
	said := p.secrets.Hide(string(answer[:min(len(answer), keepAnswer)]))
	r := provider.Result{Code: resp.StatusCode, Reply: resp.Status + " " + said}
	r.After = retryAfter(resp.Header.Get("Retry-After"), resp.Header.Get("Date"))
	if resp.StatusCode/100 == 5 { // a fault of its own, which it may think too well of, or too badly
		r.After = min(r.After, time.Hour)
	}
	var doc any
	isJSON := json.Unmarshal(answer, &doc) == nil
	for _, o := range p.cfg.Outcomes {
		if o.fits(resp.StatusCode, doc) {
			r.Class = o.Class
			break
		}
	}
	if r.Class == "" {
		r.Class = byStatus(resp.StatusCode)
	}
	if r.Class == retry.Accepted && p.cfg.MessageID != "" {
		id, found := at(doc, p.cfg.MessageID)
		if !isJSON || !found {
			// The door was opened by somebody who does not talk as configured: a portal, a proxy,
			// a new version. It may have taken the letter, or not.
			r.Class = retry.Ambiguous
			r.Reply = "the answer has no message id at " + p.cfg.MessageID + ": " + r.Reply
		}
		r.ID = id
	}
	if r.Class == retry.Accepted { // it may repeat the letter, and nothing in it is news
		r.Reply = resp.Status
	}
	return r
}

// byStatus returns the usual meaning of an HTTP status (RFC 9110 §15).
func byStatus(status int) retry.Class {
	switch {
	case status/100 == 2:
		return retry.Accepted
	case status == http.StatusTooManyRequests:
		return retry.Throttled
	case status == http.StatusUnauthorized, status == http.StatusForbidden, status == http.StatusNotFound,
		status == http.StatusMethodNotAllowed, status == http.StatusPaymentRequired, status/100 == 3:
		return retry.Misconfigured
	case status == http.StatusRequestTimeout, status == http.StatusConflict, status == http.StatusTooEarly,
		status/100 == 5:
		return retry.Transient
	}
	return retry.MessageRefused
}

func (o Outcome) fits(status int, doc any) bool {
	if o.Status != "" && o.Status != strconv.Itoa(status) && o.Status != strconv.Itoa(status/100)+"xx" {
		return false
	}
	if o.Pointer == "" {
		return true
	}
	v, found := at(doc, o.Pointer)
	return found && (o.Equals == "" || v == o.Equals)
}

// at returns what stands at an RFC 6901 pointer, as text.
func at(doc any, pointer string) (string, bool) {
	doc, found := events.At(doc, pointer)
	if !found {
		return "", false
	}
	switch v := doc.(type) {
	case nil:
		return "", false
	case string:
		return v, true
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64), true
	}
	return fmt.Sprint(doc), true
}

// retryAfter reads a Retry-After field (RFC 9110 §10.2.3): seconds, or a date, which is compared
// with the answer's own Date, since clocks differ. What cannot be read, or is over a day, is 0 or
// a day.
func retryAfter(field, date string) time.Duration {
	wait := time.Duration(0)
	if n, err := strconv.Atoi(strings.TrimSpace(field)); err == nil && n > 0 {
		wait = time.Duration(min(n, 86400)) * time.Second
	} else if then, err := http.ParseTime(field); err == nil {
		if now, err := http.ParseTime(date); err == nil {
			wait = max(0, then.Sub(now))
		}
	}
	return min(wait, 24*time.Hour)
}
