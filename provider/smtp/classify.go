// What an error of a session means for the letter: pure functions.

package smtp

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"slices"
	"strings"

	smtpclient "github.com/emersion/go-smtp"

	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// A step is how far a session had come.
type step string

const (
	stepConnect step = "connecting"
	stepMail    step = "MAIL FROM"
	stepRcpt    step = "RCPT TO"
	stepData    step = "DATA"
	stepBody    step = "sending the letter"
	stepFinal   step = "waiting for the final reply"
)

// An authError is the refusal of a user and password.
type authError struct{ error }

func (e authError) Unwrap() error { return e.error }

// classify returns what the failure of a step means. The loss of the connection is ambiguous
// only after the final dot; before it the server cannot have the letter (RFC 5321 §4.1.1.4).
func classify(at step, err error) provider.Result {
	var reply *smtpclient.SMTPError
	if errors.As(err, &reply) {
		r := provider.Result{
			Code: reply.Code, Enhanced: enhanced(reply.EnhancedCode),
			Reply: strings.TrimSpace(fmt.Sprintf("%d %s %s", reply.Code, enhanced(reply.EnhancedCode), reply.Message)),
		}
		r.Class = refusal(at, reply.Code, r.Enhanced)
		if errors.As(err, new(authError)) && reply.Code/100 == 5 {
			r.Class = retry.Misconfigured
		}
		return r
	}
	r := provider.Result{Class: retry.Transient, Reply: string(at) + ": " + describe(err)}
	switch {
	case at == stepFinal:
		r.Class = retry.Ambiguous
	case ourFault(err):
		r.Class = retry.Misconfigured
	}
	return r
}

// senderFaults are the enhanced codes that blame the sender, which many servers say only at RCPT or
// after the letter: its address (RFC 3463 §3.2, RFC 7505 §4.2), or its DKIM, SPF or reverse name
// (RFC 7372 §3).
var senderFaults = []string{"5.1.7", "5.1.8", "5.7.20", "5.7.21", "5.7.22", "5.7.23", "5.7.24", "5.7.25", "5.7.26",
	"5.7.27"}

// refusal returns the class of an SMTP reply that is no success. A 5xx blames the sender at
// MAIL, the recipient at RCPT and the letter afterwards; codes about the sender, and those about
// authentication and encryption (RFC 4954 §6, RFC 3207 §4), blame our configuration wherever they come.
func refusal(at step, code int, enhanced string) retry.Class {
	switch {
	case code == 530 || code == 534 || code == 535 || code == 538:
		return retry.Misconfigured
	case code/100 != 5:
		return retry.Transient
	case at == stepConnect || at == stepMail || slices.Contains(senderFaults, enhanced):
		return retry.Misconfigured
	case at == stepRcpt:
		return retry.RecipientRefused
	}
	return retry.MessageRefused
}

// ourFault reports whether an error means that the configuration is wrong rather than that the
// server is busy: waiting would not help.
func ourFault(err error) bool {
	var (
		auth      authError
		authority x509.UnknownAuthorityError
		host      x509.HostnameError
		invalid   x509.CertificateInvalidError
		verify    *tls.CertificateVerificationError
		record    tls.RecordHeaderError
		dns       *net.DNSError
	)
	return errors.Is(err, errNoStartTLS) || errors.As(err, &auth) || errors.As(err, &authority) ||
		errors.As(err, &host) ||
		errors.As(err, &invalid) || errors.As(err, &verify) || errors.As(err, &record) ||
		errors.As(err, &dns) && dns.IsNotFound
}

// describe says what happened, with the remedy where one is known.
func describe(err error) string {
	var host x509.HostnameError
	var authority x509.UnknownAuthorityError
	var record tls.RecordHeaderError
	switch {
	case errors.Is(err, os.ErrDeadlineExceeded):
		return "the server did not answer in time"
	case errors.Is(err, net.ErrClosed):
		return "ended from our side before the server had answered"
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return "the server closed the connection"
	case errors.As(err, &host):
		return err.Error() + "; host must be a name in the server's certificate"
	case errors.As(err, &authority):
		return err.Error() + "; if the server has a private authority, name its certificate in ca_file"
	case errors.As(err, &record):
		return `the server does not speak TLS from the first byte; with port 587 or 25 use tls = "starttls"`
	}
	return err.Error()
}

// enhanced formats an enhanced status code (RFC 3463), or "" if there is none.
func enhanced(c smtpclient.EnhancedCode) string {
	if c[0] < 2 {
		return ""
	}
	return fmt.Sprintf("%d.%d.%d", c[0], c[1], c[2])
}

// enhancedIn returns the enhanced status code that a reply's text begins with, or "".
func enhancedIn(text string) string {
	var c smtpclient.EnhancedCode
	if _, err := fmt.Sscanf(text, "%d.%d.%d ", &c[0], &c[1], &c[2]); err != nil {
		return ""
	}
	return enhanced(c)
}
