package main

import (
	"strings"
	"testing"

	"github.com/illumicode/illumicode/examples/internal/played"
)

func TestMain(m *testing.M) { played.Main(m, main) }

// Both passengers hear of the move at once, and are reminded two hours before the new time.
func TestRun(t *testing.T) {
	out := played.Run(t)
	at := make(map[string]int)
	for line := range strings.Lines(out) {
		for _, what := range []string{"instead", "Boarding at 4:30", "leaves pier 2 at 4:30\u202fPM.\n",
			"leaves pier 2 at 4:30 PM.\n"} {
			if strings.Contains(line, what) {
				at[line[:5]]++
			}
		}
	}
	if at["08:31"] != 2 || at["14:31"] != 2 || len(at) != 2 || !strings.Contains(out, "and 2 reminders with it") {
		t.Errorf("letters at %v:\n%s", at, out)
	}
}
