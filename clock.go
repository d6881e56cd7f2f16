package illumicode

import (
	"context"
	"log/slog"
	"sync/atomic"
	"time"

	"github.com/illumicode/illumicode/store"
)

// A clock is the service's: the machine's, plus how far the database's is ahead of it. Machines
// whose clocks differ thus agree on every instant that they write.
type clock struct {
	machine func() time.Time
	store   *store.Store
	offset  atomic.Int64 // nanoseconds
}

// now returns the instant.
func (c *clock) now() time.Time { return c.machine().Add(time.Duration(c.offset.Load())) }

// set reads the database's clock.
func (c *clock) set(ctx context.Context) error {
	d, err := c.store.Offset(ctx, c.machine)
	if err == nil {
		c.offset.Store(int64(d))
	}
	return err
}

// setEvery is how often a running service reads the database's clock.
const setEvery = 10 * time.Second

// run keeps the clock set until ctx ends.
func (c *clock) run(ctx context.Context, log *slog.Logger) {
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
		bounded, cancel := context.WithTimeout(ctx, patience)
		if err := c.set(bounded); err != nil && ctx.Err() == nil {
			log.Warn("the database's clock cannot be read; its last offset stays", "error", err)
		}
		cancel()
	}
}
