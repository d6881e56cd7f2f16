package letter

import (
	"errors"
	"fmt"
	htmltemplate "html/template"
	"maps"
	"slices"
	"strings"
	"text/template"
	"time"

	"golang.org/x/text/language"
)

// ErrMissing matches the refusal of a letter, a locale's words or a value that is not there.
var ErrMissing = errors.New("missing")

// A Layout sets the parts of every letter: one template for text (text/template) and one for
// HTML (html/template), both executed with a [Sheet].
type Layout struct {
	Text string
	HTML string
}

// A Set holds all letters of a service in all its locales. It is immutable and safe for
// concurrent use. Use [NewSet]: the zero Set has no letters.
type Set struct {
	letters map[string]map[language.Tag]*compiled
	locales []language.Tag // the first is the fallback
	matcher language.Matcher
	text    *template.Template
	html    *htmltemplate.Template
}

// NewSet returns the set of the letters in catalogs, the first of which is the fallback for
// readers whose language none of them has; it must hold every letter. Errors name the locale,
// the letter and the part.
func NewSet(layout Layout, catalogs ...Catalog) (*Set, error) {
	if len(catalogs) == 0 {
		return nil, errors.New("letter: no catalog, so no letter")
	}
	s := &Set{letters: make(map[string]map[language.Tag]*compiled)}
	for _, cat := range catalogs {
		if slices.Contains(s.locales, cat.Locale) {
			return nil, fmt.Errorf("letter: two catalogs for %s", cat.Locale)
		}
		s.locales = append(s.locales, cat.Locale)
		for _, unit := range []string{"minute", "hour"} {
			if cat.Units[unit]["other"] == "" {
				return nil, fmt.Errorf("letter: locale %s: unit %q has no form \"other\": %w", cat.Locale, unit, ErrMissing)
			}
		}
		for name, parts := range cat.Letters {
			c, err := compile(&cat, name, parts)
			if err != nil {
				return nil, fmt.Errorf("letter: %w", err)
			}
			if s.letters[name] == nil {
				s.letters[name] = make(map[language.Tag]*compiled)
			}
			s.letters[name][cat.Locale] = c
		}
	}
	for name := range s.letters {
		if s.letters[name][s.locales[0]] == nil {
			return nil, fmt.Errorf("letter %q: the fallback locale %s lacks it: %w", name, s.locales[0], ErrMissing)
		}
	}
	s.matcher = language.NewMatcher(s.locales)
	var err error
	if s.text, err = template.New("layout, text").Parse(layout.Text); err != nil {
		return nil, fmt.Errorf("letter: %w", err)
	}
	if s.html, err = htmltemplate.New("layout, html").Parse(layout.HTML); err != nil {
		return nil, fmt.Errorf("letter: %w", err)
	}
	return s, nil
}

// Names returns the names of the letters, sorted.
func (s *Set) Names() []string { return slices.Sorted(maps.Keys(s.letters)) }

// Locale returns the best of the set's locales for a reader's wishes: BCP 47 tags or an
// Accept-Language value, the most wanted first. What cannot be read is passed over.
func (s *Set) Locale(wishes ...string) language.Tag {
	_, i := language.MatchStrings(s.matcher, wishes...)
	return s.locales[i]
}

// Check reports whether the letter could be rendered with data: whether it exists and every
// value that its words use in this locale is there. The error matches [ErrMissing] and names
// the letter, the locale and the value.
func (s *Set) Check(name string, locale language.Tag, data map[string]any) error {
	c, err := s.find(name, locale)
	if err != nil {
		return err
	}
	for _, v := range c.values {
		if _, ok := data[v]; !ok && !provided[v] {
			return fmt.Errorf("letter %q, locale %s: the value %q is %w from the data", name, c.catalog.Locale, v, ErrMissing)
		}
	}
	return nil
}

// provided lists the values that Render adds itself.
var provided = map[string]bool{"site": true, "link_life": true, "code_life": true}

// find returns the letter in the locale, or in the fallback where the locale lacks it.
func (s *Set) find(name string, locale language.Tag) (*compiled, error) {
	in, ok := s.letters[name]
	if !ok {
		return nil, fmt.Errorf("letter %q: there is no such letter: %w", name, ErrMissing)
	}
	if c := in[locale]; c != nil {
		return c, nil
	}
	return in[s.locales[0]], nil
}

