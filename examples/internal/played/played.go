// Package played runs an example as a process of its own, from its test.
package played

import (
	"os"
	"os/exec"
	"strings"
	"testing"
)

// Main is the TestMain of an example whose one argument is a folder: in a process that [Run] has
// started it is the example.
func Main(m *testing.M, main func()) {
	if dir := os.Getenv("RUN_EXAMPLE"); dir != "" {
		os.Args = []string{os.Args[0], dir}
		main()
		return
	}
	os.Exit(m.Run())
}

// Run runs the example in a new folder and returns what it prints.
func Run(t *testing.T) string {
	t.Helper()
	cmd := exec.CommandContext(t.Context(), os.Args[0])
	cmd.Env = append(os.Environ(), "RUN_EXAMPLE="+t.TempDir())
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return string(out)
}

// Tells runs the example and fails unless it prints these lines, in this order.
func Tells(t *testing.T, lines ...string) {
	t.Helper()
	out := Run(t)
	rest := out
	for _, want := range lines {
		_, after, found := strings.Cut(rest, want+"\n")
		if !found {
			t.Fatalf("it does not say %q, or not in its place:\n%s", want, out)
		}
		rest = after
	}
}
