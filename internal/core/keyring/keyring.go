package keyring

import (
	"crypto/hkdf"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// MinSecret is the least length of a root secret in bytes: the output length of the hash that
// every derived key comes from (RFC 2104 §3).
const MinSecret = 32

// The label of each use. A label is part of the derivation (RFC 5869 §3.2): a key of one use is worth nothing to
// another. Another label would break everything in flight.
const (
	labelLink   = "illumicode/link/1"
	labelCode   = "illumicode/code/1"
	labelBind   = "illumicode/bind/1"
	labelSeal   = "illumicode/seal/1"
	labelIndex  = "illumicode/index/1"
	labelReturn = "illumicode/return/1"
)

// A Keyring holds the root secrets of one service. One active key signs links, and others verify them until a date.
// Further keys sign receipts, and others are for looking addresses up. It is safe for concurrent use, and the whole of
// it can be replaced while it is in use. The zero Keyring has no key; use [NewKeyring] or [ParseKeyring].
type Keyring struct{ now atomic.Pointer[keys] }

// keys is what a keyring holds at a time. It is immutable.
type keys struct {
	all      []*Key // the active one first
	byKid    map[string]*Key
	receipts []*ReceiptKey // the one that signs first; may be empty
	index    []*Key        // the one that new rows are kept under first
	spare    bool          // index is no key of its own, but the oldest of all under another name
}

// A Key is one root secret and what is derived from it. It prints as its kid alone.
type Key struct {
	kid         string
	secret      []byte
	verifyUntil time.Time // zero for the active key

	header string // the one JOSE header this key's links carry, already encoded
	link   *macs
	code   []byte
	bind   *macs
	index  *macs
	path   *macs
	seal   []byte
}

// Until returns until when a key that no longer signs still verifies; zero for no end.
func (k *Key) Until() time.Time { return k.verifyUntil }

// Lookup returns a keyed digest of a mailbox, 128 bits, base64url, under which rows that must be
// found by it are kept without it. It is of the index keys; see [Keyring.Index].
func (k *Key) Lookup(mailbox string) string {
	sum := k.index.sum(mailbox)
	return base64.RawURLEncoding.EncodeToString(sum[:16])
}

// ID returns the key's identifier, stored with everything that was made under it.
func (k *Key) ID() string { return k.kid }

// CodeKey returns the 32-byte key of one-time codes. Do not modify it.
func (k *Key) CodeKey() []byte { return k.code }

// String returns the kid.
func (k Key) String() string { return k.kid }

// Format writes the kid, whatever the verb, of a key and of a pointer to one: no line of a log shows a secret.
func (k Key) Format(f fmt.State, _ rune) { io.WriteString(f, k.kid) }

// GenerateKey returns a new active key with 32 random bytes. Its kid begins with the day of
// now, which helps people, and ends in random digits, which keeps two made on one day apart.
func GenerateKey(now time.Time) *Key {
	secret := make([]byte, MinSecret)
	rand.Read(secret) // never fails: crypto/rand aborts the program instead
	return newKey(newKid(now), secret, time.Time{})
}

func newKid(now time.Time) string {
	tail := make([]byte, 3)
	rand.Read(tail)
	return now.UTC().Format("2006-01-02") + "-" + hex.EncodeToString(tail)
}

func newKey(kid string, secret []byte, until time.Time) *Key {
	k := &Key{kid: kid, secret: secret, verifyUntil: until}
	k.header = encodeHeader(kid)
	k.link = newMACs(derive(secret, labelLink))
	k.code = derive(secret, labelCode)
	k.bind = newMACs(derive(secret, labelBind))
	k.index = newMACs(derive(secret, labelIndex))
	k.path = newMACs(derive(secret, labelReturn))
	k.seal = derive(secret, labelSeal)
	return k
}

// derive returns 32 bytes for one use of secret. It uses no salt, as the secret is
// uniformly random (RFC 5869 §3.1).
func derive(secret []byte, label string) []byte {
	key, err := hkdf.Key(sha256.New, secret, nil, label, sha256.Size)
	if err != nil {
		panic(err) // only for a length over 255 hashes, and ours is one
	}
	return key
}

// NewKeyring returns a keyring of keys. The first signs, and the others verify.
func NewKeyring(all ...*Key) (*Keyring, error) {
	return newKeyring(all, nil, nil)
}

func newKeyring(all []*Key, receipts []*ReceiptKey, index []*Key) (*Keyring, error) {
	if len(all) == 0 {
		return nil, errors.New("token: a keyring needs at least one key")
	}
	k := &keys{all: all, byKid: make(map[string]*Key, len(all)), receipts: receipts, index: index}
	if len(index) == 0 {
		oldest := all[len(all)-1]
		k.index, k.spare = []*Key{newKey(oldest.kid+"-index", oldest.secret, time.Time{})}, true
	}
	kids := make(map[string]bool)
	for _, kid := range k.kids() {
		if kids[kid] {
			return nil, fmt.Errorf("token: two keys have the kid %q", kid)
		}
		kids[kid] = true
	}
	for _, one := range all {
		k.byKid[one.kid] = one
	}
	r := new(Keyring)
	r.now.Store(k)
	return r, nil
}

func (k *keys) kids() (all []string) {
	for _, one := range slices.Concat(k.all, k.index) {
		all = append(all, one.kid)
	}
	for _, one := range k.receipts {
		all = append(all, one.kid)
	}
	return all
}

// Replace makes the keyring hold what other does, at once and for everybody who uses it.
func (r *Keyring) Replace(other *Keyring) { r.now.Store(other.now.Load()) }

// Active returns the key that signs.
func (r *Keyring) Active() *Key { return r.now.Load().all[0] }

// Keys returns all keys that sign or verify links, the active one first.
func (r *Keyring) Keys() []*Key { return slices.Clone(r.now.Load().all) }

// Receipts returns the keys of receipts, the one that signs first.
func (r *Keyring) Receipts() []*ReceiptKey { return slices.Clone(r.now.Load().receipts) }

// Index returns the keys under which addresses are looked up, the one for new rows first. A keyring
// without one of its own has its oldest key for it, which the first rotation keeps.
func (r *Keyring) Index() []*Key { return slices.Clone(r.now.Load().index) }

// Key returns the key with this kid if it may still verify at now, or [ErrUnknownKey].
func (r *Keyring) Key(kid string, now time.Time) (*Key, error) {
	k := r.now.Load().byKid[kid]
	if k == nil || !k.verifyUntil.IsZero() && !now.Before(k.verifyUntil) {
		return nil, fmt.Errorf("%w: kid %q", ErrUnknownKey, kid)
	}
	return k, nil
}

// Has reports whether the keyring has a key with this kid, whether or not it may still verify.
func (r *Keyring) Has(kid string) bool { return r.now.Load().byKid[kid] != nil }

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

// String returns the ids of all keys.
func (r *Keyring) String() string { return strings.Join(r.now.Load().kids(), ", ") }
