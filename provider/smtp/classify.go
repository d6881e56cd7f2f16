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
	"regexp"
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
	if reply, ok := errors.AsType[*smtpclient.SMTPError](err); ok {
		r := provider.Result{
			Code: reply.Code, Enhanced: enhanced(reply.EnhancedCode),
			Reply: strings.TrimSpace(fmt.Sprintf("%d %s %s", reply.Code, enhanced(reply.EnhancedCode), reply.Message)),
		}
		r.Class = refusal(at, reply.Code, r.Enhanced, reply.Message)
		if is[authError](err) && reply.Code/100 == 5 {
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
// authentication and encryption (RFC 4954 §6, RFC 3207 §4), blame our configuration wherever they come. At connect
// and MAIL "slow down" concerns us; later it concerns the recipient's domain, and only this letter waits.
func refusal(at step, code int, enhanced, words string) retry.Class {
	switch {
	case (at == stepConnect || at == stepMail) && throttles(code, enhanced, words):
		return retry.Throttled
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

// slowDown are the enhanced codes that ask for fewer letters (RFC 3463 §3.4 and §3.5, and what several servers say for
// a rate); 4.5.3 says so of too many recipients, and at MAIL there are none.
var slowDown = []string{"4.3.1", "4.3.2", "4.4.5", "4.5.3", "4.7.28"}

// slowWords are words that ask for fewer letters.
var slowWords = regexp.MustCompile(
	`(?i)\b(rate limit(ed|s|ing)?|rate exceeded|too many (messages|connections)|throttl\w*)\b`)

// throttles reports whether a temporary refusal asks for fewer letters. 4.7.1 is said by greylists and 4.2.1 of one
// mailbox: without such words they do not.
func throttles(code int, enhanced, words string) bool {
	return code == 421 || code/100 == 4 && (slices.Contains(slowDown, enhanced) || slowWords.MatchString(words))
}

// ourFault reports whether an error means that the configuration is wrong rather than that the
// server is busy: waiting would not help.
func ourFault(err error) bool {
	dns, _ := errors.AsType[*net.DNSError](err)
	return errors.Is(err, errNoStartTLS) || is[authError](err) || is[x509.UnknownAuthorityError](err) ||
		is[x509.HostnameError](err) || is[x509.CertificateInvalidError](err) ||
		is[*tls.CertificateVerificationError](err) || is[tls.RecordHeaderError](err) || dns != nil && dns.IsNotFound
}

// is reports whether an error of a type is in err.
func is[E error](err error) bool {
	_, ok := errors.AsType[E](err)
	return ok
}

// describe says what happened, with the remedy where one is known.
func describe(err error) string {
	switch {
	case errors.Is(err, os.ErrDeadlineExceeded):
		return "the server did not answer in time"
	case errors.Is(err, net.ErrClosed):
		return "ended from our side before the server had answered"
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return "the server closed the connection"
	case is[x509.HostnameError](err):
		return err.Error() + "; host must be a name in the server's certificate"
	case is[x509.UnknownAuthorityError](err):
		return err.Error() + "; if the server has a private authority, name its certificate in ca_file"
	case is[tls.RecordHeaderError](err):
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
