package render

import (
	"bytes"
	"errors"
	"fmt"
	htmltemplate "html/template"
	"io"
	"maps"
	"net/url"
	"strings"
	"text/template"
	"time"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/language"
)

// A Request says what to render.
type Request struct {
	Letter string
	Locale language.Tag // one of the set's; others get the fallback
	Zone   *time.Location
	Data   map[string]any
	Proof  Proof
	Writer Writer // as [Writer.Check] returned it
}

// A Proof is what a challenge's letter carries. Either form may be missing.
type Proof struct {
	Link     string // absolute; empty for none
	LinkLife time.Duration
	Code     string // formatted for reading; empty for none
	CodeLife time.Duration
	NotMe    string // where the reader says that somebody else began it; absolute; empty for none
}

// A Rendered is a letter in one locale, as the reader will see it.
type Rendered struct {
	Locale  language.Tag
	Subject string
	Text    string
	HTML    string
}

// A Sheet is what a layout is executed with. Every slice of paragraphs may be empty.
type Sheet struct {
	Lang, Dir        string // Dir is ltr or rtl
	Subject          string
	Opening, Main    []string
	Button, Link     string
	CodeLabel, Code  string
	NotMe, NotMeLink string
	Aside, Closing   []string
	Body             htmltemplate.HTML // of a letter's own, for HTML
	BodyText         string            // the same, for text
	Writer           Writer
	Mark             htmltemplate.URL // the writer's, checked
	Imprint          []string         // lines
}

// Render returns the letter. Values "site", "link", "link_life", "code" and "code_life" are added
// to the data: the writer's name, the proof, and its lives in the reader's words. Errors name the
// letter, the locale and the part, and match [ErrMissing] where a value is missing.
func (s *Set) Render(r Request) (Rendered, error) {
	c, err := s.checked(r.Letter, r.Locale, r.Data)
	if err != nil {
		return Rendered{}, err
	}
	out, part, err := s.render(c, r)
	if err != nil {
		return Rendered{}, c.fail(r, part, err)
	}
	return out, nil
}

// Try reports whether [Set.Render] could make the letter, with the error that it would return, and does
// no more of it than data can break: the layout is left out.
func (s *Set) Try(r Request) error {
	c, err := s.checked(r.Letter, r.Locale, r.Data)
	if err != nil {
		return err
	}
	if _, _, part, err := s.fill(c, r); err != nil {
		return c.fail(r, part, err)
	}
	return nil
}

// fail says in which part of a letter an error came up.
func (c *compiled) fail(r Request, part string, err error) error {
	return fmt.Errorf("letter %q, locale %s, %s: %w", r.Letter, c.catalog.Locale, part, err)
}

// RenderSMS is Render for the letter's form as a text message, which it must have.
func (s *Set) RenderSMS(r Request) (string, error) {
	c, err := s.checked(r.Letter, r.Locale, r.Data)
	if err == nil && c.parts["sms"] == nil { // the locale has none
		c, err = s.checked(r.Letter, s.locales[0], r.Data)
	}
	if err != nil {
		return "", err
	}
	fail := func(err error) (string, error) { return "", c.fail(r, "sms", err) }
	b, err := s.bind(r, c)
	if err != nil {
		return fail(err)
	}
	t := b.parts["sms"]
	if t == nil {
		if words := b.plain["sms"]; words != "" {
			return words, nil
		}
		return fail(ErrMissing)
	}
	w := newLimited()
	r.Proof.Code = strings.ReplaceAll(r.Proof.Code, " ", "") // phones find a code by its digits
	if err := t.Execute(w, c.given(r)); err != nil {
		return fail(err)
	}
	return strings.TrimSpace(w.String()), nil
}

// given returns the data of a request with what every letter is given.
func (c *compiled) given(r Request) map[string]any {
	data := make(map[string]any, len(r.Data)+5)
	maps.Copy(data, r.Data)
	if direction(c.catalog.Locale) == "rtl" {
		for name, v := range data {
			if s, ok := v.(string); ok && s != "" {
				data[name] = isolated(s)
			}
		}
	}
	data["site"], data["link"], data["code"] = r.Writer.Name, r.Proof.Link, r.Proof.Code
	data["link_life"], data["code_life"] = c.catalog.life(r.Proof.LinkLife), c.catalog.life(r.Proof.CodeLife)
	return data
}

