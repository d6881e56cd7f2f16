package flow

import (
	"context"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/proof"
	"github.com/illumicode/illumicode/internal/store"
)

// CallOff ends an open challenge, with the change of address that it is for, and reports whether it did. Letters of it
// that still wait are dropped when their turn comes.
func (p *Parts) CallOff(ctx context.Context, t store.Tx, c store.Challenge, why string) (bool, error) {
	ended, err := t.CallOff(ctx, c.ID, why)
	if err != nil || !ended {
		return false, err
	}
	if c.Purpose == challenge.Reverify && why != proof.Corrected {
		if err := t.StopChangeOf(ctx, c.ID); err != nil {
			return false, err
		}
	}
	return true, t.Record(ctx, c.StepOf("ended", why, Network(ctx), p.Now()))
}

// CallOffChanging calls off what proves the pending changes of a subject's address. The changes themselves are stopped
// after it: a call that accepts a proof locks both in this order.
func (p *Parts) CallOffChanging(ctx context.Context, t store.Tx, subject, why string) error {
	ended, err := t.CallOffChanging(ctx, subject, why)
	if err != nil {
		return err
	}
	for _, c := range ended {
		if err := t.Record(ctx, c.StepOf("ended", why, Network(ctx), p.Now())); err != nil {
			return err
		}
	}
	return nil
}

// CallOffOpen calls off what is open of a subject: all of it, or at one mailbox.
func (p *Parts) CallOffOpen(ctx context.Context, t store.Tx, of Opened) error {
	open, err := t.OpenOf(ctx, of.Subject)
	if err != nil {
		return err
	}
	for _, one := range open {
		if of.Mailbox != "" && one.Mailbox != of.Mailbox {
			continue
		}
		if _, err := p.CallOff(ctx, t, one, of.Why); err != nil {
			return err
		}
	}
	return nil
}

// Opened says which open challenges are called off, and why.
type Opened struct {
	Subject string
	Mailbox string // empty for all
	Why     string
}