// A Request says what to render.
type Request struct {
	Letter string
	Locale language.Tag // one of the set's; others get the fallback
	Data   map[string]any
	Proof  Proof
	Writer Writer
}

// A Proof is what a challenge's letter carries. Either form may be missing.
type Proof struct {
	Link     string // absolute; empty for none
	LinkLife time.Duration
	Code     string // formatted for reading; empty for none
	CodeLife time.Duration
}

// A Writer is who is writing: set once, shown by every letter.
type Writer struct {
	Name     string // of the service, as people know it; the value "site" of every letter
	HomePage string // absolute, or empty
	Imprint  string // may have several lines, or be empty
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
	Lang, Subject        string
	Opening, Instruction []string
	Button, Link         string
	CodeLabel, Code      string
	Aside, Closing       []string
	Writer               Writer
	Imprint              []string // lines
}

// Render returns the letter. Values "site", "link_life" and "code_life" are added to the data:
// the writer's name, and the lives of the proof in the reader's words. Errors name the letter,
// the locale and the part, and match [ErrMissing] where a value is missing.
func (s *Set) Render(r Request) (Rendered, error) {
	if err := s.Check(r.Letter, r.Locale, r.Data); err != nil {
		return Rendered{}, err
	}
	c, err := s.find(r.Letter, r.Locale)
	if err != nil {
		return Rendered{}, err
	}
	data := maps.Clone(r.Data)
	if data == nil {
		data = make(map[string]any)
	}
	data["site"] = r.Writer.Name
	data["link_life"] = c.catalog.life(r.Proof.LinkLife)
	data["code_life"] = c.catalog.life(r.Proof.CodeLife)

	part := func(name string) string {
		words, e := c.execute(name, data)
		if e != nil && err == nil {
			err = fmt.Errorf("letter %q, locale %s, %s: %w", r.Letter, c.catalog.Locale, name, e)
		}
		return words
	}
	sheet := Sheet{
		Lang:    c.catalog.Locale.String(),
		Subject: strings.Join(strings.Fields(part("subject")), " "), // a value's line break ends no header
		Opening: paragraphs(part("opening")), Instruction: paragraphs(part("instruction")),
		Link: r.Proof.Link, Code: r.Proof.Code,
		Aside: paragraphs(part("aside")), Closing: paragraphs(part("closing")),
		Writer: r.Writer, Imprint: lines(r.Writer.Imprint),
	}
	if sheet.Link != "" {
		sheet.Button = part("button")
	}
	if sheet.Code != "" {
		sheet.CodeLabel = part("code_label")
	}
	if err != nil {
		return Rendered{}, err
	}
	if sheet.Link != "" && sheet.Button == "" || sheet.Code != "" && sheet.CodeLabel == "" {
		return Rendered{}, fmt.Errorf("letter %q, locale %s: it carries a proof, and its button or code_label is %w", r.Letter, c.catalog.Locale, ErrMissing)
	}
	var text, html strings.Builder
	if err := s.text.Execute(&text, sheet); err != nil {
		return Rendered{}, fmt.Errorf("letter %q, locale %s: %w", r.Letter, c.catalog.Locale, err)
	}
	if err := s.html.Execute(&html, sheet); err != nil {
		return Rendered{}, fmt.Errorf("letter %q, locale %s: %w", r.Letter, c.catalog.Locale, err)
	}
	return Rendered{Locale: c.catalog.Locale, Subject: sheet.Subject, Text: wrap(text.String()), HTML: html.String()}, nil
}

// life returns a duration in the reader's words: whole hours from two hours on, else minutes,
// rounded down so that a letter never promises more than there is.
func (c *Catalog) life(d time.Duration) string {
	if d >= 2*time.Hour {
		return c.Units["hour"].count(c.Locale, int(d/time.Hour))
	}
	return c.Units["minute"].count(c.Locale, max(1, int(d/time.Minute)))
}

// CarriesProof reports whether the letter has a button or a place for a code, and so makes no
// sense without a challenge.
func (s *Set) CarriesProof(name string) bool {
	c := s.letters[name][s.locales[0]]
	return c != nil && (c.parts["button"] != nil || c.parts["code_label"] != nil)
}