// fill executes the letter's words and its body with the data, for the layout to set; with an error it
// returns the part in which it came up.
func (s *Set) fill(c *compiled, r Request) (b *bound, sheet Sheet, part string, err error) {
	b, err = s.bind(r, c)
	if err != nil {
		return nil, sheet, "binding", err
	}
	data := c.given(r)
	words := func(name string) string {
		t := b.parts[name]
		if t == nil || err != nil {
			return b.plain[name]
		}
		var w limited
		w.room = maxPart
		if e := t.Execute(&w, data); e != nil {
			err, part = e, name
		}
		return strings.TrimSpace(w.String())
	}
	sheet = Sheet{
		Lang: c.catalog.Locale.String(), Dir: direction(c.catalog.Locale),
		Subject: plainly(oneLine(words("subject"))),
		Opening: paragraphs(words("opening")), Main: paragraphs(words("main")),
		Link: r.Proof.Link, Code: r.Proof.Code, Aside: paragraphs(words("aside")),
		Closing: paragraphs(words("closing")),
		Writer:  r.Writer, Mark: htmltemplate.URL(r.Writer.Mark), Imprint: lines(r.Writer.Imprint),
	}
	if sheet.Link != "" {
		sheet.Button = words("button")
	}
	if sheet.Code != "" {
		sheet.CodeLabel = words("code_label")
		if sheet.Dir == "rtl" {
			sheet.Code = ofDigits(sheet.Code)
		}
	}
	if sheet.NotMe = words("not_me"); sheet.NotMe != "" {
		sheet.NotMeLink = r.Proof.NotMe
	}
	if err != nil {
		return nil, sheet, part, err
	}
	if i := strings.IndexFunc(sheet.Subject, unicode.IsControl); i >= 0 {
		r, _ := utf8.DecodeRuneInString(sheet.Subject[i:])
		return nil, sheet, "subject", fmt.Errorf("it has the control character %U, which no header may have", r)
	}
	if sheet.Link != "" && sheet.Button == "" || sheet.Code != "" && sheet.CodeLabel == "" {
		return nil, sheet, "proof", fmt.Errorf("it carries a proof, and its button or code_label is %w", ErrMissing)
	}
	return b, sheet, "body", b.body(data, &sheet)
}

// render does the work; with an error it returns the part in which it came up.
func (s *Set) render(c *compiled, r Request) (out Rendered, part string, err error) {
	b, sheet, part, err := s.fill(c, r)
	if err != nil {
		return out, part, err
	}
	text, html := s.buffer(), s.buffer()
	defer s.buffers.Put(text)
	defer s.buffers.Put(html)
	l, err := s.layout(c, b, &sheet)
	if err != nil {
		return out, "layout", err
	}
	if err := l.text.Execute(text, &sheet); err != nil {
		return out, "text layout", err
	}
	if err := l.html.Execute(html, &sheet); err != nil {
		return out, "HTML layout", err
	}
	return Rendered{Locale: c.catalog.Locale, Subject: sheet.Subject, Text: wrap(text.String()), HTML: html.String()},
		"", nil
}

// isolated sets a value apart from words that run from right to left (UAX #9): FIRST STRONG ISOLATE to POP DIRECTIONAL
// ISOLATE.
func isolated(s string) string { return "\u2068" + s + "\u2069" }

// ofDigits sets a code apart in the same way: without it its groups would be shown in the wrong order.
func ofDigits(s string) string { return "\u2066" + s + "\u2069" }

// plainly takes isolates from a subject: they are of no use there, and some readers show them.
func plainly(s string) string {
	return strings.NewReplacer("\u2066", "", "\u2068", "", "\u2069", "").Replace(s)
}

// buffer returns an empty buffer, with the room that letters have needed.
func (s *Set) buffer() *bytes.Buffer {
	b, ok := s.buffers.Get().(*bytes.Buffer)
	if !ok {
		b = new(bytes.Buffer)
	}
	b.Reset()
	return b
}

// oneLine makes a value's line break a space: it ends no header.
func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// direction returns the writing direction of a locale's script.
func direction(t language.Tag) string {
	script, _ := t.Script()
	switch script.String() {
	case "Arab", "Hebr", "Syrc", "Thaa", "Nkoo", "Adlm":
		return "rtl"
	}
	return "ltr"
}

// life returns a duration in the reader's words: whole hours from two hours on, else minutes,
// rounded down so that a letter never promises more than there is.
func (c *Catalog) life(d time.Duration) string {
	if d >= 2*time.Hour {
		return c.Units["hour"].count(c.Locale, int(d/time.Hour))
	}
	return c.Units["minute"].count(c.Locale, max(1, int(d/time.Minute)))
}

// A bound is a letter's templates with the functions of one locale and one zone, for one writer. Binding copies
// them, which costs more than executing them, so the results are kept.
type bound struct {
	parts map[string]*template.Template
	plain map[string]string  // parts without values of the letter's own, which need no executing
	text  *template.Template // of the body; nil if derived
	html  *htmltemplate.Template
}

type boundKey struct {
	letter string
	locale language.Tag
	zone   string
	writer Writer
}

// maxBound bounds what is kept: time zones come from readers.
const maxBound = 2000

