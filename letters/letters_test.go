package letters

import (
	"strings"
	"testing"
	"testing/fstest"
)

func TestLoadRefuses(t *testing.T) {
	const catalog = "[units]\nminute = {one = \"m\", other = \"m\"}\nhour = {one = \"h\", other = \"h\"}\n"
	letter := func(words string) string { return "[letter.a]\nsubject = \"s\"\n" + words + "\n" }
	for _, tt := range []struct{ name, file, body, want string }{
		{"unknown key", "en.toml", letter(`buton = "b"`), `unknown key "letter.a.buton"`},
		{"not TOML", "en.toml", "[units", "en.toml"},
		{"no subject", "en.toml", "[letter.a]\nopening = \"o\"\n", `letter "a", locale en, subject`},
		{"does not parse", "en.toml", "[letter.a]\nsubject = \"{{.x\"\n", `letter "a", locale en, subject`},
		{"loops", "en.toml", letter(`opening = "{{range .x}}{{end}}"`), "values such as {{.name}}"},
		{"includes itself", "en.toml", letter(`opening = "{{template \"opening\"}}"`), "values such as {{.name}}"},
		{"a form that is none", "en.toml", "[units]\nminute = {one = \"m\", ones = \"m\", other = \"m\"}\n",
			`"ones" is no plural form`},
		{"a form that is missing", "pl.toml", "[units]\nminute = {one = \"m\", other = \"m\"}\n",
			`the form "many" is missing`},
		{"a unit that no catalog has", "en.toml", letter(`opening = "{{if .n}}{{plural \"seat\" .n}}{{end}}"`),
			`the unit "seat" is missing`},
		{"short calendar", "en.toml", "[calendar]\nmonths = [\"x\"]\ndate = \"x\"\n", "twelve months"},
		{"a new locale without units", "nl.toml", letter(""), `unit "minute" is missing`},
		{"not a locale", "xx-invalid!.toml", catalog, "BCP 47"},
		{"not in the fallback", "de.toml", letter(""), `letter "a": the fallback locale en lacks it`},
		{"code in the subject", "en.toml", "[letter.a]\nsubject = \"{{.code}}\"\n", "locked screen"},
		{"kind of nothing", "letters.toml", "[gone]\nlane = \"bulk\"\n", `letter "gone"`},
		{"no such lane", "letters.toml", "[trial]\nlane = \"express\"\n", `no lane "express"`},
		{"bad life", "letters.toml", "[trial]\nlife = \"soon\"\n", "trial.life"},
		{"body of nothing", "gone.html", "<p>x</p>", `letter "gone": it has a body`},
		{"body that does not parse", "trial.html", "<p>{{.x</p>", `letter "trial"`},
		{"layout that does not parse", "layout.html", "{{.x", "layout, html"},
	} {
		fsys := fstest.MapFS{tt.file: {Data: []byte(tt.body)}}
		if _, err := Load(fsys, "en"); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v, want an error with %q", tt.name, err, tt.want)
		}
	}
	if _, err := Load(nil, "nl"); err == nil || !strings.Contains(err.Error(), "nl.toml") {
		t.Errorf("a fallback that is not there: %v", err)
	}
}
