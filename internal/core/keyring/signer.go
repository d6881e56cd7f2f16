package keyring

import (
	"cmp"
	"crypto/subtle"
	"encoding/json"
	"fmt"
	"slices"
	"time"
)

// Claims are what a link says (RFC 7519 §4.1). No address is among them: links end up in logs.
type Claims struct {
	Issuer    string `json:"iss"` // the base URL of the site
	Purpose   string `json:"aud"`
	Challenge string `json:"sub"`
	IssuedAt  int64  `json:"iat"` // Unix seconds
	Expires   int64  `json:"exp"` // Unix seconds; the first second in which the token is refused
	ID        string `json:"jti"`
	Bound     string `json:"bnd"`           // what binds the row that the link is about
	Action    string `json:"act,omitempty"` // digest of the one thing that the link is good for

	kid string
}

// KeyID returns the kid of the key that signed verified claims.
func (c Claims) KeyID() string { return c.kid }

// A Signer issues and checks the links of one site for some purposes, such as "signup". It is
// immutable and safe for concurrent use. Use [NewSigner]: the zero Signer has no keys.
type Signer struct {
	ring     *Keyring
	issuer   string
	purposes []string
}

// NewSigner returns a Signer for the links of the site at issuer. It refuses links of other
// purposes than these, of which there is one at least.
func NewSigner(ring *Keyring, issuer string, purposes ...string) *Signer {
	return &Signer{ring: ring, issuer: issuer, purposes: purposes}
}

// Sign returns the token for c under key. Issuer is set by the signer, whatever c holds; Purpose
// is the signer's first if c has none, and panics if it is none of the signer's. The same claims
// and key give the same bytes.
func (s *Signer) Sign(key *Key, c Claims) string {
	c.Issuer, c.Purpose = s.issuer, cmp.Or(c.Purpose, s.purposes[0])
	if !slices.Contains(s.purposes, c.Purpose) {
		panic("token: a signer was asked to sign for purpose " + c.Purpose)
	}
	payload, err := json.Marshal(c)
	if err != nil {
		panic(err) // strings and integers always marshal
	}
	input := key.header + "." + b64.EncodeToString(payload)
	m := key.link.pool.Get().(*mac)
	defer key.link.pool.Put(m)
	tag := m.tag(input)
	return input + "." + string(tag[:])
}

// Verify returns the claims of tok if this signer's keyring signed it for this site and one of its
// purposes, which Claims.Purpose then is, and now is before its expiry.
//
// tok is a compact JWS of at most [MaxLen] bytes. Times compare in whole Unix seconds with no
// leeway: the second of expiry is too late. The error matches [ErrMalformed], [ErrUnknownKey],
// [ErrForged], [ErrPurpose] or [ErrExpired], checked in that order; no JSON of the payload is
// read before the signature fits. Tags compare in constant time. Nothing is recorded. With
// [ErrExpired] the claims are returned too, so that a page can say what has expired; with every
// other error they are zero.
func (s *Signer) Verify(tok string, now time.Time) (Claims, error) {
	header, payload, tag, ok := split(tok)
	if len(tok) > MaxLen || !ok || len(tag) != tagLen {
		return Claims{}, ErrMalformed
	}
	key, err := s.keyFor(header, now)
	if err != nil {
		return Claims{}, err
	}
	m := key.link.pool.Get().(*mac)
	defer key.link.pool.Put(m)
	want := m.tag(tok[:len(header)+1+len(payload)])
	// The encoded forms are compared, so a tag has one spelling only.
	if n := copy(m.buf[:], tag); subtle.ConstantTimeCompare(m.buf[:n], want[:]) != 1 {
		return Claims{}, ErrForged
	}
	n := copy(m.buf[:], payload)
	n, err = b64.Decode(m.buf[:], m.buf[:n])
	if err != nil {
		return Claims{}, ErrMalformed
	}
	var c Claims
	if err := json.Unmarshal(m.buf[:n], &c); err != nil {
		return Claims{}, ErrMalformed
	}
	if c.Issuer != s.issuer || !slices.Contains(s.purposes, c.Purpose) {
		return Claims{}, ErrPurpose
	}
	c.kid = key.kid
	if now.Unix() >= c.Expires {
		return c, ErrExpired
	}
	return c, nil
}

// keyFor finds the key whose one header this is. A header that is none of ours is refused
// whatever it says; it is read only to tell a retired key from nonsense.
func (s *Signer) keyFor(header string, now time.Time) (*Key, error) {
	for _, k := range s.ring.now.Load().all {
		if k.header == header {
			return s.ring.Key(k.kid, now)
		}
	}
	raw, err := b64.DecodeString(header)
	if err != nil {
		return nil, ErrMalformed
	}
	var h struct{ Kid string }
	if json.Unmarshal(raw, &h) != nil || !validKid(h.Kid) || encodeHeader(h.Kid) != header {
		return nil, ErrMalformed
	}
	return nil, fmt.Errorf("%w: kid %q", ErrUnknownKey, h.Kid)
}
