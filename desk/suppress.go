package desk

import (
	"context"
	"fmt"

	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
)

// A Reason says for the trail why an operator acts, and on whose word.
type Reason string

// A Scope is what a suppression keeps back.
type Scope string

// The scopes, the widest first. Only the library sets Bounced.
const (
	AllLetters Scope = "all"
	// letters came back: all but one challenge a day, so that the address can be proven again
	Bounced Scope = "bounced"
	Notices Scope = "notices"
)

// Suppress keeps letters from an address: [Notices], or with [AllLetters] also those that its owner asks for.
func (d *Desk) Suppress(ctx context.Context, address string, scope Scope, why Reason) error {
	to, err := flow.KnownRecipient(address)
	if err != nil {
		return err
	}
	other := store.AllLetters
	switch scope {
	case AllLetters:
		other = store.NoticesOnly
	case Notices:
	default:
		return fmt.Errorf("desk: a scope is %q or %q, not %q", AllLetters, Notices, scope)
	}
	return d.p.Store.Write(ctx, func(t store.Tx) error {
		// The later word is the one that holds.
		if _, err := t.Unsuppress(ctx, d.p.Thumbs(to.Mailbox()), other); err != nil {
			return err
		}
		sup := store.Suppression{Mailbox: to.Mailbox(), Scope: store.Scope(scope), Reason: string(why)}
		return d.p.Suppress(ctx, t, sup, operator)
	})
}

// Restore lets letters go to an address again. It reports whether any were kept back.
func (d *Desk) Restore(ctx context.Context, address string, why Reason) (restored bool, err error) {
	to, err := flow.KnownRecipient(address)
	if err != nil {
		return false, err
	}
	err = d.p.Store.Write(ctx, func(t store.Tx) error {
		restored, err = t.Unsuppress(ctx, d.p.Thumbs(to.Mailbox()), store.AllLetters, store.BouncedOnce,
			store.NoticesOnly)
		if err != nil {
			return err
		}
		return t.Record(ctx, store.Step{
			Mailbox: to.Mailbox(), At: d.p.Now(), What: "restored", Outcome: string(why), Network: flow.Network(ctx),
			Actor: operator,
		})
	})
	return restored, err
}

// operator is the actor of the trail's lines about what the desk does.
const operator = "operator"
