// Package provider says what a way out is: something that takes a composed letter to one
// recipient and tells what became of it. [Provider] is the interface to implement; package
// provider/smtp is the first that does.
package provider

import (
	"context"
	"io"

	"github.com/illumicode/illumicode/core/retry"
)

// A Provider is one way out. Its methods are called concurrently.
type Provider interface {
	// Name tells this provider from others in configuration, logs and attempts.
	Name() string

	// Send hands one letter over and returns what became of it. It returns soon after ctx
	// ends. It calls h.Begin exactly once, right before the first byte that could lead to a
	// delivery, and sends nothing if that fails; a Send that ends earlier need not call it.
	//
	// The class is Ambiguous if and only if the letter was complete on its way and no final
	// answer came; a loss before that is certain. Errors become Results: there is no other
	// channel, so that no answer can be dropped.
	Send(ctx context.Context, h Handover) Result
}

// A Handover is one letter on its way out.
type Handover struct {
	ID       string // of the delivery; the same for every attempt
	Envelope Envelope
	Message  Message
	Begin    func(context.Context) error
}

// A Message is a letter as RFC 5322 wants it, with CRLF line ends. Writing it may fail half-way,
// when an attachment cannot be read: what was written then must not become a delivery.
type Message interface {
	io.WriterTo
	Size() int64 // how many bytes WriteTo writes
}

// An Envelope is who the letter really goes to (RFC 5321 §2.3.1), whatever its headers say.
type Envelope struct {
	From string // the return path
	To   string
	UTF8 bool // an address needs SMTPUTF8 (RFC 6531)
}

// A Result is what a provider answered, word for word where it is words.
type Result struct {
	Class    retry.Class
	Code     int    // SMTP reply code or HTTP status; 0 if none came
	Enhanced string // RFC 3463 status such as 4.7.1; empty if none came
	Reply    string // the provider's text in full, or what happened instead of an answer
}
