package token

import (
	"bytes"
	"crypto/hkdf"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"
)

// MinSecret is the least length of a root secret in bytes: the output length of the hash that
// every derived key comes from (RFC 2104 §3).
const MinSecret = 32

// The label of each use. A label is part of the derivation (RFC 5869 §3.2), so that a key of
// one use is worth nothing to another; changing one breaks everything in flight.
const (
	labelLink    = "illumicode/link/1"
	labelCode    = "illumicode/code/1"
	labelAddress = "illumicode/address/1"
	labelSeal    = "illumicode/seal/1"
)

// A Keyring holds the root secrets of one service: one active key that signs, and others that
// only verify until a date. It is immutable and safe for concurrent use. The zero Keyring has
// no key; use [NewKeyring] or [ParseKeyring].
type Keyring struct {
	active *Key
	keys   []*Key
	byKid  map[string]*Key
}

// A Key is one root secret and what is derived from it. It prints as its kid alone.
type Key struct {
	kid         string
	secret      []byte
	verifyUntil time.Time // zero for the active key

	header string // the one JOSE header this key's links carry, already encoded
	link   *macs
	code   []byte
	adr    *macs
	seal   []byte
}

// ID returns the key's identifier, stored with everything that was made under it.
func (k *Key) ID() string { return k.kid }

// CodeKey returns the 32-byte key from which one-time codes are derived. Do not modify it.
func (k *Key) CodeKey() []byte { return k.code }

// Thumbprint returns a keyed digest of the exact address: 128 bits, base64url. Two addresses
// that differ in one byte have unrelated thumbprints, and without the key nobody can test a
// guessed address against one.
func (k *Key) Thumbprint(address string) string {
	sum := k.adr.sum(address)
	return base64.RawURLEncoding.EncodeToString(sum[:16])
}

// String returns the kid, so that a key in a log line shows no secret.
func (k *Key) String() string { return k.kid }

// GoString is String: %#v must not walk into the secret either.
func (k *Key) GoString() string { return k.kid }

// GenerateKey returns a new active key with 32 random bytes. Its kid begins with the day of
// now, which helps people, and ends in random digits, which keeps two made on one day apart.
func GenerateKey(now time.Time) *Key {
	secret := make([]byte, MinSecret)
	rand.Read(secret) // never fails: crypto/rand aborts the program instead
	tail := make([]byte, 3)
	rand.Read(tail)
	return newKey(now.UTC().Format("2006-01-02")+"-"+hex.EncodeToString(tail), secret, time.Time{})
}

func newKey(kid string, secret []byte, until time.Time) *Key {
	k := &Key{kid: kid, secret: secret, verifyUntil: until}
	k.header = encodeHeader(kid)
	k.link = newMACs(derive(secret, labelLink))
	k.code = derive(secret, labelCode)
	k.adr = newMACs(derive(secret, labelAddress))
	k.seal = derive(secret, labelSeal)
	return k
}

// derive returns 32 bytes for one use of secret. No salt: the secret is uniformly random, for
// which RFC 5869 §3.1 allows leaving it out.
func derive(secret []byte, label string) []byte {
	key, err := hkdf.Key(sha256.New, secret, nil, label, sha256.Size)
	if err != nil {
		panic(err) // only for a length over 255 hashes, and ours is one
	}
	return key
}

// NewKeyring returns a keyring of keys, of which the first signs and the others verify.
func NewKeyring(keys ...*Key) (*Keyring, error) {
	if len(keys) == 0 {
		return nil, errors.New("token: a keyring needs at least one key")
	}
	r := &Keyring{active: keys[0], keys: keys, byKid: make(map[string]*Key, len(keys))}
	for _, k := range keys {
		if r.byKid[k.kid] != nil {
			return nil, fmt.Errorf("token: two keys have the kid %q", k.kid)
		}
		r.byKid[k.kid] = k
	}
	return r, nil
}

// Active returns the key that signs.
func (r *Keyring) Active() *Key { return r.active }

// Keys returns all keys, the active one first.
func (r *Keyring) Keys() []*Key { return append([]*Key(nil), r.keys...) }

