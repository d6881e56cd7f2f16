package flow

import (
	"context"
	"log/slog"
	"sync/atomic"
	"time"

	"github.com/illumicode/illumicode/internal/outbox"
	"github.com/illumicode/illumicode/internal/store"
)

// A Waker makes workers look for letters at once, in this process and elsewhere. It is safe for concurrent use.
type Waker struct {
	store  *store.Store
	outbox *outbox.Outbox
	log    *slog.Logger

	announcing atomic.Bool // workers elsewhere are about to be told
}

// NewWaker returns a waker.
func NewWaker(st *store.Store, o *outbox.Outbox, log *slog.Logger) *Waker {
	return &Waker{store: st, outbox: o, log: log}
}

// gather is how long wakes gather before other processes are told.
const gather = 5 * time.Millisecond

// Wake returns at once. Many wakes in a moment are one announcement.
func (w *Waker) Wake() {
	w.outbox.Wake()
	if !w.store.Announces() || !w.announcing.CompareAndSwap(false, true) {
		return
	}
	time.AfterFunc(gather, func() {
		w.announcing.Store(false)
		ctx, cancel := context.WithTimeout(context.Background(), Patience)
		defer cancel()
		if err := w.store.Announce(ctx); err != nil {
			w.log.Warn("workers elsewhere were not woken; they find the letters by their poll", "error", err)
		}
	})
}
