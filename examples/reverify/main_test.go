package main

import (
	"os"
	"os/exec"
	"strings"
	"testing"
)

func TestMain(m *testing.M) {
	if dir := os.Getenv("RUN_EXAMPLE"); dir != "" {
		os.Args = []string{"reverify", dir}
		main()
		return
	}
	os.Exit(m.Run())
}

// The example tells its story to the end.
func TestRun(t *testing.T) {
	cmd := exec.CommandContext(t.Context(), os.Args[0])
	cmd.Env = append(os.Environ(), "RUN_EXAMPLE="+t.TempDir())
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	rest := string(out)
	for _, want := range []string{
		`pending: the account has mara@gullquay.example`,
		`proven:  the account has mara.quist@ternisle.example`,
		`stolen:  the account has mara.quist@elsewhere.example`,
		`undone:  the account has ""; locked`,
		`asked:   the account has ""`,
		`settled: the account has mara.quist@ternisle.example`,
	} {
		_, after, found := strings.Cut(rest, want+"\n")
		if !found {
			t.Fatalf("it does not say %q, or not in its place:\n%s", want, out)
		}
		rest = after
	}
}
