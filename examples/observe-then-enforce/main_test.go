package main

import (
	"testing"

	"github.com/illumicode/illumicode/examples/internal/played"
)

func TestMain(m *testing.M) { played.Main(m, main) }

// The example tells its story to the end.
func TestRun(t *testing.T) {
	played.Tells(t,
		`observe true : 24 of 24 admitted, 14 would have been refused, 0 were`,
		`the first refusal: office, which allows 30 an hour, 10 at once from one network; again in 2m0s`,
		`observe false: 10 of 24 admitted, 0 would have been refused, 14 were`,
	)
}
