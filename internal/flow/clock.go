package flow

import (
	"context"
	"log/slog"
	"sync/atomic"
	"time"

	"github.com/illumicode/illumicode/internal/store"
)

// A Clock is the service's: this machine's clock plus the offset of the database's. Machines whose clocks differ so
// agree on every instant that they write. It is safe for concurrent use.
type Clock struct {
	machine func() time.Time
	store   *store.Store
	offset  atomic.Int64 // nanoseconds
}

// NewClock returns a clock that has read the database's.
func NewClock(ctx context.Context, machine func() time.Time, st *store.Store) (*Clock, error) {
	c := &Clock{machine: machine, store: st}
	return c, c.set(ctx)
}

// Now returns the instant.
func (c *Clock) Now() time.Time { return c.machine().Add(time.Duration(c.offset.Load())) }

// set reads the database's clock.
func (c *Clock) set(ctx context.Context) error {
	d, err := c.store.Offset(ctx, c.machine)
	if err == nil {
		c.offset.Store(int64(d))
	}
	return err
}

// setEvery is how often a running service reads the database's clock.
const setEvery = 10 * time.Second

// Run keeps the clock set until ctx ends.
func (c *Clock) Run(ctx context.Context, log *slog.Logger) {
	if !c.store.HasClock() {
		return
	}
	tick := time.NewTicker(setEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		bounded, cancel := context.WithTimeout(ctx, Patience)
		if err := c.set(bounded); err != nil && ctx.Err() == nil {
			log.Warn("the database's clock cannot be read; its last offset stays", "error", err)
		}
		cancel()
	}
}
