package main

import (
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode/internal/core/keyring"
)

// tokenFigures measures minting and verifying a link against what cannot be left out: one HMAC-SHA256
// of its bytes, the base64 of tag and payload, and the JSON of its claims; and minting a receipt
// against the bare Ed25519 with the same.
func tokenFigures(scale int) ([]figure, error) {
	now := time.Date(2031, 1, 2, 3, 4, 5, 0, time.UTC)
	ring, err := keyring.NewKeyring(keyring.GenerateKey(now))
	if err == nil {
		ring, err = ring.Rotate(keyring.ForReceipts, now, now)
	}
	if err != nil {
		return nil, err
	}
	signer := keyring.NewSigner(ring, "https://ferry.example", "signup")
	claims := keyring.Claims{Challenge: "0198c1f2-77aa-7c31-a1b2-0c4d5e6f7a8b", IssuedAt: now.Unix(),
		Expires: now.Add(72 * time.Hour).Unix(), ID: "0198c1f2-77aa-7c32-9b1c-3d4e5f6a7b8c",
		Bound: ring.Active().Bind("challenge", "mara@ternisle.example")}
	tok := signer.Sign(ring.Active(), claims)
	mint := func() error { signer.Sign(ring.Active(), claims); return nil }
	receipt := keyring.Receipt{Issuer: "https://ferry.example", Audience: "cargo", Subject: "passenger 7",
		IssuedAt: now.Unix(), Expires: now.Add(time.Minute).Unix(), ID: claims.Challenge, Purpose: "signin"}
	mintReceipt := func() error { _, err := ring.SignReceipt(receipt); return err }
	_, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		return nil, err
	}
	secret := []byte(strings.Repeat("k", 32))
	verify := func() error {
		_, err := signer.Verify(tok, now)
		return err
	}
	bare := func() error { return bareVerify(secret, tok) }
	const calls = 2000
	times, err := inTurns(10*scale, repeated(calls, verify), repeated(calls, bare))
	if err != nil {
		return nil, err
	}
	mints, err := inTurns(10*scale, repeated(calls, mint),
		repeated(calls, func() error { return bareMint(secret, claims) }))
	if err != nil {
		return nil, err
	}
	receipts, err := inTurns(10*scale, repeated(calls, mintReceipt),
		repeated(calls, func() error { return bareReceipt(private, receipt) }))
	if err != nil {
		return nil, err
	}
	ours, floor := testing.AllocsPerRun(1000, func() { verify() }), testing.AllocsPerRun(1000, func() { bare() })
	return []figure{
		{"token verify, time", "bare HMAC + base64 + JSON", medianRatio(times[0], times[1]), 1.1,
			fmt.Sprintf("%v against %v", median(times[0])/calls, median(times[1])/calls)},
		{"token mint, time", "bare HMAC + base64 + JSON", medianRatio(mints[0], mints[1]), 1.1,
			fmt.Sprintf("%v against %v, %.0f allocations", median(mints[0])/calls, median(mints[1])/calls,
				testing.AllocsPerRun(1000, func() { mint() }))},
		{"receipt mint (EdDSA), time", "bare Ed25519 + base64 + JSON", medianRatio(receipts[0], receipts[1]), 1.05,
			fmt.Sprintf("%v against %v, %.0f allocations", median(receipts[0])/calls, median(receipts[1])/calls,
				testing.AllocsPerRun(1000, func() { mintReceipt() }))},
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
	var c keyring.Claims
	return json.Unmarshal(payload, &c)
}

// bareMint is what minting cannot leave out.
func bareMint(secret []byte, c keyring.Claims) error {
	payload, err := json.Marshal(c)
	if err != nil {
		return err
	}
	input := base64.RawURLEncoding.EncodeToString(
		[]byte(`{"alg":"HS256","kid":"2031-01-02-000000","typ":"illumicode-link+jwt"}`)) + "." +
		base64.RawURLEncoding.EncodeToString(payload)
	m := hmac.New(sha256.New, secret)
	m.Write([]byte(input))
	if tok := input + "." + base64.RawURLEncoding.EncodeToString(m.Sum(nil)); tok == "" {
		return errors.New("an empty token")
	}
	return nil
}

// bareReceipt is the same for a receipt.
func bareReceipt(private ed25519.PrivateKey, c keyring.Receipt) error {
	payload, err := json.Marshal(c)
	if err != nil {
		return err
	}
	input := base64.RawURLEncoding.EncodeToString(
		[]byte(`{"alg":"EdDSA","kid":"2031-01-02-000000","typ":"illumicode-receipt+jwt"}`)) + "." +
		base64.RawURLEncoding.EncodeToString(payload)
	if tok := input + "." + base64.RawURLEncoding.EncodeToString(ed25519.Sign(private, []byte(input))); tok == "" {
		return errors.New("an empty token")
	}
	return nil
}
