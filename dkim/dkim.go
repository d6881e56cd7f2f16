// Package dkim signs letters (RFC 6376, RFC 8463), so that who receives them can tell that they
// come from the domain that they claim. [Signer] is the type to read first.
//
// It signs what package message has composed, and does not verify: its tests have another library do that.
package dkim

import (
	"crypto"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"io"
	"strings"
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

// Format writes String, whatever the verb: no line of a log shows the key.
func (k Key) Format(f fmt.State, _ rune) { io.WriteString(f, k.String()) }

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
