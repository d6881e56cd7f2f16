package message

import (
	"errors"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/net/idna"
	"golang.org/x/text/unicode/norm"

	"github.com/illumicode/illumicode/internal/ascii"
)

// ErrAddress matches every refusal of an address or a display name. The text says what is wrong
// and never repeats what was given: it may reach a log.
var ErrAddress = errors.New("not a usable address")

// The limits of RFC 5321 §4.5.3.1, in octets. A path has 256, of which < and > take two.
const (
	maxAddress = 254
	maxLocal   = 64
	maxName    = 200 // ours, in characters: beyond it a name is an attack on the layout
)

// An Address is a mail address as it was given, checked, with the display name that goes with
// it. It is a value; the zero Address is empty and belongs to nobody.
type Address struct {
	Name string // as people write it, without quotes; may be empty

	local  string
	domain string // as given: may hold U-labels
	ascii  string // the domain in A-labels and lower case
	phone  string // E.164; empty for a mail address
}

// ParseAddress reads an address without display name, such as mara@ternisle.example.
//
// It takes what RFC 5321 §4.1.2 and RFC 6531 §3.3 call a dot-string at a domain name, and
// diverges from them on purpose: quoted local parts and address literals are refused, since no
// person has one and several programs misread them; a domain needs a dot. Space around the
// address is forgiven, within it is not. Every error matches [ErrAddress].
func ParseAddress(s string) (Address, error) {
	s = strings.Trim(s, " \t")
	if s == "" {
		return Address{}, refuse("it is empty")
	}
	if !utf8.ValidString(s) {
		return Address{}, refuse("it is not valid UTF-8")
	}
	for _, r := range s {
		switch {
		case r > ' ' && r < 0x7f:
		case r == '\r' || r == '\n':
			return Address{}, refuse("it has a line break")
		case unicode.IsSpace(r) || unicode.IsControl(r) || unicode.Is(unicode.Cf, r):
			return Address{}, refuse("it has a space or an invisible character inside")
		}
	}
	if len(s) > maxAddress {
		return Address{},
			refuse(fmt.Sprintf("it has %d bytes, more than the %d that mail allows (RFC 5321 §4.5.3.1.3)", len(s),
				maxAddress))
	}
	at := strings.LastIndexByte(s, '@')
	switch {
	case at < 0:
		return Address{}, refuse("it has no @ and no domain")
	case at == len(s)-1:
		return Address{}, refuse("the domain after the @ is missing")
	case at == 0:
		return Address{}, refuse("the part before the @ is missing")
	}
	a := Address{local: s[:at], domain: strings.TrimSuffix(s[at+1:], ".")}
	if err := checkLocal(a.local); err != nil {
		return Address{}, err
	}
	var err error
	if a.ascii, err = idna.Lookup.ToASCII(a.domain); err != nil || !fullDomain(a.ascii) {
		return Address{}, refuse("the domain is not a full domain name such as ternisle.example")
	}
	if len(a.local)+1+len(a.ascii) > maxAddress {
		return Address{}, refuse("it is too long once its domain is encoded (RFC 5890)")
	}
	return a, nil
}

// fullDomain reports whether an ASCII domain has two labels or more, none of them empty.
func fullDomain(domain string) bool {
	return strings.Contains(domain, ".") && !strings.ContainsAny(domain, "[]:_") &&
		!strings.Contains("."+domain+".", "..")
}

// checkLocal refuses a local part that is not a dot-string.
func checkLocal(local string) error {
	if len(local) > maxLocal {
		return refuse(fmt.Sprintf("the part before the @ has %d bytes, more than %d (RFC 5321 §4.5.3.1.1)", len(local),
			maxLocal))
	}
	if local[0] == '"' {
		return refuse("a quoted part before the @ is not accepted")
	}
	for i := range len(local) {
		if c := local[i]; c < utf8.RuneSelf && !ascii.Atext(c) && c != '.' {
			return refuse(fmt.Sprintf("the character %q may not stand before the @", c))
		}
	}
	if local[0] == '.' || local[len(local)-1] == '.' || strings.Contains(local, "..") {
		return refuse("the part before the @ has a dot at its edge or two in a row")
	}
	return nil
}

func refuse(why string) error { return fmt.Errorf("%w: %s", ErrAddress, why) }

// WithName returns a with a display name, or an error that matches [ErrAddress] if the name
// could not stand in a header: it has a control character or a line break, or is too long.
func (a Address) WithName(name string) (Address, error) {
	name = strings.Trim(name, " \t")
	if !utf8.ValidString(name) {
		return a, refuse("the display name is not valid UTF-8")
	}
	if n := utf8.RuneCountInString(name); n > maxName {
		return a, refuse(fmt.Sprintf("the display name has %d characters, more than %d", n, maxName))
	}
	for _, r := range name {
		if unicode.IsControl(r) || r == '\u2028' || r == '\u2029' {
			return a, refuse("the display name has a line break or another control character")
		}
	}
	a.Name = name
	return a, nil
}

// String returns the address as it was given, without display name.
func (a Address) String() string {
	if a.local == "" {
		return a.phone
	}
	return a.local + "@" + a.domain
}

// Envelope returns the address for the SMTP envelope: the domain in A-labels, so that only a
// non-ASCII local part needs SMTPUTF8.
func (a Address) Envelope() string {
	if a.IsPhone() {
		return a.phone
	}
	return a.local + "@" + a.ascii
}

// Domain returns the domain in A-labels and lower case.
func (a Address) Domain() string { return a.ascii }

// NeedsUTF8 reports whether the address can only travel with SMTPUTF8 (RFC 6531).
func (a Address) NeedsUTF8() bool { return !ascii.Only(a.local) }

// Mailbox returns the form by which two spellings of one mailbox are compared: everything in
// lower case and normalised (NFC, as RFC 6532 §3.1 wants it), the domain in A-labels. RFC 5321 §2.4 would allow a host
// to tell upper from lower case in a local part; none does, and two accounts a capital apart help only an impostor.
func (a Address) Mailbox() string {
	if a.IsPhone() {
		return a.phone
	}
	if ascii.Only(a.local) {
		return strings.ToLower(a.local) + "@" + a.ascii
	}
	return norm.NFC.String(strings.ToLower(a.local)) + "@" + a.ascii
}
