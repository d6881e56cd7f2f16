package main

import (
	"context"
	"fmt"
	"os"
	"strings"
	"syscall"
	"time"
)

// costs are what deliveries took of a machine.
type costs struct {
	cpu     time.Duration // of this process; PostgreSQL's is another
	written int64         // bytes: of PostgreSQL its WAL, of SQLite what went to the disk, WAL and checkpoints
	private int           // KiB, above what there was before
}

// spent returns what this process and its database have taken so far.
func (b *bed) spent(ctx context.Context) (c costs, err error) {
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		return c, err
	}
	c.cpu = time.Duration(u.Utime.Nano() + u.Stime.Nano())
	c.private = memoryNow(os.Getpid()).private
	if b.onServer {
		return c, b.store.DB().QueryRowContext(ctx, "SELECT (pg_current_wal_lsn() - '0/0')::BIGINT").Scan(&c.written)
	}
	raw, err := os.ReadFile("/proc/self/io")
	for line := range strings.Lines(string(raw)) {
		fmt.Sscanf(line, "write_bytes: %d", &c.written)
	}
	return c, err
}

// each says what one of n deliveries has taken since before.
func (c costs) each(before costs, n int) string {
	return fmt.Sprintf("%d µs of CPU here, %.1f KB written, %.1f KB private a letter",
		(c.cpu-before.cpu).Microseconds()/int64(n), float64(c.written-before.written)/1000/float64(n),
		float64(max(0, c.private-before.private))*1.024/float64(n))
}
