package main

import (
	"context"
	"os/exec"
	"path/filepath"
	"testing"
	"time"
)

// The short run of what `make chaos` does at length. The workers are built without the race
// detector, which makes them too slow for leases of a second.
func TestNothingIsLost(t *testing.T) {
	ctx, stop := context.WithTimeout(t.Context(), 15*time.Minute)
	defer stop()
	program := filepath.Join(t.TempDir(), "chaos")
	build := exec.CommandContext(ctx, "go", "build", "-o", program, ".")
	build.Env = append(build.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	_, err := playAll(ctx, program, "", size{2000, 3}, func(r report) {
		t.Logf("%s, %s: %d letters, %d faults: %d lost, %d arrived twice, %d repeats counted, in %v", r.name,
			r.database, r.letters, r.faults, r.lost(), r.extra, r.repeats, r.took.Round(time.Millisecond))
	})
	if err != nil {
		t.Fatal(err)
	}
}
