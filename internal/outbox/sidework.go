package outbox

import (
	"context"
	"time"
)

// listen is woken by other processes, where the database can tell. A connection that is lost is
// opened again; meanwhile the poll is enough.
func (w *worker) listen(ctx context.Context) {
	for pause := time.Duration(0); ; {
		began := time.Now()
		err := w.store.Listen(ctx, w.Wake)
		if err == nil || ctx.Err() != nil {
			return
		}
		if time.Since(began) > time.Minute {
			pause = 0
		}
		pause = nextPause(pause)
		w.log.Warn("nobody wakes this worker for letters of other processes; it finds them by its poll", "error", err,
			"poll", w.cfg.Poll, "again_in", pause)
		if !sleep(ctx, pause) {
			return
		}
	}
}

// sideWork expands lists, takes events and applies feedback until ctx ends.
func (w *worker) sideWork(ctx context.Context) {
	var rested time.Time
	for pause := time.Duration(0); ctx.Err() == nil; {
		n, err := w.chore(ctx, &rested)
		switch {
		case err != nil && ctx.Err() == nil:
			pause = nextPause(pause)
			w.log.Error("lists, events and feedback cannot be worked on", "error", err, "again_in", pause)
			sleep(ctx, pause)
		case n > 0:
			w.Wake()
			pause = 0
		default:
			pause = 0
			select {
			case <-ctx.Done():
			case <-w.stir:
			case <-time.After(w.cfg.Poll):
			}
		}
	}
}

// housekeepEvery is how many polls pass between two looks for what time asks for.
const housekeepEvery = 20

// housekeep does what time asks for, until ctx ends.
func (w *worker) housekeep(ctx context.Context) {
	for w.cfg.Housekeep != nil {
		n, err := w.cfg.Housekeep(ctx)
		if err != nil && ctx.Err() == nil {
			w.log.Error("what has run out cannot be closed", "error", err)
		}
		if n > 0 {
			w.Wake()
		}
		rest := housekeepEvery * w.cfg.Poll
		if n > 0 && err == nil {
			rest = w.cfg.Poll
		}
		if !sleep(ctx, rest) {
			return
		}
	}
}

// chore does one step of what waits, and returns how much it did. Where all writers share one lock, it
// begins no earlier than rested: half of the time the application's own writes find no lock. On SQLite a
// writer that does find one looks again after 1, 3, 8 and 18 milliseconds.
func (w *worker) chore(ctx context.Context, rested *time.Time) (n int, err error) {
	// timers are no finer where a process is idle
	rest := func() { sleep(ctx, time.Until(*rested).Round(time.Millisecond)) }
	if !w.store.OneWriter() {
		rest = func() {}
	}
	any, err := w.store.AnyPiece(ctx)
	if err != nil {
		return 0, err
	}
	if any {
		var held time.Duration
		if n, held, err = w.store.Expand(ctx, newID, rest); err != nil {
			return 0, err
		}
		*rested = time.Now().Add(held)
	}
	for _, do := range []func(context.Context) (int, error){w.events, w.cfg.Feedback} {
		if do == nil {
			continue
		}
		began := time.Now()
		m, err := do(ctx)
		if n += m; err != nil {
			return n, err
		}
		if m > 0 {
			*rested = time.Now().Add(time.Since(began))
			rest()
		}
	}
	return n, nil
}

// events turns some events that wait into deliveries.
func (w *worker) events(ctx context.Context) (int, error) {
	if w.cfg.Events == nil {
		return 0, nil
	}
	if any, err := w.store.AnyEvent(ctx); err != nil || !any {
		return 0, err
	}
	return w.cfg.Events(ctx)
}

// sample counts what is on its way for an observer, so that looking at its figures costs nothing.
func (w *worker) sample(ctx context.Context) {
	if w.cfg.Observer == (nobody{}) {
		return
	}
	for {
		loads, err := w.store.Loads(ctx)
		if err == nil {
			w.cfg.Observer.Sampled(loads, w.now())
		} else if ctx.Err() == nil {
			w.log.Error("the outbox cannot be counted", "error", err)
		}
		if !sleep(ctx, SampleEvery) {
			return
		}
	}
}
