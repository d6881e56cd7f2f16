// Package capture keeps letters in memory, for an application's tests that need no SMTP.
package capture

import (
	"bytes"
	"context"
	"slices"
	"sync"

	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// A Captured is a letter that was sent.
type Captured struct {
	ID       string
	Envelope provider.Envelope
	Raw      string // the message; empty for SMS
	Letter   provider.Letter
	SMS      string
}

// A Provider captures. The zero Provider is ready, and safe for concurrent use.
type Provider struct {
	mu  sync.Mutex // guards all
	all []Captured
}

var _ provider.Provider = (*Provider)(nil)

// Name returns "capture".
func (*Provider) Name() string { return "capture" }

// Can returns that it takes everything.
func (*Provider) Can() provider.Ability { return provider.Ability{Mail: true, SMS: true} }

// Send implements [provider.Provider].
func (p *Provider) Send(ctx context.Context, h provider.Handover) provider.Result {
	c := Captured{ID: h.ID, Envelope: h.Envelope, Letter: h.Letter, SMS: h.SMS}
	if h.Message != nil {
		var b bytes.Buffer
		if _, err := h.Message.WriteTo(&b); err != nil {
			return provider.Result{Class: retry.Transient, Reply: err.Error()}
		}
		c.Raw = b.String()
	}
	if err := h.Begin(ctx); err != nil {
		return provider.NotSent(err)
	}
	if err := h.Final(ctx); err != nil {
		return provider.NotSent(err)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.all = append(p.all, c)
	return provider.Result{Class: retry.Accepted, ID: h.ID, Reply: "captured"}
}

// Letters returns what was sent, in order.
func (p *Provider) Letters() []Captured {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Clone(p.all)
}
