package letters

import (
	"errors"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"golang.org/x/text/language"

	"github.com/illumicode/illumicode/internal/core/render"
)

// A sailing's letter has a body of its own, in HTML alone, and words in two languages.
func sailing(tb testing.TB) *render.Set {
	tb.Helper()
	set, err := Load(fstest.MapFS{
		"en.toml": {Data: []byte(`
[units]
seat = { one = "seat", other = "seats" }
[letter.moved]
subject = "The sailing at {{time .departs}} has moved"
opening = "Dear {{.name}},"
closing = "Fair winds."
words = { why = "Because of the weather", book = "See the booking" }
`)},
		"de.toml": {Data: []byte(`
[units]
seat = { one = "Platz", other = "Plätze" }
[letter.moved]
subject = "Die Abfahrt um {{time .departs}} wurde verlegt"
opening = "Guten Tag {{.name}},"
words = { why = "Wegen des Wetters", book = "Zur Buchung" }
`)},
		"fr.toml": {Data: []byte(`
[letter.moved]
subject = "La traversée de {{time .departs}} est déplacée"
opening = "Bonjour {{.name}},"
words = { why = "À cause du temps" }
`)},
		"moved.html": {
			Data: []byte(
				`<p>{{word "why"}}: <b>{{date .departs}}</b>, {{time .departs}},
{{plural "seat" .seats}}, {{number .metres}} m.</p>
{{notice .note}}{{table .rows}}{{button (word "book") .url}}
<ul>{{range .stops}}<li>{{.port}} for {{$.name}}</li>{{end}}</ul>`)},
		"letters.toml": {
			Data: []byte(
				"[moved]\nlane = \"bulk\"\nlife = \"6h\"\ncategory = \"sailings\"\nreply_to = " +
					"\"harbour@ternisle.example\"\nsample = { stops = [{ port = \"Gull Quay\" }], seats = 2, " +
					"metres = 7, url = \"https://ferry.example/b\", departs = \"2031-03-04T22:05:00Z\", rows = " +
					"[[\"Fog Head\"]] }\n")},
	}, "en")
	if err != nil {
		tb.Fatal(err)
	}
	return render.Of(set)
}

func movedData() map[string]any {
	return map[string]any{
		"name": "Mara", "departs": "2031-03-04T22:05:00Z", "seats": 2, "metres": 12345.5,
		"note": "Bring <warm> clothes",
		"rows": [][]string{{"Gull Quay", "22:05"}, {"Törnholm", "23:50"}}, "url": "https://ferry.example/b?x=1&y=2",
		"stops": []map[string]any{{"port": "Gull Quay"}},
	}
}

// A sample holds lists of objects, as the data of a gathered letter do.
func TestSampleWithLists(t *testing.T) {
	r, err := sailing(t).Render(sailing(t).Sample("moved", language.English, writer(render.Writer{Name: "Ferry"}),
		"https://ferry.example"))
	if err != nil || !strings.Contains(r.Text, "Gull Quay for") {
		t.Errorf("%v: %s", err, r.Text)
	}
}

func TestBody(t *testing.T) {
	berlin := time.FixedZone("Berlin", 3600)
	set := sailing(t)
	for _, tt := range []struct {
		locale, reader string
		want           []string
	}{
		{"en", "Mara", []string{"Because of the weather: Tuesday, March 4, 2031, 11:05 PM, 2 seats, 12,345.5 m.",
			"See the booking", "Fair winds."}},
		{"en", "Ysolt", []string{"Because of the weather"}},
		{"en-GB", "Mara", []string{"Because of the weather: Tuesday 4 March 2031, 23:05, 2 seats, 12,345.5 m."}},
		{"de", "Mara", []string{"Wegen des Wetters: Dienstag, 4. März 2031, 23:05 Uhr, 2 Plätze, 12.345,5 m.",
			"Zur Buchung"}},
		// half a letter is none, and one without its units neither: no reader gets two languages
		{"fr", "Mara", []string{"Dear Mara", "Because of the weather", "2 seats,"}},
		{"pl", "Mara", []string{"Dear Mara", "2 seats,"}},
	} {
		data := movedData()
		data["name"] = tt.reader
		got, err := set.Render(render.Request{Letter: "moved", Locale: language.MustParse(tt.locale), Zone: berlin,
			Data: data, Writer: writer(render.Writer{Name: "Ferry"})})
		if err != nil {
			t.Fatal(err)
		}
		flat := strings.Join(strings.Fields(got.Text), " ")
		shown := strings.Join(strings.Fields(words(t, got.HTML)), " ")
		for _, want := range append(tt.want, "Bring <warm> clothes", "Gull Quay for "+tt.reader, "Törnholm") {
			if !strings.Contains(flat, want) || !strings.Contains(shown, want) {
				t.Errorf("%s: %q is missing from the text or the HTML:\n%s", tt.locale, want, got.Text)
			}
		}
		if !strings.Contains(flat, "https://ferry.example/b?x=1&y=2") ||
			!strings.Contains(got.HTML, `href="https://ferry.example/b?x=1&amp;y=2"`) {
			t.Errorf("%s: the link is not in both forms:\n%s", tt.locale, got.Text)
		}
		if strings.Contains(got.Subject, "\n") || !strings.Contains(got.Subject, ":05") {
			t.Errorf("%s: subject %q", tt.locale, got.Subject)
		}
	}
}

