package illumicode

import (
	"context"
	"errors"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/keyring"
	"github.com/illumicode/illumicode/internal/core/proof"
	rows "github.com/illumicode/illumicode/internal/store"
)

// Receipt returns a receipt of a proof that was accepted in this transaction, or in the last minutes: a token (EdDSA)
// that another service, which audience names, can check with the public keys of [token.Keyring.JWKS] alone. It lives
// for five minutes. The error is [ErrNotConfirmed] if the proof was not accepted or its account is frozen, or matches
// [token.ErrNoReceiptKey].
func (t Tx) Receipt(ctx context.Context, p Proof, audience string) (string, error) {
	if err := t.ok(); err != nil {
		return "", err
	}
	c, err := t.rows().ChallengeOf(ctx, p.challenge)
	if errors.Is(err, rows.ErrNotFound) {
		return "", ErrNotConfirmed
	}
	if err != nil {
		return "", err
	}
	now := t.s.p.Now()
	if c.State != proof.Accepted || now.Sub(c.Accepted) > keyring.ReceiptLife || audience == "" {
		return "", ErrNotConfirmed
	}
	if p.purpose == challenge.Reverify { // the only one that is accepted while an account is frozen
		frozen, err := t.rows().AnyFrozen(ctx, p.subject)
		if err != nil {
			return "", err
		}
		if frozen {
			return "", ErrNotConfirmed
		}
	}
	return t.s.p.Keys.SignReceipt(keyring.Receipt{
		Issuer: t.s.p.Site.BaseURL, Audience: audience, Subject: p.subject, IssuedAt: now.Unix(),
		Expires: now.Add(keyring.ReceiptLife).Unix(), ID: c.ID, Purpose: p.purpose, Action: p.action,
	})
}
