package letters

import (
	"strings"
	"testing"
	"testing/fstest"
)

func TestLoadRefuses(t *testing.T) {
	catalog := "[units]\nminute = {other = \"m\"}\nhour = {other = \"h\"}\n"
	for _, tt := range []struct{ name, file, body, want string }{
		{"unknown key", "en.toml", catalog + "[letter.a]\nsubject = \"s\"\nbuton = \"b\"\n", `unknown key "letter.a.buton"`},
		{"not TOML", "en.toml", "[units", "en.toml"},
		{"no subject", "en.toml", catalog + "[letter.a]\nopening = \"o\"\n", `letter "a", locale en, subject`},
		{"does not parse", "en.toml", catalog + "[letter.a]\nsubject = \"{{.x\"\n", `letter "a", locale en, subject`},
		{"loops", "en.toml", catalog + "[letter.a]\nsubject = \"{{range .x}}{{end}}\"\n", "values such as {{.name}}"},
		{"no units", "en.toml", "[letter.a]\nsubject = \"s\"\n", `unit "minute"`},
		{"not a locale", "xx-invalid!.toml", catalog, "BCP 47"},
		{"no fallback", "de.toml", catalog, "en.toml"},
	} {
		fsys := fstest.MapFS{"layout.txt": {Data: []byte("{{.Subject}}")}, "layout.html": {Data: []byte("{{.Subject}}")},
			tt.file: {Data: []byte(tt.body)}}
		if _, err := Load(fsys, "en"); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v, want an error with %q", tt.name, err, tt.want)
		}
	}
}