// What a body is given cannot make a link of another kind, a hole, or a flood.
func TestBodyRefusals(t *testing.T) {
	set := sailing(t)
	for _, tt := range []struct {
		name  string
		value string
		to    any
		want  string
	}{
		{"a script for a link", "url", "javascript:alert(1)", "neither http"},
		{"a relative link", "url", "/b", "not absolute"},
		{"no time", "departs", "tomorrow", "RFC 3339"},
		{"no number", "seats", []int{1}, "is no number"},
		{"a field of a row is missing", "stops", []map[string]any{{"quay": "x"}}, "port"},
		{"a flood", "note", strings.Repeat("x", 50<<20), "grows past"},
	} {
		data := movedData()
		data[tt.value] = tt.to
		_, err := set.Render(render.Request{Letter: "moved", Locale: language.English, Data: data,
			Writer: writer(render.Writer{Name: "Ferry"})})
		if err == nil || !strings.Contains(err.Error(), tt.want) ||
			!strings.Contains(err.Error(), `letter "moved", locale en`) || len(err.Error()) > 1000 {
			t.Errorf("%s: %.300v, want an error with %q", tt.name, err, tt.want)
		}
	}
	for _, missing := range []string{"name", "departs", "rows", "stops", "url"} {
		data := movedData()
		delete(data, missing)
		if err := set.Check("moved", language.German, data); !errors.Is(err, render.ErrMissing) ||
			!strings.Contains(err.Error(), `"`+missing+`"`) {
			t.Errorf("without %s: %v", missing, err)
		}
	}
}

// A type that lacks a field of the letter is refused before anything is sent.
func TestCheckType(t *testing.T) {
	type stop struct {
		Port string `json:"port"`
	}
	type good struct {
		Name    string     `json:"name"`
		Departs time.Time  `json:"departs"`
		Seats   int        `json:"seats"`
		Metres  float64    `json:"metres"`
		Note    string     `json:"note,omitempty"`
		Rows    [][]string `json:"rows"`
		URL     string     `json:"url"`
		Stops   []stop     `json:"stops"`
	}
	type badStop struct {
		good
		Stops []struct {
			Quay string `json:"quay"`
		} `json:"stops"`
	}
	type noNote struct {
		Name string `json:"name"`
	}
	set := sailing(t)
	if err := set.CheckType("moved", &good{}); err != nil {
		t.Errorf("a type that fits: %v", err)
	}
	for want, sample := range map[string]any{`"port"`: badStop{}, `"departs"`: noNote{}, "use a struct": 7} {
		if err := set.CheckType("moved", sample); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("CheckType(%T) = %v, want an error with %s", sample, err, want)
		}
	}
	if err := set.CheckType("confirm", struct {
		Name string `json:"name"`
	}{}); err != nil {
		t.Errorf("the values that every letter is given: %v", err)
	}
}

func TestKind(t *testing.T) {
	k := sailing(t).Kind("moved")
	if k.Lane != "bulk" || k.Life != 6*time.Hour || k.Security() || k.ReplyTo != "harbour@ternisle.example" {
		t.Errorf("kind %+v", k)
	}
	if !defaults(t).Kind("confirm").Security() {
		t.Error("the confirmation could be unsubscribed from")
	}
}

func TestWriter(t *testing.T) {
	for want, w := range map[string]render.Writer{
		"is no colour":  {Colours: render.Colours{Accent: "teal"}},
		"is no colour;": {Colours: render.Colours{Ink: "#12345"}},
		"contrast of":   {Colours: render.Colours{Accent: "#cccccc"}},
		"ink on sheet":  {Colours: render.Colours{Ink: "#777788", Sheet: "#dddddd"}},
		"https URL":     {Mark: "http://ferry.example/mark.png"},
		"nor the cid:":  {Mark: "javascript:alert(1)"},
	} {
		if _, err := w.Check(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v, want an error with %q", w, err, want)
		}
	}
	if r := render.Contrast("#000", "#ffffff"); r != 21 {
		t.Errorf("black on white has %v, want 21", r)
	}
	got, err := defaults(t).Render(func() render.Request {
		r := confirm("ar", "Mara")
		r.Writer = writer(render.Writer{Name: "Ferry", Mark: "cid:mark", Colours: render.Colours{Accent: "#7a1f3d"}})
		return r
	}())
	if err != nil || !strings.Contains(got.HTML, `src="cid:mark"`) ||
		!strings.Contains(got.HTML, "background:#7a1f3d") || !strings.Contains(got.HTML, `dir="rtl"`) ||
		strings.Contains(got.HTML, "ZgotmplZ") {
		t.Errorf("mark, colour or direction is missing: %v", err)
	}
}
