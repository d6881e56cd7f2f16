package render

import (
	"fmt"
	htmltemplate "html/template"
	"io"
	"strings"
)

// A frame is one view of a letter in the gallery.
type frame struct {
	Title  string
	Class  string
	Source string
}

// A shown is a letter in a locale in the gallery.
type shown struct {
	Letter, Locale, Subject, Text string
	Frames                        []frame
}

var galleryPage = htmltemplate.Must(htmltemplate.New("gallery").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">
<title>Letters</title>
<style>
body { margin: 0; padding: 1.2rem 1.6rem; font: 16px/1.5 Georgia, "Times New Roman", serif;
  background: #f4f1ea; color: #1c2b33 }
h1 { font-size: 1.35rem; margin: 0 0 .4rem } h2 { font-size: 1.05rem; margin: 1.6rem 0 .1rem }
p { margin: 0 0 .6rem; color: #56676f }
nav a { display: inline-block; margin-right: 1rem; color: #9a4a1c }
.row { display: flex; gap: 1rem; align-items: flex-start; overflow-x: auto }
figure { margin: 0 } figcaption { font-size: .85rem; color: #56676f }
.box { overflow: hidden; border: 1px solid #c9d3d4 }
iframe { border: 0; transform: scale(.5); transform-origin: 0 0; background: #fff }
.desk .box { width: 330px; height: 410px } .desk iframe { width: 660px; height: 820px }
.phone .box { width: 195px; height: 410px } .phone iframe { width: 390px; height: 820px }
pre { margin: 0; width: 19rem; height: 412px; overflow: auto; background: #fffdf8; border: 1px solid #c9d3d4;
  padding: .6rem; box-sizing: border-box; font: 11px/1.4 "DejaVu Sans Mono", monospace; white-space: pre-wrap }
</style></head><body>
<h1>Letters</h1>
<nav>{{range .}}<a href="#{{.Letter}}-{{.Locale}}">{{.Letter}} {{.Locale}}</a>{{end}}</nav>
{{range .}}<section id="{{.Letter}}-{{.Locale}}"><h2>{{.Letter}}, {{.Locale}}</h2><p>{{.Subject}}</p>
<div class="row">{{range .Frames}}<figure class="{{.Class}}">
<div class="box"><iframe srcdoc="{{.Source}}" sandbox title="{{.Title}}" loading="lazy"></iframe></div>
<figcaption>{{.Title}}</figcaption></figure>
{{end}}<figure><pre>{{.Text}}</pre><figcaption>text</figcaption></figure></div></section>
{{end}}</body></html>
`))

// Gallery writes a page that shows every letter in every locale with its sample values: in light
// and dark, at a phone's width, and as text. The page needs nothing else.
func (s *Set) Gallery(out io.Writer, w Writer, base string) error {
	var all []shown
	for _, name := range s.Names() {
		for _, locale := range s.locales {
			r, err := s.Render(s.Sample(name, locale, w, base))
			if err != nil {
				return fmt.Errorf("letter: gallery: %w", err)
			}
			// A frame cannot be told which scheme to prefer, so the question is answered in it.
			as := func(answer string) string {
				return strings.ReplaceAll(r.HTML, "(prefers-color-scheme: dark)", answer)
			}
			all = append(all, shown{name, locale.String(), r.Subject, r.Text, []frame{
				{"light", "desk", as("not all")}, {"dark", "desk", as("all")}, {"phone", "phone", as("not all")},
			}})
		}
	}
	return galleryPage.Execute(out, all)
}
