// Jwks-verifier is another service: it lets in whoever brings a receipt that the ferry's site has
// signed, once, and has only the site's public keys for it. It uses no code of Illumicode, and nothing
// but the standard library; verify.py beside it does the same in Python, but for remembering.
//
//	illumicode keys jwks > jwks.json
//	go run ./examples/jwks-verifier -keys jwks.json -issuer https://ferry.example -audience cargo < receipt
package main

import (
	"bytes"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
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
	ID       string `json:"jti"`
	Purpose  string `json:"purpose"`
	Action   string `json:"act"`
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

// strict reads one JSON object with these members alone.
func strict(raw []byte, into any) error {
	d := json.NewDecoder(bytes.NewReader(raw))
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		return err
	}
	if _, err := d.Token(); err != io.EOF {
		return errors.New("there is more behind the object")
	}
	return nil
}

// verify checks a receipt. The algorithm comes from the key, never from the header (RFC 8725 §3.1). Base64 has one way
// to be written, so that a receipt cannot be changed and stay the same.
func verify(receipt string, keys map[string]ed25519.PublicKey, issuer, audience string,
	now time.Time) (c claims, err error) {
	parts := strings.Split(receipt, ".")
	if len(parts) != 3 {
		return c, errors.New("not a receipt")
	}
	var raw [3][]byte
	for i, part := range parts {
		if raw[i], err = base64.RawURLEncoding.Strict().DecodeString(part); err != nil {
			return c, errors.New("not a receipt")
		}
	}
	var header struct{ Alg, Kid, Typ string }
	if strict(raw[0], &header) != nil || header.Typ != "illumicode-receipt+jwt" || header.Alg != "EdDSA" {
		return c, errors.New("not a receipt")
	}
	key, known := keys[header.Kid]
	if !known || !ed25519.Verify(key, []byte(parts[0]+"."+parts[1]), raw[2]) {
		return c, errors.New("signed with an unknown key, or changed")
	}
	if err := strict(raw[1], &c); err != nil {
		return c, err
	}
	if c.ID == "" || c.Subject == "" {
		return c, errors.New("it does not say which receipt it is, or whose")
	}
	if c.Issuer != issuer || c.Audience != audience {
		return c, errors.New("made by another site, or for another service")
	}
	if now.Unix() >= c.Expires || now.Unix() < c.IssuedAt-60 {
		return c, errors.New("expired")
	}
	return c, nil
}

// remember notes a receipt as used, and reports whether it is the first time. Each is a file that only one process can
// make; those that have expired long ago are of no use any more.
func remember(seen string, c claims, now time.Time) (first bool, err error) {
	old, err := filepath.Glob(filepath.Join(seen, "*.used"))
	if err != nil {
		return false, err
	}
	for _, name := range old {
		if info, err := os.Stat(name); err == nil && now.Sub(info.ModTime()) > time.Hour {
			os.Remove(name)
		}
	}
	name := base64.RawURLEncoding.EncodeToString([]byte(c.ID)) + ".used"
	f, err := os.OpenFile(filepath.Join(seen, name), os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	return true, f.Close()
}

func main() {
	file := flag.String("keys", "jwks.json", "the site's public keys")
	issuer := flag.String("issuer", "https://ferry.example", "the site")
	audience := flag.String("audience", "cargo", "who we are")
	seen := flag.String("seen", ".", "the folder where used receipts are remembered")
	flag.Parse()
	if err := run(place{*file, *seen}, *issuer, *audience, os.Stdin, os.Stdout); err != nil {
		fmt.Fprintln(os.Stderr, "refused:", err)
		os.Exit(1)
	}
}

// A place is where the keys and the used receipts are.
type place struct{ keys, seen string }

func run(at place, issuer, audience string, in io.Reader, out io.Writer) error {
	raw, err := os.ReadFile(at.keys)
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
	if err != nil {
		return err
	}
	switch first, err := remember(at.seen, c, time.Now()); {
	case err != nil:
		return err
	case !first:
		return errors.New("used before")
	}
	fmt.Fprintf(out, "%s, by %s\n", c.Subject, c.Purpose)
	return nil
}
