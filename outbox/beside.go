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
		w.log.Warn("nobody wakes this worker for letters of other processes; it finds them by its poll", "error", err, "poll", w.cfg.Poll, "again_in", pause)
		if !sleep(ctx, pause) {
			return
		}
	}
}

// breath is the least pause between two pieces of a long list where all writers share one lock. It is
// as long as the piece took, so that half of the time the application's own writes find none: on
// SQLite a writer that does looks again after 1, 3, 8 and 18 milliseconds.
const breath = time.Millisecond

// chores expands lists, takes events and applies feedback until ctx ends.
func (w *worker) chores(ctx context.Context) {
	for pause := time.Duration(0); ctx.Err() == nil; {
		began := time.Now()
		n, err := w.chore(ctx)
		switch {
		case err != nil && ctx.Err() == nil:
			pause = nextPause(pause)
			w.log.Error("lists, events and feedback cannot be worked on", "error", err, "again_in", pause)
			sleep(ctx, pause)
		case n > 0:
			w.Wake()
			pause = 0
			if w.store.OneWriter() {
				sleep(ctx, max(breath, time.Since(began)))
			}
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

// careEvery is how many polls pass between two looks for what time asks for.
const careEvery = 20

// care does what time asks for, until ctx ends.
func (w *worker) care(ctx context.Context) {
	for w.cfg.Care != nil {
		n, err := w.cfg.Care(ctx)
		if err != nil && ctx.Err() == nil {
			w.log.Error("what has run out cannot be closed", "error", err)
		}
		if n > 0 {
			w.Wake()
		}
		rest := careEvery * w.cfg.Poll
		if n > 0 && err == nil {
			rest = w.cfg.Poll
		}
		if !sleep(ctx, rest) {
			return
		}
	}
}

// chore does one step of what waits, and returns how much it did.
func (w *worker) chore(ctx context.Context) (int, error) {
	any, err := w.store.AnyPiece(ctx)
	if err != nil {
		return 0, err
	}
	n := 0
	if any {
		if n, err = w.store.Expand(ctx, newID); err != nil {
			return 0, err
		}
	}
	if w.cfg.Events != nil {
		if any, err = w.store.AnyEvent(ctx); err != nil {
			return n, err
		}
		if any {
			m, err := w.cfg.Events(ctx)
			if n += m; err != nil {
				return n, err
			}
		}
	}
	if w.cfg.Feedback == nil {
		return n, nil
	}
	m, err := w.cfg.Feedback(ctx)
	return n + m, err
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
