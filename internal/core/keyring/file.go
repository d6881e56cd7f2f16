package keyring

import (
	"bytes"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"
)

// A jwk is one member of the keyring file: a symmetric key as a JWK (RFC 7518 §6.4), or an Ed25519
// key pair (RFC 8037 §2), with members of our own, which RFC 7517 §4 allows and other readers ignore.
type jwk struct {
	Kty         string    `json:"kty"`
	Kid         string    `json:"kid"`
	K           string    `json:"k,omitempty"`
	Crv         string    `json:"crv,omitempty"`
	X           string    `json:"x,omitempty"`
	D           string    `json:"d,omitempty"`
	Use         string    `json:"illumicode_use,omitempty"` // empty for links and codes, "receipt" or "index"
	Status      string    `json:"illumicode_status"`        // "active" or "verify"
	VerifyUntil time.Time `json:"illumicode_verify_until,omitzero"`
}

type jwkSet struct {
	Keys []jwk `json:"keys"`
}

// ParseKeyring reads a keyring file: a JWK Set (RFC 7517 §5). Errors name the key by its place and
// kid and never hold the secret.
func ParseKeyring(file []byte) (*Keyring, error) {
	var set jwkSet
	dec := json.NewDecoder(bytes.NewReader(file))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&set); err != nil {
		return nil, errors.New("token: the keyring is not a JWK Set (RFC 7517) as `illumicode keys new` writes it")
	}
	var links, index []*Key
	var receipts []*ReceiptKey
	active := make(map[string]bool) // by use
	for i, j := range set.Keys {
		wrong := func(format string, args ...any) error {
			return fmt.Errorf("token: keyring, key %d (kid %q): %w", i+1, j.Kid, fmt.Errorf(format, args...))
		}
		if why := j.wrong(); why != "" {
			return nil, wrong("%s", why)
		}
		if j.Status == "active" && active[j.Use] {
			return nil, wrong("a second active key; only one may sign")
		}
		first := 0 // the active one comes first
		if j.Status == "verify" {
			first = 1 << 30
		}
		active[j.Use] = active[j.Use] || j.Status == "active"
		if j.Use == "receipt" {
			key, err := j.receipt()
			if err != nil {
				return nil, wrong("%w", err)
			}
			receipts = slices.Insert(receipts, min(first, len(receipts)), key)
			continue
		}
		secret, err := j.secret()
		if err != nil {
			return nil, wrong("%w", err)
		}
		key := newKey(j.Kid, secret, j.VerifyUntil)
		if j.Use == "index" {
			index = slices.Insert(index, min(first, len(index)), key)
		} else {
			links = slices.Insert(links, min(first, len(links)), key)
		}
	}
	switch {
	case !active[""]:
		return nil, errors.New("token: the keyring has no active key; make one with `illumicode keys new`")
	case len(receipts) > 0 && !active["receipt"] || len(index) > 0 && !active["index"]:
		return nil, errors.New(`token: the keyring has keys for receipts or lookups, and none of them is "active"`)
	}
	return newKeyring(links, receipts, index)
}

// wrong says what cannot be read of a key, if anything.
func (j jwk) wrong() string {
	kty := "oct"
	if j.Use == "receipt" {
		kty = "OKP"
	}
	switch {
	case j.Use != "" && j.Use != "receipt" && j.Use != "index":
		return fmt.Sprintf(`illumicode_use is %q, want none, "receipt" or "index"`, j.Use)
	case j.Kty != kty:
		return fmt.Sprintf("kty is %q, want %q", j.Kty, kty)
	case !validKid(j.Kid):
		return "a kid is 1 to 64 letters, digits, '-', '_' or '.'"
	case j.Status != "active" && j.Status != "verify":
		return fmt.Sprintf(`illumicode_status is %q, want "active" or "verify"`, j.Status)
	}
	return ""
}

// receipt returns the key of a pair that signs receipts.
func (j jwk) receipt() (*ReceiptKey, error) {
	seed, err := base64.RawURLEncoding.DecodeString(j.D)
	if err != nil || len(seed) != ed25519.SeedSize || j.Crv != "Ed25519" {
		return nil, fmt.Errorf("crv is Ed25519, and d its %d bytes in base64url without padding", ed25519.SeedSize)
	}
	key := newReceiptKey(j.Kid, seed, j.VerifyUntil)
	if base64.RawURLEncoding.EncodeToString(key.Public()) != j.X {
		return nil, errors.New("x is not the public key of d")
	}
	return key, nil
}

// secret returns the bytes of a key that is a secret.
func (j jwk) secret() ([]byte, error) {
	secret, err := base64.RawURLEncoding.DecodeString(j.K)
	switch {
	case err != nil:
		return nil, errors.New("k is not base64url without padding")
	case len(secret) < MinSecret:
		return nil, fmt.Errorf("the secret has %d bytes, want at least %d", len(secret), MinSecret)
	}
	return secret, nil
}

// Marshal returns the keyring file. It holds the secrets: write it readable by its owner only.
func (r *Keyring) Marshal() []byte {
	k := r.now.Load()
	var set jwkSet
	add := func(i int, j jwk) {
		j.Status = "verify"
		if i == 0 {
			j.Status = "active"
		}
		set.Keys = append(set.Keys, j)
	}
	for i, one := range k.all {
		add(i, jwk{Kty: "oct", Kid: one.kid, K: base64.RawURLEncoding.EncodeToString(one.secret),
			VerifyUntil: one.verifyUntil})
	}
	for i, one := range k.index {
		if k.spare {
			break
		}
		add(i, jwk{Kty: "oct", Kid: one.kid, K: base64.RawURLEncoding.EncodeToString(one.secret), Use: "index",
			VerifyUntil: one.verifyUntil})
	}
	for i, one := range k.receipts {
		add(i, jwk{Kty: "OKP", Crv: "Ed25519", Kid: one.kid, X: base64.RawURLEncoding.EncodeToString(one.Public()),
			D: base64.RawURLEncoding.EncodeToString(one.private.Seed()), Use: "receipt", VerifyUntil: one.until})
	}
	out, err := json.MarshalIndent(set, "", "  ")
	if err != nil {
		panic(err) // strings and times of this package always marshal
	}
	return append(out, '\n')
}
