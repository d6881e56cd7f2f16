package main

import (
	"os"
	"os/exec"
	"strings"
	"testing"
)

func TestMain(m *testing.M) {
	if dir := os.Getenv("RUN_EXAMPLE"); dir != "" {
		os.Args = []string{"sailing-notices", dir}
		main()
		return
	}
	os.Exit(m.Run())
}

// Both passengers hear of the move at once, and are reminded two hours before the new time.
func TestRun(t *testing.T) {
	cmd := exec.CommandContext(t.Context(), os.Args[0])
	cmd.Env = append(os.Environ(), "RUN_EXAMPLE="+t.TempDir())
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	at := make(map[string]int)
	for line := range strings.Lines(string(out)) {
		for _, what := range []string{"instead", "Boarding at 4:30", "leaves pier 2 at 4:30\u202fPM.\n", "leaves pier 2 at 4:30 PM.\n"} {
			if strings.Contains(line, what) {
				at[line[:5]]++
			}
		}
	}
	if at["08:31"] != 2 || at["14:31"] != 2 || len(at) != 2 || !strings.Contains(string(out), "and 2 reminders with it") {
		t.Errorf("letters at %v:\n%s", at, out)
	}
}
