package keyring

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"
)

// ReceiptLife is the longest life of a receipt.
const ReceiptLife = 5 * time.Minute

// receiptTyp keeps a receipt from being taken for any other JWT (RFC 8725 §3.11).
const receiptTyp = "illumicode-receipt+jwt"

// A ReceiptKey signs receipts: an Ed25519 key pair. It prints as its kid alone.
type ReceiptKey struct {
	kid     string
	private ed25519.PrivateKey
	until   time.Time // zero for the one that signs
	header  string
}

// GenerateReceiptKey returns a new key for receipts.
func GenerateReceiptKey(now time.Time) *ReceiptKey {
	seed := make([]byte, ed25519.SeedSize)
	rand.Read(seed)
	return newReceiptKey(newKid(now), seed, time.Time{})
}

func newReceiptKey(kid string, seed []byte, until time.Time) *ReceiptKey {
	header, err := json.Marshal(map[string]string{"alg": "EdDSA", "kid": kid, "typ": receiptTyp})
	if err != nil {
		panic(err) // strings always marshal
	}
	return &ReceiptKey{kid: kid, private: ed25519.NewKeyFromSeed(seed), until: until,
		header: b64.EncodeToString(header)}
}

// ID returns the key's identifier.
func (k *ReceiptKey) ID() string { return k.kid }

// Until returns until when others should still accept what a key has signed that no longer does.
func (k *ReceiptKey) Until() time.Time { return k.until }

// Public returns the public key.
func (k *ReceiptKey) Public() ed25519.PublicKey { return k.private.Public().(ed25519.PublicKey) }

// String returns the kid.
func (k ReceiptKey) String() string { return k.kid }

// Format writes the kid, whatever the verb, as that of [Key] does.
func (k ReceiptKey) Format(f fmt.State, _ rune) { io.WriteString(f, k.kid) }

// A Receipt is what another service is told of an accepted proof (RFC 7519 §4.1).
type Receipt struct {
	Issuer   string `json:"iss"` // the base URL of the site
	Audience string `json:"aud"` // the service that it is for
	Subject  string `json:"sub"` // the application's identifier of the account
	IssuedAt int64  `json:"iat"` // Unix seconds
	Expires  int64  `json:"exp"` // Unix seconds; ReceiptLife after IssuedAt at most
	ID       string `json:"jti"` // the challenge
	Purpose  string `json:"purpose"`
	Action   string `json:"act,omitempty"` // digest of the one thing that it is good for
}

// ErrNoReceiptKey means that the keyring has no key for receipts.
var ErrNoReceiptKey = errors.New(
	"token: the keyring has no key for receipts; make one with `illumicode keys rotate --use receipt`")

// SignReceipt returns the receipt as a JWS (RFC 7515, with EdDSA of RFC 8037 §3.1), which whoever has
// the keys of [Keyring.JWKS] can check. The error is [ErrNoReceiptKey].
func (r *Keyring) SignReceipt(c Receipt) (string, error) {
	k := r.now.Load()
	if len(k.receipts) == 0 {
		return "", ErrNoReceiptKey
	}
	key := k.receipts[0]
	c.Expires = min(c.Expires, c.IssuedAt+int64(ReceiptLife/time.Second))
	payload, err := json.Marshal(c)
	if err != nil {
		panic(err) // strings and integers always marshal
	}
	input := key.header + "." + b64.EncodeToString(payload)
	return input + "." + b64.EncodeToString(ed25519.Sign(key.private, []byte(input))), nil
}

// JWKS returns the public keys of receipts as a JWK Set (RFC 7517 §5, RFC 8037 §2) for other
// services: those that sign or were used until lately, and nothing else of the keyring.
func (r *Keyring) JWKS(now time.Time) []byte {
	type public struct {
		Kty string `json:"kty"`
		Crv string `json:"crv"`
		X   string `json:"x"`
		Kid string `json:"kid"`
		Use string `json:"use"`
		Alg string `json:"alg"`
	}
	set := struct {
		Keys []public `json:"keys"`
	}{Keys: []public{}}
	for _, k := range r.now.Load().receipts {
		if k.until.IsZero() || now.Before(k.until) {
			set.Keys = append(set.Keys, public{"OKP", "Ed25519", base64.RawURLEncoding.EncodeToString(k.Public()),
				k.kid, "sig", "EdDSA"})
		}
	}
	out, err := json.MarshalIndent(set, "", "  ")
	if err != nil {
		panic(err) // strings always marshal
	}
	return append(out, '\n')
}
