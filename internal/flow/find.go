package flow

import (
	"context"
	"errors"

	"github.com/illumicode/illumicode/internal/outbox"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/limit"
)

// Find returns a delivery to a subject with the address that the subject has confirmed, and its language. The error is
// a [*outbox.Drop] if there is none, and a [*outbox.HoldError] while the account is frozen.
func (p *Parts) Find(ctx context.Context, d store.Delivery) (store.Delivery, error) {
	frozen, err := p.Store.AnyFrozen(ctx, d.Subject)
	switch {
	case err != nil:
		return d, err
	case frozen:
		return d, &outbox.HoldError{
			By: store.HeldFrozen, Note: "the account is frozen, until it is decided whose it is"}
	}
	a, err := p.Store.Reached(ctx, d.Subject, d.Medium == string(limit.SMS), p.Now())
	if errors.Is(err, store.ErrNotFound) {
		return d, &outbox.Drop{State: store.Cancelled, Note: "its subject has no confirmed address"}
	}
	if err != nil {
		return d, err
	}
	d.Address = a.Address
	if d.Locale == "" {
		d.Locale = p.Locale(a.Locale)
	}
	return d, nil
}
