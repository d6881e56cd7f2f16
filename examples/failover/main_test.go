package main

import (
	"testing"

	"github.com/illumicode/illumicode/examples/internal/played"
)

func TestMain(m *testing.M) { played.Main(m, main) }

// The example tells its story to the end.
func TestRun(t *testing.T) {
	played.Tells(t,
		`passenger1@ternisle.example, attempt 1: accepted through harbour`,
		`harbour falls over`,
		`passenger2@ternisle.example, attempt 1: transient through harbour`,
		`passenger2@ternisle.example, attempt 2: accepted through pier`,
		`    harbour: not needed; pier: chosen, as another was tried before`,
		`passenger6@ternisle.example, attempt 1: transient through harbour`,
		`passenger6@ternisle.example, attempt 2: accepted through pier`,
		`passenger7@ternisle.example, attempt 1: accepted through pier`,
	)
}
