package main

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/illumicode/illumicode/internal/pgtest"
)

// The test binary is the example, and its workers.
func TestMain(m *testing.M) {
	if len(os.Args) > 1 && strings.HasPrefix(os.Args[1], "host=") {
		main()
		return
	}
	pgtest.Main(m)
}

// Three processes share the letters, and none goes out twice.
func TestRun(t *testing.T) {
	out, err := exec.CommandContext(t.Context(), os.Args[0], pgtest.Fresh(t)).CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	total, workers := 0, 0
	for line := range strings.Lines(string(out)) {
		var attempts, deliveries int
		if _, rest, ok := strings.Cut(line, ": "); ok && strings.HasPrefix(line, "worker") {
			if _, err := fmt.Sscanf(rest, "%d attempts, %d letters", &attempts, &deliveries); err != nil ||
				attempts != deliveries {
				t.Errorf("%q, %v", line, err)
			}
			total, workers = total+deliveries, workers+1
		}
	}
	if total != passengers || workers != 3 {
		t.Errorf("%d letters by %d workers:\n%s", total, workers, out)
	}
}
