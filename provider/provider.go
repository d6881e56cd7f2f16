// Package provider says what a way out is: something that takes a letter to one recipient and
// tells what became of it. [Provider] is the interface to implement. The packages below this one
// do; providertest checks that an implementation keeps the contract. A small one:
//
//	type pigeon struct{ loft *Loft }
//
//	func (pigeon) Name() string              { return "pigeon" }
//	func (pigeon) Can() provider.Ability     { return provider.Ability{Mail: true} }
//
//	func (p pigeon) Send(ctx context.Context, h provider.Handover) provider.Result {
//		bird, err := p.loft.Fetch(ctx, h.Envelope.To)
//		if err != nil { // nothing has left yet: the loss is certain
//			return provider.Result{Class: retry.Transient, Reply: err.Error()}
//		}
//		if err := h.Begin(ctx); err != nil { // the attempt is on record, or nothing may leave
//			return provider.NotSent(err)
//		}
//		if _, err := h.Message.WriteTo(bird); err != nil { // half a letter does not fly
//			return provider.Result{Class: retry.Transient, Reply: err.Error()}
//		}
//		if err := h.Final(ctx); err != nil { // another worker may have the letter by now
//			return provider.NotSent(err)
//		}
//		ring, err := bird.Release(ctx)
//		if err != nil { // it was released, and nobody knows where it is
//			return provider.Result{Class: retry.Ambiguous, Reply: err.Error()}
//		}
//		return provider.Result{Class: retry.Accepted, ID: ring, Reply: "released"}
//	}
package provider

import (
	"context"
	"io"
	"strings"
	"time"

	"github.com/illumicode/illumicode/retry"
)

// A Provider is one way out. Its methods are called concurrently.
type Provider interface {
	// Name tells this provider from others in configuration, logs and attempts.
	Name() string

	// Can says what the provider carries. It does not change.
	Can() Ability

	// Send hands one letter over and returns what became of it. It returns soon after ctx
	// ends. It calls h.Begin exactly once, right before the first byte that could lead to a
	// delivery, and sends nothing if that fails; a Send that ends earlier need not call it. It
	// calls h.Final after that, right before what cannot be taken back: the write that
	// holds the final dot, the last byte of a request, the end of a program's input. If that fails,
	// it breaks off, so that the letter is not delivered. One that begins anew over another connection asks again.
	//
	// The class is Ambiguous if and only if the letter was complete on its way and no final
	// answer came; a loss before that is certain. Errors become Results: there is no other
	// channel, so that no answer can be dropped.
	Send(ctx context.Context, h Handover) Result
}

// An Ability is what a provider carries.
type Ability struct {
	Mail bool
	SMS  bool

	// Senders are the addresses, and the domains, that the provider has verified: it refuses
	// letters from others. Empty means any.
	Senders []string

	// Most is how many letters it carries at once, from one process; 0 means as many as come.
	Most int
}

// MaySend reports whether the provider takes letters from an address: if it is on the list, or
// its domain is.
func (a Ability) MaySend(from string) bool {
	if len(a.Senders) == 0 {
		return true
	}
	_, domain, _ := strings.Cut(from, "@")
	for _, s := range a.Senders {
		if strings.EqualFold(s, from) || strings.EqualFold(s, domain) {
			return true
		}
	}
	return false
}

// A Handover is one letter on its way out: a message, or the text of an SMS.
type Handover struct {
	ID       string // of the delivery; the same for every attempt
	Envelope Envelope
	Message  Message                     // nil for SMS
	Letter   Letter                      // what the message says, for providers that compose it themselves
	SMS      string                      // empty for mail
	Once     bool                        // it must not go out twice: no shortcut that could leave its end unknown
	Begin    func(context.Context) error // records the attempt
	Final    func(context.Context) error // says whether the letter is still this worker's to send
}

// A Message is a letter as RFC 5322 wants it, with CRLF line ends. Writing it may fail half-way,
// when an attachment cannot be read: what was written then must not become a delivery.
type Message interface {
	io.WriterTo
	Size() int64 // how many bytes WriteTo writes
}

// A Letter is the contents of a message, for a provider whose interface takes them apart.
type Letter struct {
	From, FromName string
	To, ToName     string // as the header shows them
	ReplyTo        string
	Subject        string
	Text           string
	HTML           string
}

// An Envelope is who the letter really goes to (RFC 5321 §2.3.1), whatever its headers say.
type Envelope struct {
	From string // the return path; empty for SMS
	To   string // an address, or a phone number in E.164
	UTF8 bool   // an address needs SMTPUTF8 (RFC 6531)
}

// A Result is what a provider answered, word for word where it is words.
type Result struct {
	Class    retry.Class
	Code     int           // SMTP reply code, HTTP status or exit code; 0 if none came
	Enhanced string        // RFC 3463 status such as 4.7.1; empty if none came
	Reply    string        // the provider's text in full, or what happened instead of an answer
	ID       string        // the provider's own id of the letter; empty if it gives none
	After    time.Duration // when the provider wants to be asked again; 0 if it did not say
	Concerns Concern       // whom it concerns, if Class is Throttled or Misconfigured
}

// A Concern is whom an answer concerns beside the letter.
type Concern string

// The concerns. What is said of several recipient domains concerns the provider after all: "slow down" of three within
// a minute, a refusal of our account of two within ten minutes.
const (
	ConcernsProvider Concern = ""       // all letters to the provider
	ConcernsDomain   Concern = "domain" // letters to the recipient's domain, as far as one answer can tell
)

// NotSent is the result of a Send that Begin or Final has kept from sending.
func NotSent(err error) Result {
	return Result{Class: retry.Transient, Reply: "not sent: " + err.Error()}
}
