// Package flow holds what the public packages of one service share: its parts, and the small steps that several flows
// take. [Parts] is the type to read first.
package flow

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/compose"
	"github.com/illumicode/illumicode/internal/core/keyring"
	"github.com/illumicode/illumicode/internal/core/render"
	"github.com/illumicode/illumicode/internal/limits"
	"github.com/illumicode/illumicode/internal/outbox"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/message"
)

// Parts are what one service is made of. They are immutable once the service is made.
type Parts struct {
	Store    *store.Store
	Keys     *keyring.Keyring
	Links    *keyring.Signer
	Site     Site
	From     message.Address
	Froms    map[string]message.Address // of letters that have a sender of their own
	Back     ReturnPath
	Sign     Signer // nil for unsigned
	Letters  *render.Set
	Writer   render.Writer
	Mark     *compose.Part // inline; nil for none
	Purposes map[string]Purpose
	Limits   *limits.Limits
	Outbox   *outbox.Outbox
	Waker    *Waker
	Zones    *Zones
	Log      *slog.Logger
	Now      func() time.Time // the service's clock
	SMS      bool             // a provider carries text messages

	TellOwner bool
	TellTexts bool // by text message too

	Conventions map[string]message.Convention // the application's, by domain
	Undo        time.Duration                 // how long the holder of an old address can take a change back
	Grace       time.Duration                 // how long an address works after it was marked as stale
	Bounces     Bounces
	CameBack    func(source, kind string) // is told of feedback that was applied

	Here func(context.Context) // tells other processes, now and then, which keys this one knows
}

// A Site is where links lead, and for whom.
type Site struct {
	Name, HomePage, Imprint, Mark           string
	BaseURL                                 string // absolute, without a slash at its end
	ConfirmPath, NotMePath, UnsubscribePath string
}

// A Purpose is what challenges of one kind are for, and how they live.
type Purpose struct {
	Letter string // what carries the proof
	Policy challenge.Policy
}

// Bounces says when letters that come back softly count as one hard bounce.
type Bounces struct {
	Soft   int
	Within time.Duration
}

// Held is what the public service embeds, so that the other public packages of this module reach its parts and
// applications do not.
type Held struct{ parts *Parts }

// Hold returns parts to be embedded.
func Hold(p *Parts) Held { return Held{p} }

func (h Held) held() *Parts { return h.parts }

// Of returns the parts of a service.
func Of(service interface{ held() *Parts }) *Parts { return service.held() }

// HeldTx is what the public transaction embeds, for the same reason.
type HeldTx struct{ rows store.Tx }

// HoldTx returns rows to be embedded.
func HoldTx(rows store.Tx) HeldTx { return HeldTx{rows} }

func (h HeldTx) heldRows() store.Tx { return h.rows }

// Rows returns the store's side of a transaction.
func Rows(tx interface{ heldRows() store.Tx }) store.Tx { return tx.heldRows() }

// Patience is how long the service's own transactions wait for a connection or a lock.
const Patience = 5 * time.Second

// ErrStuck means that a transaction of the service's own could not begin in time.
var ErrStuck = errors.New("illumicode: no connection or lock for a transaction of its own; " +
	"call Admit, Prove, the resends and the one-call forms before you open your transaction, not inside it")

// Own runs fn, which works in transactions of the service's own, with a bound on the wait. A long wait usually means
// that the caller holds a transaction already.
func Own(ctx context.Context, fn func(context.Context) error) error {
	bounded, cancel := context.WithTimeout(ctx, Patience)
	defer cancel()
	err := fn(bounded)
	if err != nil && bounded.Err() != nil && ctx.Err() == nil {
		return fmt.Errorf("%w after %v: %w", ErrStuck, Patience, err)
	}
	return err
}
