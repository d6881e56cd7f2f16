// Package discard is the way out that leads nowhere: it accepts everything and throws it away. It
// is for measuring, and for environments in which nothing may leave.
package discard

import (
	"context"
	"io"

	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// A Provider discards. The zero Provider is ready, and safe for concurrent use.
type Provider struct{ As string } // its name; empty means "discard"

var _ provider.Provider = Provider{}

// Name returns the provider's name.
func (p Provider) Name() string {
	if p.As == "" {
		return "discard"
	}
	return p.As
}

// Can returns that it takes everything.
func (Provider) Can() provider.Ability { return provider.Ability{Mail: true, SMS: true} }

// Send implements [provider.Provider]. It reads the letter, so that one that cannot be written is
// found here too.
func (Provider) Send(ctx context.Context, h provider.Handover) provider.Result {
	if err := h.Begin(ctx); err != nil {
		return provider.NotSent(err)
	}
	if h.Message != nil {
		if _, err := h.Message.WriteTo(io.Discard); err != nil {
			return provider.Result{Class: retry.Transient, Reply: err.Error()}
		}
	}
	if err := h.Final(ctx); err != nil {
		return provider.NotSent(err)
	}
	return provider.Result{Class: retry.Accepted, Reply: "discarded"}
}
