package strange_test

import (
	"strings"
	"testing"

	"github.com/illumicode/illumicode/internal/strange"
)

// What a server answers does nothing to a terminal, a log or a table.
func TestStrangeText(t *testing.T) {
	for given, want := range map[string]string{
		"550 no \x1b[2Jsuch\r\nuser\x00": "550 no [2Jsuch user",
		"abc\u202edef\u2066":             "abcdef",
		"\xff\xfe ok \u2028 next":        "ok next",
		strings.Repeat("é", 400):         strings.Repeat("é", 299) + "…",
	} {
		if got := strange.Line(given); got != want {
			t.Errorf("%q is %q, want %q", given, got, want)
		}
	}
}
