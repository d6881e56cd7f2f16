package main

import (
	"testing"

	"github.com/illumicode/illumicode/examples/internal/played"
)

func TestMain(m *testing.M) { played.Main(m, main) }

// The example tells its story to the end.
func TestRun(t *testing.T) {
	played.Tells(t,
		`pay 25000.00 to Ines Amdal: refused: illumicode: the proof is for another action`,
		`pay 250.00 to Ines Amdal: done`,
		`pay 250.00 to Ines Amdal: refused: illumicode: it has been done already`,
		`1 payment, 250.00 in all`,
	)
}
