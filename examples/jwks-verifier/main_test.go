package main

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/token"
)

// A receipt that a sign-in has given is taken by a program that has the public keys alone, in Go and
// in Python; one for another service, a changed one, an old one and a link are not.
func TestVerifiers(t *testing.T) {
	now := time.Now()
	k := illumicodetest.New(t, func(c *illumicode.Config) {
		ring, _, err := c.Keys.Add(token.ForReceipts, now)
		if err != nil {
			t.Fatal(err)
		}
		c.Keys = ring
	})
	const mara = "mara@ternisle.example"
	pending, err := k.Service.Signup(t.Context(), illumicode.Request{Address: mara}, illumicode.Subject("passenger 7"))
	if err != nil {
		t.Fatal(err)
	}
	l := k.Letter(mara, 1)
	var receipt string
	if err := k.Service.ConfirmCode(t.Context(), pending.Ticket, l.Code(),
		func(ctx context.Context, tx illumicode.Tx, p illumicode.Proof) error {
			receipt, err = tx.Receipt(ctx, p, "cargo")
			return err
		}); err != nil {
		t.Fatal(err)
	}
	jwks := filepath.Join(t.TempDir(), "jwks.json")
	if err := os.WriteFile(jwks, k.Keys.JWKS(now), 0o600); err != nil {
		t.Fatal(err)
	}
	issuer := "http://127.0.0.1:1" // the kit's site
	changed := []byte(receipt)
	changed[len(changed)/2] ^= 1
	for _, tt := range []struct {
		name, receipt, audience string
		want                    bool
	}{
		{"good", receipt, "cargo", true},
		{"the same bytes, written differently", loose(receipt), "cargo", false},
		{"for another service", receipt, "mail room", false},
		{"changed", string(changed), "cargo", false},
		{"a link", string(k.Link(l)), "cargo", false},
		{"nonsense", "a.b.c", "cargo", false},
	} {
		var out bytes.Buffer
		err := run(place{jwks, t.TempDir()}, issuer, tt.audience, strings.NewReader(tt.receipt), &out)
		if (err == nil) != tt.want || tt.want && out.String() != "passenger 7, by signup\n" {
			t.Errorf("Go, %s: %v, %q", tt.name, err, out.String())
		}
		python := exec.CommandContext(t.Context(), "/usr/bin/python3", "verify.py", jwks, issuer, tt.audience)
		python.Stdin = strings.NewReader(tt.receipt)
		said, err := python.CombinedOutput()
		if (err == nil) != tt.want || tt.want && string(said) != "passenger 7\n" {
			t.Errorf("Python, %s: %v, %q", tt.name, err, said)
		}
	}
	seen := t.TempDir()
	for i, want := range []string{"", "used before"} {
		err := run(place{jwks, seen}, issuer, "cargo", strings.NewReader(receipt), new(bytes.Buffer))
		if (err == nil) != (want == "") || err != nil && err.Error() != want {
			t.Errorf("time %d: %v, want %q", i+1, err, want)
		}
	}
	raw, err := os.ReadFile(jwks)
	if err != nil {
		t.Fatal(err)
	}
	all, err := keys(raw)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := verify(receipt, all, issuer, "cargo", now.Add(5*time.Minute+time.Minute)); err == nil {
		t.Error("it is taken after five minutes")
	}
}

// loose returns a receipt whose last character has other bits that no decoder needs: base64 that is read loosely has
// several spellings of one signature.
func loose(receipt string) string {
	const digits = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_"
	last := strings.IndexByte(digits, receipt[len(receipt)-1])
	return receipt[:len(receipt)-1] + digits[last|1:][:1]
}
