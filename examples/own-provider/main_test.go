package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/illumicode/illumicode/provider/providertest"
)

func TestMain(m *testing.M) {
	if dir := os.Getenv("RUN_EXAMPLE"); dir != "" {
		os.Args = []string{"own-provider", dir}
		main()
		return
	}
	os.Exit(m.Run())
}

// The provider of the example keeps the contract of providers.
func TestContract(t *testing.T) {
	providertest.Run(t, func(t *testing.T) providertest.Subject {
		b := bottle{t.TempDir(), t.TempDir()}
		return providertest.Subject{Provider: b, Received: func() int {
			afloat, err := filepath.Glob(filepath.Join(b.sea, "*"))
			if err != nil {
				t.Fatal(err)
			}
			return len(afloat)
		}}
	})
}

func TestRun(t *testing.T) {
	cmd := exec.CommandContext(t.Context(), os.Args[0])
	cmd.Env = append(os.Environ(), "RUN_EXAMPLE="+t.TempDir())
	out, err := cmd.CombinedOutput()
	_, path, ok := strings.Cut(strings.TrimSpace(string(out)), "sent: ")
	if err != nil || !ok {
		t.Fatalf("%v\n%s", err, out)
	}
	path = path[:strings.IndexByte(path+"\n", '\n')]
	if raw, err := os.ReadFile(path); err != nil ||
		!strings.Contains(string(raw), "A test email from Tern Isle Ferry") {
		t.Errorf("%s: %v\n%s", path, err, raw)
	}
}
