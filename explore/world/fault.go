package world

import (
	"context"
	"fmt"
	"sync"

	"github.com/illumicode/illumicode/explore/model"
	"github.com/illumicode/illumicode/internal/store/db"
)

// A Fault is what breaks during a call: the connection to the database, or the process.
type Fault struct {
	At     int  // at which point of the database's it happens, from 0
	Killed bool // the process ends there: nothing that it asks for is done any more
}

// Faulty does a call during which a fault happens. It returns the point at which it did, "" if the call has no such
// point.
func (w *World) Faulty(ctx context.Context, c *model.Call, f Fault) (answer string, at db.Point) {
	ctx, kill := context.WithCancel(ctx)
	defer kill()
	var mu sync.Mutex // a worker's ledger is another goroutine
	n := 0
	w.seam = func(_ context.Context, point db.Point, _ string) error {
		switch point {
		case db.TurnWanted, db.TurnHad, db.TurnGiven, db.Began:
			return nil
		}
		mu.Lock()
		defer mu.Unlock()
		n++
		if n-1 < f.At || n-1 > f.At && !f.Killed {
			return nil
		}
		if at == "" {
			at = point
		}
		if f.Killed {
			kill()
		}
		return fmt.Errorf("%w: the connection is lost, as the explorer has it", db.ErrDatabase)
	}
	defer func() { w.seam = nil }()
	return w.Alone(ctx, c), at
}

// Recover has another worker give back what is left claimed, once its lease is over.
func (w *World) Recover(ctx context.Context) error {
	w.now += lease
	return w.parts.Outbox.Recover(ctx)
}

// Letter returns how a letter stands, and whether a provider has had it.
func (w *World) Letter(ctx context.Context, n int) (state string, attempts int, left bool, err error) {
	d, err := w.parts.Store.Delivery(ctx, w.letters[n])
	_, left = w.way.letters[w.letters[n]]
	return string(d.State), d.Attempts, left, err
}
