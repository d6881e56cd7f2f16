package config

import (
	"os"
	"reflect"
	"regexp"
	"testing"
)

// The guide shows every key of a scenario, and the scenarios that are shipped can be read.
func TestScenarios(t *testing.T) {
	raw, err := os.ReadFile("../../docs/rehearse.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, section := range []any{Rehearsal{}, Behaves{}, Outage{}, People{}, ToMany{}} {
		for i := range reflect.TypeOf(section).NumField() {
			f := reflect.TypeOf(section).Field(i)
			if key := f.Tag.Get("toml"); key != "" && !regexp.MustCompile(`\b`+key+`\b`).Match(raw) {
				t.Errorf("docs/rehearse.md does not have the key %q of %T", key, section)
			}
		}
	}
	for _, name := range []string{"storm", "day"} {
		if s, err := LoadScenario("../../demo/" + name + ".toml"); err != nil || len(s.Providers) != 4 ||
			len(s.Rules) < 8 {
			t.Errorf("%s: %+v, %v", name, s, err)
		}
	}
}
