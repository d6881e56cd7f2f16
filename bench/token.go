package main

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode/core/token"
)

// tokenFigures measures verifying a link against what no verification can leave out: one
// HMAC-SHA256 of its bytes, the base64 of tag and payload, and the JSON of its claims.
func tokenFigures(scale int) ([]figure, error) {
	now := time.Date(2031, 1, 2, 3, 4, 5, 0, time.UTC)
	ring, err := token.NewKeyring(token.GenerateKey(now))
	if err != nil {
		return nil, err
	}
	signer := token.NewSigner(ring, "https://ferry.example", "signup")
	tok := signer.Sign(ring.Active(), token.Claims{Challenge: "0198c1f2-77aa-7c31-a1b2-0c4d5e6f7a8b", IssuedAt: now.Unix(),
		Expires: now.Add(72 * time.Hour).Unix(), ID: "0198c1f2-77aa-7c32-9b1c-3d4e5f6a7b8c", Address: ring.Active().Thumbprint("mara@ternisle.example")})
	secret := []byte(strings.Repeat("k", 32))
	verify := func() error {
		_, err := signer.Verify(tok, now)
		return err
	}
	bare := func() error { return bareVerify(secret, tok) }
	const calls = 2000
	repeat := func(fn func() error) func() error {
		return func() error {
			for range calls {
				if err := fn(); err != nil {
					return err
				}
			}
			return nil
		}
	}
	times, err := inTurns(10*scale, repeat(verify), repeat(bare))
	if err != nil {
		return nil, err
	}
	ours, floor := testing.AllocsPerRun(1000, func() { verify() }), testing.AllocsPerRun(1000, func() { bare() })
	return []figure{
		{"token verify, time", "bare HMAC + base64 + JSON", medianRatio(times[0], times[1]), 1.1,
			fmt.Sprintf("%v against %v", median(times[0])/calls, median(times[1])/calls)},
		{"token verify, allocations", "the same", ours / floor, 1.0, fmt.Sprintf("%.0f against %.0f", ours, floor)},
	}, nil
}

// bareVerify is the floor. It knows where the parts are and checks nothing but the tag, which it
// compares with itself since it has another key.
func bareVerify(secret []byte, tok string) error {
	parts := strings.SplitN(tok, ".", 3)
	m := hmac.New(sha256.New, secret)
	m.Write([]byte(tok[:len(parts[0])+1+len(parts[1])]))
	sum := m.Sum(nil)
	tag, err := base64.RawURLEncoding.DecodeString(parts[2])
	if err != nil {
		return err
	}
	if hmac.Equal(sum, tag) {
		return errors.New("two keys made one tag")
	}
	payload, err := base64.RawURLEncoding.DecodeString(parts[1])
	if err != nil {
		return err
	}
	var c token.Claims
	return json.Unmarshal(payload, &c)
}
