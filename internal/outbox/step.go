package outbox

import (
	"context"
	"errors"
)

// What a worker's loops do, a step at a time, for who walks through them without a Run; letters are stepped by
// [Outbox.DeliverOne].

// Care does once what time asks for, and returns how much it did.
func (o *Outbox) Care(ctx context.Context) (int, error) { return o.cfg.Housekeep(ctx) }

// Recover gives back what workers had claimed whose lease is over, as every worker does when it renews its own.
func (o *Outbox) Recover(ctx context.Context) error {
	hard, stop := context.WithCancel(ctx)
	defer stop()
	w := o.newWorker(hard, new(lease))
	defer w.lease.end()
	return errors.Join(w.beat(ctx), o.store.Leave(ctx, w.row.ID, o.now()))
}
