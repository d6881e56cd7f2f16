package main

import (
	"context"
	"os"
	"testing"
	"time"
)

// The test binary is its own worker.
func TestMain(m *testing.M) {
	if os.Getenv(workerEnv) != "" {
		os.Exit(work())
	}
	os.Exit(m.Run())
}

// The short run of what `make chaos` does at length.
func TestNothingIsLost(t *testing.T) {
	ctx, stop := context.WithTimeout(t.Context(), 4*time.Minute)
	defer stop()
	_, err := playAll(ctx, 3000, 4, func(r report) {
		t.Logf("%s, %s: %d letters, %d faults: %d lost, %d arrived twice, %d repeats counted, in %v", r.name, r.database, r.letters, r.faults, r.lost(), r.extra, r.repeats, r.took.Round(time.Millisecond))
	})
	if err != nil {
		t.Fatal(err)
	}
}
