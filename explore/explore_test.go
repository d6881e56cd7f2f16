package main_test

import (
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

func build(t *testing.T) (binary string) {
	t.Helper()
	binary = filepath.Join(t.TempDir(), "explore")
	cmd := exec.CommandContext(t.Context(), "go", "build", "-o", binary, "./explore")
	cmd.Dir = ".."
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return binary
}

// The command explores, tells the history of a seed, finds a fault that is planted, and says what is wrong with a seed.
func TestExplore(t *testing.T) {
	binary := build(t)
	for _, tt := range []struct {
		args  string
		fails bool
		want  string
	}{
		{"-histories 20", false, "20 histories, "},
		{"-seed 3-7 -story", false, "pass: ok"},
		{"-seed 7 -kind faulty -story", false, "the fault: "},
		{"-planted -fault tries_spent", true, "0 of 0 planted faults"},
		{"-planted -for 2m -fault accepted_again", false, "1 of 1 were found"},
		{"-seed 0-7 -story", true, "of version 0"},
		{"-seed seven -story", true, "is no seed"},
		{"", true, "say how long"},
		{"-histories 1 -kind other", true, "no kind"},
	} {
		var args []string
		for _, arg := range strings.Fields(tt.args) {
			args = append(args, strings.ReplaceAll(arg, "_", " "))
		}
		cmd := exec.CommandContext(t.Context(), binary, args...)
		cmd.Dir = ".."
		out, err := cmd.CombinedOutput()
		if (err != nil) != tt.fails || !strings.Contains(string(out), tt.want) {
			t.Errorf("explore %s: %v\n%s", tt.args, err, out)
		}
	}
}
