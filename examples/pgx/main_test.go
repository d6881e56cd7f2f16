package main

import (
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/illumicode/illumicode/internal/pgtest"
)

// The test binary is the example.
func TestMain(m *testing.M) {
	if len(os.Args) > 1 && strings.HasPrefix(os.Args[1], "host=") {
		main()
		return
	}
	pgtest.Main(m)
}

// Its rows and the library's are there together, and a taken address gets the letter that says so.
func TestRun(t *testing.T) {
	out, err := exec.CommandContext(t.Context(), os.Args[0], pgtest.Fresh(t)).CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	for _, want := range []string{"confirmed: 1\n", "a letter to jens@gullquay.example\n",
		"a letter to mara@gullquay.example\n", "users: 2\n"} {
		if !strings.Contains(string(out), want) {
			t.Errorf("it does not say %q:\n%s", want, out)
		}
	}
}
