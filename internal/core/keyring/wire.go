// The byte form of a token: pure functions, no keyring, no clock.

package keyring

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"hash"
	"strings"
)

// MaxLen is the greatest length of a token in bytes. Ours are under 500.
const MaxLen = 1024

// typ keeps a link from being taken for any other JWT of the same keyring (RFC 8725 §3.11).
const typ = "illumicode-link+jwt"

var b64 = base64.RawURLEncoding

// encodeHeader returns the protected header of links signed with kid. There is exactly one for
// each key, so Verify compares text and never lets a header choose an algorithm (RFC 8725 §3.1).
func encodeHeader(kid string) string {
	h, err := json.Marshal(struct {
		Alg string `json:"alg"`
		Kid string `json:"kid"`
		Typ string `json:"typ"`
	}{"HS256", kid, typ})
	if err != nil {
		panic(err) // three strings always marshal
	}
	return b64.EncodeToString(h)
}

// split cuts a compact JWS (RFC 7515 §7.1) at its dots; ok is false unless there are exactly two.
func split(tok string) (header, payload, tag string, ok bool) {
	header, rest, _ := strings.Cut(tok, ".")
	payload, tag, ok = strings.Cut(rest, ".")
	return header, payload, tag, ok && header != "" && payload != "" && strings.IndexByte(tag, '.') < 0
}

// tagLen is the length of an encoded HMAC-SHA256.
const tagLen = 43

// A mac is an HMAC state with room to feed and read it without allocating.
type mac struct {
	h   hash.Hash
	buf [MaxLen]byte
}

// sum returns the HMAC of message, which is at most MaxLen bytes or is fed in pieces.
func (m *mac) sum(message string) (out [sha256.Size]byte) {
	m.h.Reset()
	for len(message) > 0 {
		n := copy(m.buf[:], message)
		m.h.Write(m.buf[:n])
		message = message[n:]
	}
	copy(out[:], m.h.Sum(m.buf[:0]))
	return out
}

// tag returns the encoded signature of a signing input (RFC 7515 §5.1).
func (m *mac) tag(signingInput string) (out [tagLen]byte) {
	sum := m.sum(signingInput)
	b64.Encode(out[:], sum[:])
	return out
}
