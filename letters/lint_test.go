package letters

import (
	"strings"
	"testing"
	"testing/fstest"

	"github.com/illumicode/illumicode/internal/core/render"
)

func TestDefaultLettersLint(t *testing.T) {
	w := writer(render.Writer{Name: "Tern Isle Ferry", HomePage: "https://ferry.example/"})
	for _, f := range defaults(t).Lint(w, "https://ferry.example") {
		t.Errorf("%+v", f)
	}
	var page strings.Builder
	if err := defaults(t).Gallery(&page, w, "https://ferry.example"); err != nil ||
		strings.Count(page.String(), "<iframe") != 12*11*3 {
		t.Errorf("the gallery has %d frames, %v", strings.Count(page.String(), "<iframe"), err)
	}
}

// Each mistake in a letter is found, and named with letter and locale.
func TestLintFinds(t *testing.T) {
	set, err := Load(fstest.MapFS{
		"en.toml": {Data: []byte("[letter.bad]\nsubject = \"FERRY TICKETS NOW!!! " + strings.Repeat("sail ", 20) +
			"\"\nopening = \"{{.who}}\"\nclosing = \"Bye.\"\naside = \"P.S.\"\n[units]\nknot = {one = \"knot\", " +
			"other = \"knots\"}\n")},
		"de.toml": {Data: []byte("[letter.bad]\nsubject = \"Kurz\"\n")},
		"bad.html": {
			Data: []byte(
				`{{plural "knot" 3}} <p style="color:#999999">pale words</p>
<img src="https://x.example/a.png"><a href="/pier">pier</a>
<a href="https://elsewhere.example/">away</a><a href="http://ferry.example/">clear</a>
<script>alert(1)</script>` + strings.Repeat("<p>much text</p>", 8000))},
	}, "en")
	if err != nil {
		t.Fatal(err)
	}
	found := render.Of(set).Lint(writer(render.Writer{Name: "Ferry"}), "https://ferry.example")
	for _, want := range []struct {
		locale string
		level  render.Level
		what   string
	}{
		{"en", render.Advice, "the subject shouts"},
		{"en", render.Advice, "many readers cut it"},
		{"en", render.Advice, `"who" has no sample`},
		{"en", render.Fault, "a contrast of 2.8"},
		{"en", render.Fault, "no alt text"},
		{"en", render.Fault, "/pier is relative"},
		{"en", render.Advice, "elsewhere.example leaves the site"},
		{"en", render.Advice, "is not https"},
		{"en", render.Fault, "<script>"},
		{"en", render.Fault, "readers cut letters"},
		{"de", render.Advice, "aside is missing in this locale; readers get the letter in en"},
		{"de", render.Advice, "units.knot is missing in this locale"},
		{"fr", render.Advice, "subject is missing in this locale"},
	} {
		ok := false
		for _, f := range found {
			ok = ok || f.Letter == "bad" && f.Locale == want.locale && f.Level == want.level &&
				strings.Contains(f.What, want.what)
		}
		if !ok {
			t.Errorf("not found: %+v", want)
		}
	}
}

// Whatever a catalog holds: it is refused with an error, or every letter of it can be shown or says
// why not.
func FuzzCatalog(f *testing.F) {
	for _, name := range []string{"en", "ar"} {
		raw, err := files.ReadFile("default/" + name + ".toml")
		if err != nil {
			f.Fatal(err)
		}
		f.Add(string(raw))
	}
	f.Add("[letter.x]\nsubject = \"{{.a}} {{plural \\\"minute\\\" .b}}\"\nmain = \"{{range .c}}{{.}}{{end}}\"\n")
	w := writer(render.Writer{Name: "Ferry"})
	f.Fuzz(func(t *testing.T, catalog string) {
		set, err := Load(fstest.MapFS{"en.toml": {Data: []byte(catalog)}}, "en")
		if err != nil {
			return
		}
		for _, name := range set.Names() {
			r, err := render.Of(set).Render(render.Of(set).Sample(name, render.Of(set).Locale("en"), w,
				"https://ferry.example"))
			if err == nil && (r.Subject == "" || strings.ContainsAny(r.Subject, "\r\n")) {
				t.Errorf("letter %q has the subject %q", name, r.Subject)
			}
		}
	})
}
