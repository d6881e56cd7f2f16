// Package token holds the keyring of a service: the root secrets from which the keys of its links, codes, receipts and
// look-ups are derived. [Keyring] is the type to read first.
//
// A keyring file is a JWK Set (RFC 7517). Keys derive from its secrets by HKDF-SHA256 (RFC 5869), one for each use.
// What they sign, the rest of the library makes and checks; other services check receipts with [Keyring.JWKS] alone.
package token

import (
	"fmt"
	"time"

	"github.com/illumicode/illumicode/internal/core/keyring"
)

// inside lets the other packages of this module reach the keys.
//
//lint:ignore U1000 embedded for its methods, which only this module can call
type inside = keyring.Held

// A Keyring holds the secrets of one service: one active key that signs, and others that only verify until a date; the
// keys that sign receipts; and those under which addresses are looked up. It is safe for concurrent use, and the whole
// of it can be replaced while it is in use. It prints as the ids of its keys. The zero Keyring has no key and is
// refused wherever one is needed; use [Generate] or [Parse].
type Keyring struct {
	//lint:ignore U1000 embedded for its methods, which only this module can call
	inside
}

func made(ring *keyring.Keyring, err error) (*Keyring, error) {
	if err != nil {
		return nil, err
	}
	public := new(Keyring)
	keyring.Publish(public, ring)
	return public, nil
}

// Generate returns a keyring with one new key of 32 random bytes. The key's id begins with the day of now.
func Generate(now time.Time) *Keyring {
	ring, err := made(keyring.NewKeyring(keyring.GenerateKey(now)))
	if err != nil {
		panic(err) // one key is enough, and its id differs from every other
	}
	return ring
}

// Parse reads a keyring file, as `illumicode keys new` and [Keyring.Marshal] write it. Errors name the key by its place
// and id, and never hold a secret.
func Parse(file []byte) (*Keyring, error) { return made(keyring.ParseKeyring(file)) }

// Marshal returns the keyring file. It holds the secrets: write it readable by its owner only.
func (r *Keyring) Marshal() []byte { return keyring.Of(r).Marshal() }

// A Use is what keys of a keyring are for.
type Use string

// The uses.
const (
	ForLinks    Use = "link"    // links, codes, and what is sealed
	ForReceipts Use = "receipt" // receipts for other services
	ForLookups  Use = "index"   // digests that rows are found by
)

// Add returns a keyring with a new key of a use, and its id; r stays as it is. The key signs nothing yet, unless it is
// the first for receipts: bring the keyring to every process, then [Keyring.Activate] the key there.
func (r *Keyring) Add(use Use, now time.Time) (next *Keyring, id string, err error) {
	ring, id, err := keyring.Of(r).Add(keyring.Use(use), now)
	next, err = made(ring, err)
	return next, id, err
}

// Activate returns a keyring in which the key of an id signs, of those of its use; r stays as it is. The one that was
// active verifies until then, or, of lookups, for ever. Keys whose time is over at now are left out. The error matches
// [ErrUnknownKey], or says that the key is active already.
func (r *Keyring) Activate(id string, now, until time.Time) (*Keyring, error) {
	return made(keyring.Of(r).Activate(id, now, until))
}

// Without returns a keyring without the key of an id. The error says why it must stay, or matches [ErrUnknownKey].
func (r *Keyring) Without(id string) (*Keyring, error) { return made(keyring.Of(r).Without(id)) }

// Replace makes r hold what other does, at once and for everybody who uses it.
func (r *Keyring) Replace(other *Keyring) { keyring.Of(r).Replace(keyring.Of(other)) }

// JWKS returns the public keys of receipts as a JWK Set (RFC 7517 §5, RFC 8037 §2) for other services: those that sign
// or were used until lately, and nothing else of the keyring.
func (r *Keyring) JWKS(now time.Time) []byte { return keyring.Of(r).JWKS(now) }

// What calls of this library return about keys.
var (
	ErrUnknownKey   = keyring.ErrUnknownKey   // the keyring has no key of this id
	ErrNoReceiptKey = keyring.ErrNoReceiptKey // the keyring has no key for receipts
)

// Format prints the ids of the keys, whatever the verb: no form of a keyring in a log shows a secret.
func (r *Keyring) Format(f fmt.State, _ rune) { fmt.Fprintf(f, "keyring of %v", keyring.Of(r)) }
