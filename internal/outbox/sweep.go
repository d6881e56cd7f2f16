package outbox

import (
	"context"
	"time"
)

// KeepByDefault is how long what has ended is kept if nothing else is said.
const KeepByDefault = 30 * 24 * time.Hour

const (
	sweepEvery = time.Hour        // from the end of one sweep to the next
	askEldest  = 10 * time.Second // between two looks whether another worker sweeps

	// LateSweep is how far behind sweeping is when it is a matter for people.
	LateSweep = 24 * time.Hour
)

// sweeping removes what is older than it need be, until ctx ends. Of all workers the eldest does it. Nothing that
// delivers waits for it, and it begins when the first claim has returned.
func (w *worker) sweeping(ctx context.Context) {
	select {
	case <-ctx.Done():
		return
	case <-w.looked:
	}
	var done time.Time
	for pause := time.Duration(0); ctx.Err() == nil; {
		eldest, err := w.store.Eldest(ctx, w.now())
		if err == nil && eldest == w.row.ID && time.Since(done) >= sweepEvery {
			if err = w.sweep(ctx); err == nil {
				done = time.Now()
			}
		}
		if err == nil || ctx.Err() != nil {
			pause = 0
			sleep(ctx, askEldest)
			continue
		}
		pause = nextPause(pause)
		w.log.Error("what is older than it need be cannot be removed", "error", err, "again_in", pause)
		sleep(ctx, pause)
	}
}

// sweep goes through all tables once. While it has letters to send it works a tenth of the time, otherwise half of it.
func (w *worker) sweep(ctx context.Context) error {
	if behind, err := w.Behind(ctx); err != nil {
		return err
	} else if behind > LateSweep {
		w.log.Warn("what has ended is kept longer than it need be: removing it is behind", "by", behind)
	}
	now := w.now()
	s := w.store.Sweep(w.keptSince(now), now.Add(-w.cfg.KeepOnce))
	total := int64(0)
	for {
		began, busy := time.Now(), w.queue.any()
		n, done, err := s.Piece(ctx)
		if err != nil {
			return err
		}
		if total += n; done {
			break
		}
		rest := time.Since(began)
		if busy || w.queue.any() {
			rest *= 9
		}
		if !sleep(ctx, rest) {
			return ctx.Err()
		}
	}
	if total > 0 {
		w.log.Info("removed what is older than it need be", "rows", total)
	}
	return nil
}

// keptSince returns when what ended is removed, if it is; else the zero time.
func (o *Outbox) keptSince(now time.Time) time.Time {
	if o.cfg.Keep < 0 {
		return time.Time{}
	}
	return now.Add(-o.cfg.Keep)
}

// Behind returns for how long something has been kept that should have been removed, as the oldest rows tell; 0 if
// there is nothing.
func (o *Outbox) Behind(ctx context.Context) (time.Duration, error) {
	since := o.keptSince(o.now())
	if since.IsZero() {
		return 0, nil
	}
	at, err := o.store.Overdue(ctx, since)
	if err != nil || at.IsZero() {
		return 0, err
	}
	return since.Sub(at), nil
}
