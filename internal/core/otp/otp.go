// Package otp derives, prints and reads one-time codes: short runs of digits that a person
// copies from a letter. [Derive] is the function to read first.
//
// A code is not stored anywhere. It is derived from a key, the challenge it belongs to and a
// generation number, so it can be made again for a resend and compared at any time. The
// truncation is that of HOTP (RFC 4226 §5.3) over HMAC-SHA256, as RFC 6238 §1.2 allows.
// Counting tries and expiry is the business of package challenge.
package otp

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"unicode"
)

// The lengths of a code that [Derive] accepts. Below six a guess succeeds too often; above nine
// the 31 bits of the truncation no longer fill the digits.
const (
	MinDigits = 6
	MaxDigits = 9
)

// ErrNotACode is returned by [Parse] for input that no code can look like. It costs no try.
var ErrNotACode = errors.New("otp: not a code: digits are missing, too many, or mixed with something else")

// Derive returns the code of one generation of a challenge: digits decimal digits, zeros in
// front included. The same arguments give the same code. It panics if digits is outside
// [MinDigits, MaxDigits], which a policy has refused long before.
func Derive(key []byte, challenge string, generation, digits int) string {
	if digits < MinDigits || digits > MaxDigits {
		panic(fmt.Sprintf("otp: %d digits", digits))
	}
	m := hmac.New(sha256.New, key)
	var n [8]byte
	binary.BigEndian.PutUint64(n[:], uint64(generation))
	m.Write(n[:]) // fixed length, so no challenge id can pose as a longer counter
	m.Write([]byte(challenge))
	return fmt.Sprintf("%0*d", digits, truncate(m.Sum(nil))%pow10(digits))
}

// truncate is the dynamic truncation of RFC 4226 §5.3: 31 bits at an offset that the last byte
// chooses. It works on a hash of any length, as RFC 6238 uses it.
func truncate(sum []byte) uint32 {
	offset := sum[len(sum)-1] & 0xf
	return binary.BigEndian.Uint32(sum[offset:]) & 0x7fffffff
}

func pow10(n int) uint32 {
	p := uint32(1)
	for range n {
		p *= 10
	}
	return p
}

// Equal compares two codes in time that depends on their lengths only.
func Equal(a, b string) bool {
	return subtle.ConstantTimeCompare([]byte(a), []byte(b)) == 1
}

// Format returns code in groups that are easy to copy: "482 913", "4829 1307".
func Format(code string) string {
	half := (len(code) + 1) / 2
	if len(code) == 9 {
		return code[:3] + " " + code[3:6] + " " + code[6:]
	}
	return code[:half] + " " + code[half:]
}

// Parse returns the digits of what a person typed. It forgives white space of any kind, dashes,
// dots, and digits of other scripts and widths; everything else, or another count than digits,
// is [ErrNotACode].
func Parse(typed string, digits int) (string, error) {
	if len(typed) > 64 {
		return "", ErrNotACode
	}
	var b strings.Builder
	for _, r := range typed {
		switch {
		case unicode.IsSpace(r) || unicode.Is(unicode.Pd, r) || r == '.' || r == '\u200b' || r == '\u2212':
		case unicode.IsDigit(r):
			b.WriteByte('0' + digitValue(r))
		default:
			return "", ErrNotACode
		}
	}
	if b.Len() != digits {
		return "", ErrNotACode
	}
	return b.String(), nil
}

// digitValue returns the value of a decimal digit of any script. Unicode keeps the ten digits
// of a script contiguous and in order (The Unicode Standard, §4.6), so the value is the
// distance to the nearest rune below that is no digit, or to a multiple of ten in a longer run.
func digitValue(r rune) byte {
	start := r
	for unicode.IsDigit(start - 1) {
		start--
	}
	return byte((r - start) % 10)
}
