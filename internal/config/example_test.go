package config

import (
	"os"
	"reflect"
	"regexp"
	"strings"
	"testing"
)

// The example names every key that a configuration can have, set or commented out.
func TestExampleHasEveryKey(t *testing.T) {
	raw, err := os.ReadFile("../../illumicode.example.toml")
	if err != nil {
		t.Fatal(err)
	}
	keys := make(map[string]bool)
	collect(reflect.TypeFor[File](), keys)
	if len(keys) < 100 {
		t.Fatalf("only %d keys found", len(keys))
	}
	for key := range keys {
		if !regexp.MustCompile(`(?m)(^|[\[.# {])` + key + `( =|\]|\.)|(or|and) ` + key + `\b`).Match(raw) {
			t.Errorf("illumicode.example.toml lacks %s", key)
		}
	}
}

// collect gathers the keys of a type and of those inside it.
func collect(t reflect.Type, keys map[string]bool) {
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice || t.Kind() == reflect.Map {
		t = t.Elem()
	}
	if t.Kind() != reflect.Struct {
		return
	}
	for f := range t.Fields() {
		key, _, _ := strings.Cut(f.Tag.Get("toml"), ",")
		if key != "" && key != "-" {
			keys[key] = true
		}
		if f.IsExported() || f.Anonymous {
			collect(f.Type, keys)
		}
	}
}
