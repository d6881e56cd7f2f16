package render_test

import (
	"bytes"
	"errors"
	htmltemplate "html/template"
	"strings"
	"testing"
	"text/template"

	"golang.org/x/text/language"

	"github.com/illumicode/illumicode/internal/core/render"
)

const partials = `{{define "button"}}{{end}}{{define "code"}}{{end}}{{define "table"}}{{end}}{{define "notice"}}{{end}}`

// Layouts are worked out as far as their letters are alike; what comes out is what executing the layout as
// it was written gives. Each is executed for letters that differ in everything a sheet can hold.
func TestLayoutsAreExecutedAsWritten(t *testing.T) {
	for _, layout := range []string{
		`<p title="{{.Writer.Name}}">{{.Writer.Name}} {{.Subject}}</p>`,
		`<a href="{{.Writer.HomePage}}?q={{.Writer.Name}}">{{range .Imprint}}{{.}}<br>{{else}}none{{end}}</a>`,
		`<p style="color:{{.Writer.Colours.Ink}}">{{with .Writer.HomePage}}{{.}} of ` +
			`{{$.Writer.Name}}{{else}}nowhere{{end}}</p>`,
		`{{range .Opening}}<p>{{.}}, {{$.Writer.Name}}, {{$.Subject}}</p>{{else}}{{.Writer.Name}}{{end}}`,
		`{{if .Link}}{{if .Imprint}}{{index .Imprint 0}}{{else}}-{{end}}<a ` +
			`href="{{.Link}}">{{.Button}}</a>{{else}}{{.Writer.Name}}{{end}}`,
		`{{if not .Body}}{{range .Aside}}{{if $.Mark}}{{break}}{{end}}{{.}}{{end}}{{end}}`,
		`{{$name := .Writer.Name}}{{with $x := .Subject}}{{$x}}{{$name}}{{.}}{{end}}`,
		`{{range $i, $line := .Imprint}}{{$i}}{{$line}}{{end}}{{with .Opening}}{{len .}}{{end}}`,
		`{{define "foot"}}{{.Name}}{{end}}{{template "foot" .Writer}}{{printf "%s %s" .Lang .Closing}}{{/* kept ` +
			`out */}}`,
		`{{if .Code}}{{.CodeLabel}} {{.Code}}{{end}}{{if .NotMeLink}}<a ` +
			`href="{{.NotMeLink}}">{{.NotMe}}</a>{{else}}{{.NotMe}}{{end}}`,
		`{{.Button}} {{.CodeLabel}} {{.NotMe}} {{.NotMeLink}} {{.Link}} {{.Code}}`,
		`{{if and .Imprint .Code}}{{index .Imprint 1}}{{end}}{{if eq .Dir "rtl"}}{{.Subject}}{{else if .Mark}}<img ` +
			`src="{{.Mark}}" alt="">{{end}}`,
	} {
		set, err := render.NewSet(render.Source{Layout: render.Layout{Text: partials + layout, HTML: partials + layout},
			Catalogs: []render.Catalog{{
				Locale: language.English, Units: map[string]render.Forms{
					"minute": {"one": "minute", "other": "minutes"}, "hour": {"one": "hour", "other": "hours"}},
				Calendar: render.Calendar{Months: make([]string, 12), Weekdays: make([]string, 7), Date: "{{.day}}",
					Time: "{{.hour}}"},
				Letters: map[string]render.Parts{
					"full": {Subject: "A <letter> from {{.site}}", Opening: "Hello {{.name}}\n\nand welcome",
						Button: "Press {{.site}}", CodeLabel: "Code",
						Aside: "No & yes", NotMe: "Not me", Closing: "{{if .name}}Yours{{end}}"},
					"bare": {Subject: "{{.name}}"},
				},
			}}})
		if err != nil {
			t.Fatal(err)
		}
		text, html := template.Must(template.New("").Parse(partials+layout)),
			htmltemplate.Must(htmltemplate.New("").Parse(partials+layout))
		// compare renders a letter, and executes its layouts as they are.
		compare := func(name, reader string, proof render.Proof, sheet render.Sheet) {
			got, err := set.Render(render.Request{Letter: name, Locale: language.English,
				Data: map[string]any{"name": reader}, Proof: proof, Writer: sheet.Writer})
			var asText, asHTML bytes.Buffer
			wrong := errors.Join(text.Execute(&asText, sheet), html.Execute(&asHTML, sheet))
			same := got.HTML == asHTML.String() &&
				strings.Join(strings.Fields(got.Text), " ") == strings.Join(strings.Fields(asText.String()), " ")
			if wrong == nil && (err != nil || !same) || wrong != nil && err == nil {
				t.Errorf("%s: letter %s of %q to %q, %+v: %v, %v\ngot  %s\nwant %s", layout, name, sheet.Writer.Name,
					reader, proof, err, wrong, got.HTML, asHTML.String())
			}
		}
		both := render.Proof{Link: "https://ferry.example/c?a=1&b='2'", Code: "482 913",
			NotMe: "https://ferry.example/n"}
		for _, w := range []render.Writer{
			{Name: "Tern <Isle>", HomePage: "https://ferry.example/", Imprint: "Pier 1\nGull & Quay", Mark: "cid:mark"},
			{Name: `"'`},
			{Name: "Tern", HomePage: "javascript:alert(1)", Imprint: "</p>\n{{.Subject}}",
				Mark: "https://ferry.example/m.png"},
		} {
			w, err := w.Check()
			if err != nil {
				t.Fatal(err)
			}
			for _, reader := range []string{"Mara", "</title><script>"} {
				sheet := render.Sheet{Lang: "en", Dir: "ltr", Subject: reader, Writer: w,
					Mark: htmltemplate.URL(w.Mark)}
				if w.Imprint != "" {
					sheet.Imprint = strings.Split(w.Imprint, "\n")
				}
				compare("bare", reader, render.Proof{}, sheet)
				sheet.Subject, sheet.Opening, sheet.Aside, sheet.Closing = "A <letter> from "+w.Name,
					[]string{"Hello " + reader, "and welcome"}, []string{"No & yes"}, []string{"Yours"}
				for _, proof := range []render.Proof{both, {Link: both.Link}, {Code: both.Code, NotMe: both.NotMe},
					{}} {
					sheet.Link, sheet.Code, sheet.NotMe, sheet.NotMeLink, sheet.Button, sheet.CodeLabel = proof.Link,
						proof.Code, "Not me", proof.NotMe, "", ""
					if proof.Link != "" {
						sheet.Button = "Press " + w.Name
					}
					if proof.Code != "" {
						sheet.CodeLabel = "Code"
					}
					compare("full", reader, proof, sheet)
				}
			}
		}
	}
}