// Key returns the key with this kid if it may still verify at now, or [ErrUnknownKey].
func (r *Keyring) Key(kid string, now time.Time) (*Key, error) {
	k := r.byKid[kid]
	if k == nil || !k.verifyUntil.IsZero() && !now.Before(k.verifyUntil) {
		return nil, fmt.Errorf("%w: kid %q", ErrUnknownKey, kid)
	}
	return k, nil
}

// A jwk is one member of the keyring file: a symmetric key as a JWK (RFC 7518 §6.4) with two
// members of our own, which RFC 7517 §4 allows and other readers ignore.
type jwk struct {
	Kty         string    `json:"kty"`
	Kid         string    `json:"kid"`
	K           string    `json:"k"`
	Status      string    `json:"illumicode_status"` // "active" or "verify"
	VerifyUntil time.Time `json:"illumicode_verify_until,omitzero"`
}

type jwkSet struct {
	Keys []jwk `json:"keys"`
}

// ParseKeyring reads a keyring file: a JWK Set (RFC 7517 §5) of symmetric keys. Errors name
// the key by its place and kid and never hold the secret.
func ParseKeyring(file []byte) (*Keyring, error) {
	var set jwkSet
	dec := json.NewDecoder(bytes.NewReader(file))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&set); err != nil {
		return nil, errors.New("token: the keyring is not a JWK Set (RFC 7517) as `illumicode keys new` writes it")
	}
	var active *Key
	var others []*Key
	for i, j := range set.Keys {
		where := fmt.Sprintf("token: keyring, key %d (kid %q)", i+1, j.Kid)
		secret, err := base64.RawURLEncoding.DecodeString(j.K)
		switch {
		case j.Kty != "oct":
			return nil, fmt.Errorf("%s: kty is %q, want \"oct\"", where, j.Kty)
		case !validKid(j.Kid):
			return nil, fmt.Errorf("%s: a kid is 1 to 64 letters, digits, '-', '_' or '.'", where)
		case err != nil:
			return nil, fmt.Errorf("%s: k is not base64url without padding", where)
		case len(secret) < MinSecret:
			return nil, fmt.Errorf("%s: the secret has %d bytes, want at least %d", where, len(secret), MinSecret)
		}
		switch j.Status {
		case "active":
			if active != nil {
				return nil, fmt.Errorf("%s: a second active key; only one may sign", where)
			}
			active = newKey(j.Kid, secret, time.Time{})
		case "verify":
			others = append(others, newKey(j.Kid, secret, j.VerifyUntil))
		default:
			return nil, fmt.Errorf("%s: illumicode_status is %q, want \"active\" or \"verify\"", where, j.Status)
		}
	}
	if active == nil {
		return nil, errors.New("token: the keyring has no active key; make one with `illumicode keys new`")
	}
	return NewKeyring(append([]*Key{active}, others...)...)
}

// Marshal returns the keyring file. It holds the secrets: write it readable by its owner only.
func (r *Keyring) Marshal() []byte {
	var set jwkSet
	for _, k := range r.keys {
		status := "verify"
		if k == r.active {
			status = "active"
		}
		set.Keys = append(set.Keys, jwk{
			Kty: "oct", Kid: k.kid, K: base64.RawURLEncoding.EncodeToString(k.secret),
			Status: status, VerifyUntil: k.verifyUntil,
		})
	}
	out, err := json.MarshalIndent(set, "", "  ")
	if err != nil {
		panic(err) // strings and times of this package always marshal
	}
	return append(out, '\n')
}

// validKid keeps a kid harmless in a header, a column and a log line.
func validKid(kid string) bool {
	if kid == "" || len(kid) > 64 {
		return false
	}
	for _, c := range []byte(kid) {
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_' || c == '.') {
			return false
		}
	}
	return true
}

// macs hands out HMAC-SHA256 states of one key. Setting up a state costs two hash blocks and
// several allocations, more than a short message does, so states are kept and reset.
type macs struct{ pool sync.Pool }

func newMACs(key []byte) *macs {
	return &macs{pool: sync.Pool{New: func() any { return &mac{h: hmac.New(sha256.New, key)} }}}
}

func (m *macs) sum(message string) [sha256.Size]byte {
	s := m.pool.Get().(*mac)
	defer m.pool.Put(s)
	return s.sum(message)
}
