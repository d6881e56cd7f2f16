package main

import (
	"testing"

	"github.com/illumicode/illumicode/examples/internal/played"
)

func TestMain(m *testing.M) { played.Main(m, main) }

// The example tells its story to the end.
func TestRun(t *testing.T) {
	played.Tells(t,
		`pending: the account has mara@gullquay.example`,
		`proven:  the account has mara.quist@ternisle.example`,
		`stolen:  the account has mara.quist@elsewhere.example`,
		`undone:  the account has ""; locked`,
		`asked:   the account has ""`,
		`settled: the account has mara.quist@ternisle.example`,
	)
}
