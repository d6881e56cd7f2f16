package main

import (
	"encoding/json"
	"os"
	"strings"
	"testing"
)

func TestCheckVerb(t *testing.T) {
	p := newPlace(t)
	nowhere := []string{"--resolver", "127.0.0.1:1"} // DNS of this test's own is tested in package check
	out := p.must(append([]string{"check", "configuration", "database", "harbour", "--raw"}, nowhere...)...)
	for _, want := range []string{"keyring", "those of this version", "accepted for user crew", "nothing was sent",
		"AUTH PLAIN •••"} {
		if !strings.Contains(out, want) {
			t.Errorf("check does not say %q:\n%s", want, out)
		}
	}
	if n := len(p.inbox.Letters("")); n != 0 {
		t.Errorf("check sent %d letters", n)
	}
	p.must("check", "providers", "--send-to", "mara@ternisle.example")
	if n := len(p.inbox.Letters("mara@ternisle.example")); n != 1 {
		t.Errorf("check --send-to sent %d letters", n)
	}
	if _, errOut, code := p.do("check", "pigeon"); code != exitMisused || !strings.Contains(errOut, "harbour") {
		t.Errorf("check of nothing: exit %d, %s", code, errOut)
	}
	if err := os.Chmod(p.file("keyring.json"), 0o644); err != nil {
		t.Fatal(err)
	}
	out, errOut, code := p.do("check", "configuration", "--json")
	var sections []struct {
		About string
		Steps []struct{ What, Verdict, Saw string }
	}
	if err := json.Unmarshal([]byte(out), &sections); err != nil || code != exitFailed || len(sections) != 1 ||
		sections[0].Steps[1].Verdict != "failed" || !strings.Contains(errOut, "1 of the steps failed") {
		t.Errorf("a keyring that all can read: exit %d, %s %s", code, out, errOut)
	}
}

// What a start refuses, check finds, and what it warns of.
func TestCheckStarts(t *testing.T) {
	p := newPlace(t)
	if out := p.must("check", "start"); !strings.Contains(out, "as `serve` does") {
		t.Errorf("a good configuration:\n%s", out)
	}
	t.Setenv("ILLUMICODE_API_KEY", "short")
	out, _, code := p.do("check", "start")
	if code != exitFailed || !strings.Contains(out, "24 characters or more") {
		t.Errorf("a short key: exit %d\n%s", code, out)
	}
}
