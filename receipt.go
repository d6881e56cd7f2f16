package illumicode

import (
	"context"
	"errors"

	"github.com/illumicode/illumicode/core/challenge"
	"github.com/illumicode/illumicode/core/token"
	"github.com/illumicode/illumicode/store"
)

// Receipt returns a receipt of a proof that was accepted in this transaction, or in the last minutes:
// a token (EdDSA) that another service, which audience names, can check with the public keys of
// [token.Keyring.JWKS] alone. It lives for five minutes. The error is [ErrNotConfirmed] if the proof
// was not accepted or its account is frozen, or [token.ErrNoReceiptKey].
func (t Tx) Receipt(ctx context.Context, p Proof, audience string) (string, error) {
	c, err := t.rows.ChallengeOf(ctx, p.challenge)
	if errors.Is(err, store.ErrNotFound) {
		return "", ErrNotConfirmed
	}
	if err != nil {
		return "", err
	}
	now := t.s.now()
	if c.State != challenge.Accepted || now.Sub(c.Accepted) > token.ReceiptLife || audience == "" {
		return "", ErrNotConfirmed
	}
	switch frozen, err := t.Frozen(ctx, p); {
	case err != nil:
		return "", err
	case frozen:
		return "", ErrNotConfirmed
	}
	return t.s.keys.SignReceipt(token.Receipt{
		Issuer: t.s.site.BaseURL, Audience: audience, Subject: p.subject, IssuedAt: now.Unix(), Expires: now.Add(token.ReceiptLife).Unix(),
		ID: c.ID, Purpose: p.purpose, Action: p.action,
	})
}
