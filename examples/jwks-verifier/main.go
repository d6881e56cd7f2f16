// Jwks-verifier is another service: it lets in whoever brings a receipt that the ferry's site has
// signed, and has only the site's public keys for it. It uses no code of Illumicode, and nothing
// but the standard library; verify.py beside it does the same in Python.
//
//	illumicode keys jwks > jwks.json
//	go run ./examples/jwks-verifier -keys jwks.json -issuer https://ferry.example -audience cargo < receipt
package main

import (
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"
	"time"
)

// claims are what a receipt says.
type claims struct {
	Issuer   string `json:"iss"`
	Audience string `json:"aud"`
	Subject  string `json:"sub"`
	IssuedAt int64  `json:"iat"`
	Expires  int64  `json:"exp"`
	Purpose  string `json:"purpose"`
}

// keys reads a JWK Set (RFC 7517) of Ed25519 keys (RFC 8037).
func keys(file []byte) (map[string]ed25519.PublicKey, error) {
	var set struct {
		Keys []struct{ Kty, Crv, Kid, X string }
	}
	if err := json.Unmarshal(file, &set); err != nil {
		return nil, err
	}
	all := make(map[string]ed25519.PublicKey)
	for _, k := range set.Keys {
		x, err := base64.RawURLEncoding.DecodeString(k.X)
		if err == nil && k.Kty == "OKP" && k.Crv == "Ed25519" && len(x) == ed25519.PublicKeySize {
			all[k.Kid] = x
		}
	}
	return all, nil
}

// verify checks a receipt. The algorithm comes from the key, never from the header (RFC 8725 §3.1).
func verify(receipt string, keys map[string]ed25519.PublicKey, issuer, audience string,
	now time.Time) (c claims, err error) {
	parts := strings.Split(receipt, ".")
	if len(parts) != 3 {
		return c, errors.New("not a receipt")
	}
	var raw [3][]byte
	for i, part := range parts {
		if raw[i], err = base64.RawURLEncoding.DecodeString(part); err != nil {
			return c, errors.New("not a receipt")
		}
	}
	var header struct{ Alg, Kid, Typ string }
	if json.Unmarshal(raw[0], &header) != nil || header.Typ != "illumicode-receipt+jwt" || header.Alg != "EdDSA" {
		return c, errors.New("not a receipt")
	}
	key, known := keys[header.Kid]
	if !known || !ed25519.Verify(key, []byte(parts[0]+"."+parts[1]), raw[2]) {
		return c, errors.New("signed with an unknown key, or changed")
	}
	if err := json.Unmarshal(raw[1], &c); err != nil {
		return c, err
	}
	if c.Issuer != issuer || c.Audience != audience {
		return c, errors.New("made by another site, or for another service")
	}
	if now.Unix() >= c.Expires || now.Unix() < c.IssuedAt-60 {
		return c, errors.New("expired")
	}
	return c, nil
}

func main() {
	file := flag.String("keys", "jwks.json", "the site's public keys")
	issuer := flag.String("issuer", "https://ferry.example", "the site")
	audience := flag.String("audience", "cargo", "who we are")
	flag.Parse()
	if err := run(*file, *issuer, *audience, os.Stdin, os.Stdout); err != nil {
		fmt.Fprintln(os.Stderr, "refused:", err)
		os.Exit(1)
	}
}

func run(file, issuer, audience string, in io.Reader, out io.Writer) error {
	raw, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	all, err := keys(raw)
	if err != nil {
		return err
	}
	receipt, err := io.ReadAll(io.LimitReader(in, 4096))
	if err != nil {
		return err
	}
	c, err := verify(strings.TrimSpace(string(receipt)), all, issuer, audience, time.Now())
	if err == nil {
		fmt.Fprintf(out, "%s, by %s\n", c.Subject, c.Purpose)
	}
	return err
}
