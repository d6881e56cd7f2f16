// Package dkim signs letters (RFC 6376, RFC 8463), so that who receives them can tell that they
// come from the domain that they claim. [Signer] is the type to read first.
//
// The work is done by a well-kept library; this package chooses what is signed and how.
package dkim

import (
	"bufio"
	"crypto"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"

	msgdkim "github.com/emersion/go-msgauth/dkim"
)

// MinRSA is the least length of an RSA key in bits: RFC 8301 §3.2 wants 1024 at the very least
// and 2048 in practice, and receivers have stopped taking less.
const MinRSA = 2048

// A Key is a private key and where its public half is published: at
// SELECTOR._domainkey.DOMAIN. It prints without the key.
type Key struct {
	Domain   string
	Selector string
	private  crypto.Signer
}

// String returns where the public key is published.
func (k Key) String() string { return k.Selector + "._domainkey." + k.Domain }

// GoString is String.
func (k Key) GoString() string { return k.String() }

// ParseKey reads a private key in PEM: PKCS #8 with RSA or Ed25519, or PKCS #1. Errors never hold
// the key.
func ParseKey(domain, selector string, file []byte) (Key, error) {
	wrong := func(what string) error { return fmt.Errorf("dkim: key %s._domainkey.%s: %s", selector, domain, what) }
	if domain == "" || selector == "" || strings.ContainsAny(domain+selector, " ;\r\n\t") {
		return Key{}, wrong("domain and selector are required, without spaces")
	}
	block, _ := pem.Decode(file)
	if block == nil {
		return Key{}, wrong("the file is not PEM")
	}
	var private any
	var err error
	switch block.Type {
	case "PRIVATE KEY":
		private, err = x509.ParsePKCS8PrivateKey(block.Bytes)
	case "RSA PRIVATE KEY":
		private, err = x509.ParsePKCS1PrivateKey(block.Bytes)
	default:
		return Key{}, wrong("the file holds a " + block.Type + ", want a PRIVATE KEY")
	}
	if err != nil {
		return Key{}, wrong("the private key cannot be read")
	}
	switch p := private.(type) {
	case *rsa.PrivateKey:
		if p.N.BitLen() < MinRSA {
			return Key{}, wrong(fmt.Sprintf("the RSA key has %d bits, want at least %d", p.N.BitLen(), MinRSA))
		}
		return Key{domain, selector, p}, nil
	case ed25519.PrivateKey:
		return Key{domain, selector, p}, nil
	}
	return Key{}, wrong("it is neither RSA nor Ed25519")
}

// GenerateKey returns a new Ed25519 key and its private half in PEM, as [ParseKey] reads it.
func GenerateKey(domain, selector string) (Key, []byte, error) {
	_, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		return Key{}, nil, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		return Key{}, nil, err
	}
	file := pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})
	k, err := ParseKey(domain, selector, file)
	return k, file, err
}

// Record returns the TXT record that publishes the public key at [Key.String] (RFC 6376 §3.6.1, RFC
// 8463 §4).
func (k Key) Record() string {
	switch public := k.private.Public().(type) {
	case ed25519.PublicKey:
		return "v=DKIM1; k=ed25519; p=" + base64.StdEncoding.EncodeToString(public)
	case *rsa.PublicKey:
		der, err := x509.MarshalPKIXPublicKey(public)
		if err != nil {
			panic(err) // ParseKey has read it
		}
		return "v=DKIM1; k=rsa; p=" + base64.StdEncoding.EncodeToString(der)
	}
	panic("dkim: a key that ParseKey does not make")
}

// A Signer signs with one key or several: one signature each, so that a receiver that knows no
// Ed25519 still finds an RSA one. It is immutable and safe for concurrent use.
type Signer struct{ keys []Key }

// New returns a signer with these keys, of which there is at least one.
func New(keys ...Key) (*Signer, error) {
	if len(keys) == 0 {
		return nil, errors.New("dkim: no key to sign with")
	}
	return &Signer{keys: keys}, nil
}

// Keys returns the keys.
func (s *Signer) Keys() []Key { return append([]Key(nil), s.keys...) }

// signed lists the fields that a signature covers, present or not: one that is absent cannot be
// added by somebody on the way without breaking it (RFC 6376 §5.4). The two of RFC 8058 §4 are
// among them.
var signed = []string{"From", "To", "Cc", "Reply-To", "Subject", "Date", "Message-ID", "In-Reply-To", "References",
	"MIME-Version", "Content-Type", "Auto-Submitted", "List-Unsubscribe", "List-Unsubscribe-Post"}

// writers gather what is signed: each write crosses a pipe to another goroutine.
var writers = sync.Pool{New: func() any { return bufio.NewWriterSize(nil, 32<<10) }}

// Sign returns the DKIM-Signature fields of a message, to be put in front of it. It reads the
// message once for each key. A signature holds the second in which it was made, so two of one
// message differ: keep the first.
func (s *Signer) Sign(message io.WriterTo) (fields string, err error) {
	var all strings.Builder
	for _, k := range s.keys {
		one, err := msgdkim.NewSigner(&msgdkim.SignOptions{
			Domain: k.Domain, Selector: k.Selector, Signer: k.private, HeaderKeys: signed,
			HeaderCanonicalization: msgdkim.CanonicalizationRelaxed, BodyCanonicalization: msgdkim.CanonicalizationSimple,
		})
		if err != nil {
			return "", fmt.Errorf("dkim: key %v: %w", k, err)
		}
		buffered := writers.Get().(*bufio.Writer)
		buffered.Reset(one)
		defer writers.Put(buffered)
		if _, err := message.WriteTo(buffered); err != nil {
			one.Close() // it has failed already
			return "", fmt.Errorf("dkim: key %v: %w", k, err)
		}
		if err := buffered.Flush(); err != nil {
			return "", fmt.Errorf("dkim: key %v: %w", k, err)
		}
		if err := one.Close(); err != nil {
			return "", fmt.Errorf("dkim: key %v: %w", k, err)
		}
		all.WriteString(one.Signature())
	}
	return all.String(), nil
}