func (s *Set) bind(r Request, c *compiled) (*bound, error) {
	zone := r.Zone
	if zone == nil {
		zone = time.UTC
	}
	key := boundKey{r.Letter, c.catalog.Locale, zone.String(), r.Writer}
	s.mu.Lock()
	defer s.mu.Unlock()
	if b := s.bound[key]; b != nil {
		return b, nil
	}
	f := formats{c.catalog, zone}
	b := &bound{parts: make(map[string]*template.Template, len(c.parts)), plain: make(map[string]string)}
	copied, err := c.root.Clone()
	if err != nil {
		return nil, err
	}
	copied.Funcs(f.funcs())
	site := map[string]any{"site": r.Writer.Name}
	for part := range c.parts {
		t := copied.Lookup(part)
		t.Tree = t.Tree.Copy() // the copies share them
		fixed{fields: map[string]bool{"site": true}}.foldTree(t.Tree,
			func(w io.Writer) error { return t.Execute(w, site) })
		if words, ok := onlyText(t.Root); ok {
			b.plain[part] = strings.TrimSpace(words)
			continue
		}
		b.parts[part] = t
	}
	if own := s.bodies[r.Letter]; own != nil {
		funcs := s.bodyFuncs(f, c.words)
		if own.text != nil {
			copied, err := own.text.Clone()
			if err != nil {
				return nil, err
			}
			b.text = copied.Funcs(plainFuncs(s, funcs))
		}
		if own.html != nil {
			copied, err := own.html.Clone()
			if err != nil {
				return nil, err
			}
			b.html = copied.Funcs(funcs)
		}
	}
	if len(s.bound) >= maxBound {
		clear(s.bound)
	}
	s.bound[key] = b
	return b, nil
}

// body executes a letter's own body, and derives the form that is not there.
func (b *bound) body(data map[string]any, sheet *Sheet) error {
	if b.text == nil && b.html == nil {
		return nil
	}
	if b.html != nil {
		w := newLimited()
		if err := b.html.Execute(w, data); err != nil {
			return err
		}
		sheet.Body = htmltemplate.HTML(w.String())
	}
	if b.text != nil {
		w := newLimited()
		if err := b.text.Execute(w, data); err != nil {
			return err
		}
		sheet.BodyText = w.String()
	} else {
		sheet.BodyText = textFrom(string(sheet.Body))
	}
	if b.html == nil {
		sheet.Body = htmltemplate.HTML(htmlFrom(sheet.BodyText))
	}
	return nil
}

// bodyFuncs returns what bodies can call besides the formats: {{word "key"}} for words of the
// catalog, and the layout's partials {{button "label" .link}}, {{code .code}}, {{table .rows}} and
// {{notice "words"}}. In HTML their results are markup, made by html/template.
func (s *Set) bodyFuncs(f formats, words map[string]string) htmltemplate.FuncMap {
	partial := func(name string, data any) (htmltemplate.HTML, error) {
		w := newLimited()
		err := s.partial.html.ExecuteTemplate(w, name, data)
		return htmltemplate.HTML(w.String()), err
	}
	funcs := htmltemplate.FuncMap{
		"word": func(key string) (string, error) {
			if w, ok := words[key]; ok || words == nil {
				return w, nil
			}
			return "", fmt.Errorf("the word %q is %w from the catalog", key, ErrMissing)
		},
		"button": func(label, link string) (htmltemplate.HTML, error) {
			if err := checkLink(link); err != nil {
				return "", err
			}
			return partial("button", pair{label, link})
		},
		"code":   func(code string) (htmltemplate.HTML, error) { return partial("code", code) },
		"table":  func(rows any) (htmltemplate.HTML, error) { return partial("table", rows) },
		"notice": func(words string) (htmltemplate.HTML, error) { return partial("notice", words) },
	}
	maps.Copy(funcs, f.funcs())
	return funcs
}

// plainFuncs is bodyFuncs for text.
func plainFuncs(s *Set, funcs htmltemplate.FuncMap) template.FuncMap {
	partial := func(name string, data any) (string, error) {
		w := newLimited()
		err := s.partial.text.ExecuteTemplate(w, name, data)
		return w.String(), err
	}
	out := template.FuncMap(maps.Clone(funcs))
	out["button"] = func(label, link string) (string, error) {
		if err := checkLink(link); err != nil {
			return "", err
		}
		return partial("button", pair{label, link})
	}
	out["code"] = func(code string) (string, error) { return partial("code", code) }
	out["table"] = func(rows any) (string, error) { return partial("table", rows) }
	out["notice"] = func(words string) (string, error) { return partial("notice", words) }
	return out
}

// A pair is a button's data.
type pair struct{ Label, Link string }

// checkLink refuses a link that a value has made something else.
func checkLink(link string) error {
	u, err := url.Parse(link)
	if err != nil || u.Scheme != "https" && u.Scheme != "http" && u.Scheme != "mailto" || u.Scheme != "mailto" &&
		u.Host == "" {
		return errors.New("a button's link is not absolute, or neither http, https nor mailto")
	}
	return nil
}
