package main

import (
	"runtime"
	"runtime/debug"
	"strings"
	"testing"
)

func TestVersion(t *testing.T) {
	info := &debug.BuildInfo{GoVersion: "go1.26.8", Main: debug.Module{Version: "v1.2.3"},
		Settings: []debug.BuildSetting{{Key: "vcs.revision", Value: "4f3cc18"}, {Key: "vcs.modified", Value: "true"}}}
	if got, want := version(info), "illumicode v1.2.3 (4f3cc18, changed since), go1.26.8"; got != want {
		t.Errorf("version = %q, want %q", got, want)
	}
	p := newPlace(t)
	if out := p.must("--version"); !strings.HasPrefix(out, "illumicode ") || !strings.Contains(out, runtime.Version()) {
		t.Errorf("--version: %q", out)
	}
	help := p.must("--help")
	for _, want := range []string{"--version", "completion"} {
		if !strings.Contains(help, want) {
			t.Errorf("--help does not name %s:\n%s", want, help)
		}
	}
	if out := p.must("completion", "bash"); !strings.Contains(out, "illumicode") {
		t.Errorf("completion bash: %.200s", out)
	}
}
