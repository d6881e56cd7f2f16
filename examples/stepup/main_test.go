package main

import (
	"os"
	"os/exec"
	"strings"
	"testing"
)

func TestMain(m *testing.M) {
	if dir := os.Getenv("RUN_EXAMPLE"); dir != "" {
		os.Args = []string{"stepup", dir}
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
		`pay 25000.00 to Ines Amdal: refused: illumicode: the proof is for another action`,
		`pay 250.00 to Ines Amdal: done`,
		`pay 250.00 to Ines Amdal: refused: illumicode: it has been done already`,
		`1 payment, 250.00 in all`,
	} {
		_, after, found := strings.Cut(rest, want+"\n")
		if !found {
			t.Fatalf("it does not say %q, or not in its place:\n%s", want, out)
		}
		rest = after
	}
}
