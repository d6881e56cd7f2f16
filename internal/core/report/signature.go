package report

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// A Signature says how a provider signs what it POSTs: HMAC-SHA256 (RFC 2104) with a key that both
// know.
type Signature struct {
	Key    []byte // of 16 bytes or more
	Header string // the field that holds it
	Prefix string // that stands before it there, such as sha256=; may be empty
	Base64 bool   // it is in base64, and not in hexadecimal
	// the field with the time of signing in Unix seconds, signed in front of the body as TIME.BODY; empty means that
	// the body alone is signed
	Timestamp string
}

// ErrSignature matches every refusal of a signature.
var ErrSignature = errors.New("report: the signature does not hold")

// Tolerance is how old a signed time may be, or how far ahead: more than clocks differ, and little
// enough that who has overheard a POST cannot keep it.
const Tolerance = 5 * time.Minute

// Check says what is wrong with the description, if anything is.
func (s Signature) Check() error {
	switch {
	case len(s.Key) < 16:
		return errors.New(
			"the key has less than 16 bytes; with such a key anybody can report a bounce in the provider's name")
	case s.Header == "":
		return errors.New("signature is missing: name the field that holds the signature")
	}
	return nil
}

// Verify returns nil if the body was signed with the key, in constant time. field returns a header
// field's value. The error matches [ErrSignature] and says which part failed.
func (s Signature) Verify(body []byte, field func(string) string, now time.Time) error {
	h := hmac.New(sha256.New, s.Key)
	if s.Timestamp != "" {
		stamp := field(s.Timestamp)
		at, err := strconv.ParseInt(stamp, 10, 64)
		if err != nil {
			return fmt.Errorf("%w: %s is no Unix time", ErrSignature, s.Timestamp)
		}
		if age := now.Sub(time.Unix(at, 0)); age > Tolerance || age < -Tolerance {
			return fmt.Errorf("%w: it is from %v away, more than %v", ErrSignature, age.Round(time.Second), Tolerance)
		}
		h.Write([]byte(stamp + "."))
	}
	h.Write(body)
	text, ok := strings.CutPrefix(strings.TrimSpace(field(s.Header)), s.Prefix)
	decode := hex.DecodeString
	if s.Base64 {
		decode = base64.StdEncoding.DecodeString
	}
	given, err := decode(text)
	if !ok || err != nil || len(given) == 0 {
		return fmt.Errorf("%w: the field %s is missing, or not as it should be written", ErrSignature, s.Header)
	}
	if !hmac.Equal(given, h.Sum(nil)) {
		return ErrSignature
	}
	return nil
}
