// What the end of an exchange means for the letter: pure functions.

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

// lost returns what the end of a step without a reply means. The loss of the connection is ambiguous
// only after the final dot; before it the server cannot have the letter (RFC 5321 §4.1.1.4).
func (p *Provider) lost(at step, err error) provider.Result {
	if refused, ok := errors.AsType[refusal](err); ok {
		r := p.refused(at, refused.reply)
		if is[authError](err) && refused.code >= 500 {
			r.Class, r.Concerns = retry.Misconfigured, provider.ConcernsProvider
		}
		return r
	}
	r := provider.Result{Class: retry.Transient, Reply: p.kept(string(at) + ": " + describe(err))}
	switch {
	case at == stepFinal:
		r.Class = retry.Ambiguous
	case ourFault(err):
		r.Class = retry.Misconfigured
	}
	return r
}

// refused returns what a reply means that ended a step.
func (p *Provider) refused(at step, r reply) provider.Result {
	result := provider.Result{Code: r.code, Enhanced: r.enhanced(), Reply: p.words(r)}
	if r.code < 400 {
		result.Class, result.Reply = retry.Transient, "the server answered as to another command: "+result.Reply
		return result
	}
	words := strings.Join(r.lines, " ")
	for _, o := range p.cfg.Outcomes {
		if o.fits(at, r.code, result.Enhanced, words) {
			result.Class, result.Concerns = o.Class, o.Concerns
			return result
		}
	}
	result.Class, result.Concerns = judge(at, r.code, result.Enhanced, words)
	return result
}

// senderFaults are the enhanced codes that blame the sender, which many servers say only at RCPT or
// after the letter: its address (RFC 3463 §3.2, RFC 7505 §4.2), or its DKIM, SPF or reverse name
// (RFC 7372 §3).
var senderFaults = []string{"5.1.7", "5.1.8", "5.7.20", "5.7.21", "5.7.22", "5.7.23", "5.7.24", "5.7.25", "5.7.26",
	"5.7.27"}

// judge returns the class of a refusal and whom it concerns.
//
//   - "Slow down" concerns the provider at connect and MAIL. At RCPT and after the letter it concerns the recipient's
//     domain, unless the words after the letter name our account.
//   - A refusal of our account (its quota, its bill, its suspension) is the provider's at connect and MAIL. Later it is
//     said of one domain's letter, and may concern only that.
//   - Any other 5xx blames the sender at MAIL, the recipient at RCPT and the letter afterwards. Codes about the sender,
//     about authentication and encryption (RFC 4954 §6, RFC 3207 §4) and about commands (500, 502 to 504) blame our
//     configuration wherever they come.
func judge(at step, code int, enhanced, words string) (retry.Class, provider.Concern) {
	early := at == stepConnect || at == stepMail
	late := provider.ConcernsDomain
	if early {
		late = provider.ConcernsProvider
	}
	switch {
	case throttles(at, code, enhanced, words):
		if !early && at != stepRcpt && accountWords.MatchString(words) {
			late = provider.ConcernsProvider
		}
		return retry.Throttled, late
	case code < 500 && code/10 != 53:
		return retry.Transient, provider.ConcernsProvider
	case accountRefused(enhanced, words):
		return retry.Misconfigured, late
	case enhanced == "5.3.4" || code == 552 && at != stepRcpt: // larger than the server takes
		return retry.MessageRefused, provider.ConcernsProvider
	case enhanced == "5.6.7" && at == stepMail: // letters outside ASCII (RFC 6531 §3.2)
		return retry.MessageRefused, provider.ConcernsProvider
	case early, slices.Contains(senderFaults, enhanced), code == 530, code == 534, code == 535, code == 538,
		code == 500, code == 502, code == 503, code == 504:
		return retry.Misconfigured, provider.ConcernsProvider
	case at == stepRcpt:
		return retry.RecipientRefused, provider.ConcernsProvider
	}
	return retry.MessageRefused, provider.ConcernsProvider
}

// slowDown are the enhanced codes that ask for fewer letters (RFC 3463 §3.4 and §3.5, and what several servers say for
// a rate).
var slowDown = []string{"4.3.1", "4.3.2", "4.4.5", "4.7.28"}

// slowWords are words that ask for fewer letters, and accountWords those that speak of what we have with the provider.
var (
	slowWords = regexp.MustCompile(
		`(?i)\b(rate[- ]?limit(ed|s|ing)?|rate exceeded|too many (messages|connections)|throttl\w*)\b`)
	accountWords = regexp.MustCompile(`(?i)\b(account|your plan|(sending|daily) (limit|quota)|billing)\b`)
	brokenTerms  = regexp.MustCompile(`(?i)\b(quota|billing|suspended)\b`)
)

// throttles reports whether a temporary refusal asks for fewer letters. A 421 does, but not one that ends an idle
// connection (4.4.2). 4.5.3 is said of too many recipients, and at MAIL there are none. 4.7.1 is said by greylists and
// 4.2.1 of one mailbox: without such words they do not.
func throttles(at step, code int, enhanced, words string) bool {
	switch {
	case code >= 500:
		return false
	case code == 421 && enhanced != "4.4.2", slowWords.MatchString(words):
		return true
	case code == 450, code == 451, code == 452:
		return slices.Contains(slowDown, enhanced) || enhanced == "4.5.3" && at == stepMail
	}
	return false
}

// accountRefused reports whether a permanent refusal is one of our account with the provider: 5.4.5, or 5.7.x with
// words for it. A mailbox over its quota has 5.2.2.
func accountRefused(enhanced, words string) bool {
	return enhanced == "5.4.5" || strings.HasPrefix(enhanced, "5.7.") && brokenTerms.MatchString(words)
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

// enhancedCode is an enhanced status code at the beginning of a reply's text (RFC 2034 §4).
var enhancedCode = regexp.MustCompile(`^([245]\.\d{1,3}\.\d{1,3})(?:\s|$)`)

// enhanced returns the enhanced status code of a reply, or "".
func (r reply) enhanced() string {
	if len(r.lines) == 0 {
		return ""
	}
	if m := enhancedCode.FindStringSubmatch(r.lines[0]); m != nil && m[1][0] == byte('0'+r.code/100) {
		return m[1]
	}
	return ""
}

// words returns a reply as it is stored: in one line, with its enhanced code once.
func (p *Provider) words(r reply) string {
	code := r.enhanced()
	lines := slices.Clone(r.lines)
	for i := range lines {
		if i > 0 && code != "" {
			lines[i] = strings.TrimPrefix(lines[i], code+" ")
		}
	}
	return p.kept(strings.TrimSpace(fmt.Sprint(r.code, " ", strings.Join(lines, " "))))
}
