package illumicode_test

import (
	"os"
	"testing"
)

func readFile(tb testing.TB, name string) string {
	tb.Helper()
	raw, err := os.ReadFile(name)
	if err != nil {
		tb.Fatal(err)
	}
	return string(raw)
}
