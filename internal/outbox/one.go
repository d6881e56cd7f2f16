package outbox

import (
	"context"
	"errors"
	"fmt"

	"github.com/illumicode/illumicode/internal/store"
)

// DeliverOne makes one attempt at a waiting delivery, due or not, and returns it as it is then.
// Another worker may have been faster: then it returns the row as it is. The guard and the pauses
// hold for it too.
func (o *Outbox) DeliverOne(ctx context.Context, id string) (store.Delivery, error) {
	hard, stop := context.WithCancel(ctx)
	defer stop()
	w := o.newWorker(hard, new(lease))
	defer w.lease.end()
	holding, err := w.holding(ctx)
	w.holds.Store(holding)
	if err == nil && holding {
		err = errors.New("outbox: the guard holds everything, so the letter waits")
	}
	if err == nil {
		err = w.readPauses(ctx)
	}
	if err == nil {
		err = w.laneOpen(ctx, id)
	}
	if err == nil {
		err = errors.Join(w.readHealth(ctx), w.shareOut(ctx))
	}
	if err == nil {
		err = w.renew(ctx, o.cfg.Attempt)
	}
	if err != nil {
		return store.Delivery{}, err
	}
	d, claimErr := o.store.ClaimOne(ctx, w.row.ID, id, o.now())
	if claimErr == nil {
		for _, d := range w.screened(ctx, w.addressed(ctx, d)) {
			w.deliver(hard, d)
		}
	}
	if o.runs.Load() == 0 {
		o.handBack(context.WithoutCancel(ctx))
	}
	// Even after an error: the claim may have been made, and its answer lost.
	if err := o.store.Leave(context.WithoutCancel(ctx), w.row.ID, o.now()); err != nil {
		return store.Delivery{}, fmt.Errorf("outbox: after the attempt: %w", errors.Join(claimErr, err))
	}
	if claimErr != nil && !errors.Is(claimErr, store.ErrNotFound) {
		return store.Delivery{}, claimErr
	}
	return o.store.Delivery(ctx, id)
}

// laneOpen returns an error if the lane of a delivery is paused: nothing is claimed from such a lane.
func (w *worker) laneOpen(ctx context.Context, id string) error {
	d, err := w.store.Delivery(ctx, id)
	if err != nil {
		return err
	}
	if w.pausedLane(d.Lane) {
		return fmt.Errorf(
			"outbox: lane %s is paused, so the letter waits; `illumicode outbox resume lane %s` ends that", d.Lane,
			d.Lane)
	}
	return nil
}
