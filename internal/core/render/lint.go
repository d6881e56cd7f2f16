package render

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"golang.org/x/net/html"
	"golang.org/x/text/language"
)

// A Level says how grave a finding is.
type Level string

// The levels.
const (
	Fault  Level = "fault"  // readers will be hurt by it
	Advice Level = "advice" // somebody should have a look
)

// A Finding is something about a letter in a locale.
type Finding struct {
	Letter string
	Locale string
	Level  Level
	What   string
}

// Sample returns the request that shows a letter in a locale with its sample values, and with a
// made-up proof if it carries one. Values without a sample are shown by their names.
func (s *Set) Sample(name string, locale language.Tag, w Writer, base string) Request {
	r := Request{Letter: name, Locale: locale, Writer: w, Data: make(map[string]any), Zone: time.UTC}
	if c, err := s.find(name, locale); err == nil {
		for _, v := range c.values {
			r.Data[v] = "‹" + v + "›"
		}
	}
	for k, v := range s.kinds[name].Sample {
		r.Data[k] = v
	}
	link, code := s.Offers(name)
	if link {
		r.Proof.Link, r.Proof.LinkLife = base+"/confirm?t=sample", 24*time.Hour
	}
	if code {
		r.Proof.Code, r.Proof.CodeLife = "482 913", 10*time.Minute
	}
	r.Proof.NotMe = base + "/not-me?t=sample" // shown where the letter has words for it
	return r
}

// TrySamples makes every letter in every locale of its sample values, as far as it has them all, and returns the first
// error: what fails with a sample fails with data like it, one letter after another.
func (s *Set) TrySamples(w Writer, base string) error {
	for _, name := range s.Names() {
		for _, locale := range s.locales {
			if !s.sampled(name, locale) {
				continue
			}
			r := s.Sample(name, locale, w, base)
			err := s.Try(r)
			if err == nil && s.HasSMS(name) {
				_, err = s.RenderSMS(r)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// sampled reports whether every value of a letter has a sample.
func (s *Set) sampled(name string, locale language.Tag) bool {
	c, err := s.find(name, locale)
	return err == nil && !slices.ContainsFunc(c.values, func(v string) bool {
		_, ok := s.kinds[name].Sample[v]
		return !ok && !provided[v]
	})
}

// maxHTML is where mail readers begin to cut a letter, in bytes.
const maxHTML = 100_000

// Lint shows every letter in every locale with its sample values and returns what is wrong with
// it, sorted by letter and locale. base is the site's base URL.
func (s *Set) Lint(w Writer, base string) []Finding {
	var all []Finding
	for _, name := range s.Names() {
		for _, locale := range s.locales {
			add := func(level Level, format string, args ...any) {
				all = append(all, Finding{name, locale.String(), level, fmt.Sprintf(format, args...)})
			}
			c := s.letters[name][locale]
			whole := c.catalog.Locale != locale
			for _, gap := range s.gaps[gapKey{name, locale}] {
				if whole {
					add(Advice, "%s is missing in this locale; readers get the letter in %s", gap, s.locales[0])
				} else {
					add(Advice, "%s is missing in this locale; readers get the letter without", gap)
				}
			}
			for _, v := range c.values {
				if _, ok := s.kinds[name].Sample[v]; !ok && !provided[v] {
					add(Advice, "the value %q has no sample in letters.toml", v)
				}
			}
			r, err := s.Render(s.Sample(name, locale, w, base))
			if err != nil {
				add(Fault, "it cannot be shown: %v", err)
				continue
			}
			lintWords(r, s.kinds[name], add)
			lintHTML(r.HTML, base, w, add)
		}
	}
	return all
}

// lintWords looks at the subject and the plain text.
func lintWords(r Rendered, k Kind, add func(Level, string, ...any)) {
	subject := utf8.RuneCountInString(r.Subject)
	switch {
	case subject == 0:
		add(Fault, "the subject is empty")
	case subject > 150:
		add(Fault, "the subject has %d characters; no reader shows that many", subject)
	case subject > 70:
		add(Advice, "the subject has %d characters; many readers cut it after 70", subject)
	}
	if k.CodeInSubject {
		add(Advice, "the subject may hold the code, which a locked screen shows")
	}
	if strings.Contains(r.Subject, "!!") || strings.Count(r.Subject, "!") > 1 || shouting(r.Subject) {
		add(Advice, "the subject shouts; filters take that for unwanted mail")
	}
	if strings.TrimSpace(r.Text) == "" {
		add(Fault, "the text part is empty")
	}
	for _, hole := range []string{"<no value>", "{{", "}}", "ZgotmplZ", "%!"} {
		if strings.Contains(r.Subject+r.Text+r.HTML, hole) {
			add(Fault, "there is a hole in it: %s", hole)
		}
	}
	if len(r.HTML) > maxHTML {
		add(Fault, "the HTML part has %d bytes; readers cut letters at about %d", len(r.HTML), maxHTML)
	}
}

// shouting reports whether most letters of a subject that has upper and lower case are upper.
func shouting(s string) bool {
	upper, cased := 0, 0
	for _, r := range s {
		if unicode.IsUpper(r) {
			upper++
		}
		if unicode.IsUpper(r) || unicode.IsLower(r) {
			cased++
		}
	}
	return cased >= 8 && upper*3 > cased*2
}

// lintHTML looks at links, pictures and colours.
func lintHTML(source, base string, w Writer, add func(Level, string, ...any)) {
	doc, err := html.Parse(strings.NewReader(source))
	if err != nil {
		add(Fault, "the HTML part cannot be read")
		return
	}
	home := []string{host(base), host(w.HomePage)}
	words, pictures := 0, 0
	var look func(n *html.Node, ink, under string)
	look = func(n *html.Node, ink, under string) {
		if n.Type == html.ElementNode {
			if n.Data == "style" || n.Data == "head" {
				return
			}
			ink, under = coloursOf(n, ink, under)
			lintElement(n, home, add)
			if n.Data == "img" {
				pictures++
			}
		}
		if n.Type == html.TextNode && strings.TrimSpace(n.Data) != "" {
			words += len(strings.Fields(n.Data))
			if c := Contrast(ink, under); c > 0 && c < MinContrast {
				add(Fault, "%q has a contrast of %.1f, %s on %s; want %.1f (WCAG 2.2 §1.4.3)", firstWords(n.Data), c,
					ink, under, MinContrast)
			}
		}
		for c := range n.ChildNodes() {
			look(c, ink, under)
		}
	}
	look(doc, "#000000", "#ffffff")
	if pictures > 0 && words < 20 {
		add(Advice, "it is nearly all pictures; with pictures off there is little to read, and filters distrust it")
	}
}

func lintElement(n *html.Node, home []string, add func(Level, string, ...any)) {
	if n.Data == "img" && !slices.ContainsFunc(n.Attr, func(a html.Attribute) bool { return a.Key == "alt" }) {
		add(Fault, "a picture has no alt text")
	}
	if n.Data == "script" || n.Data == "form" || n.Data == "iframe" {
		add(Fault, "it has a <%s>, which mail readers drop", n.Data)
	}
	href := attribute(n, "href")
	if n.Data != "a" || href == "" {
		return
	}
	u, err := url.Parse(href)
	switch {
	case err != nil || !u.IsAbs():
		add(Fault, "the link %s is relative; in a letter it leads nowhere", href)
	case u.Scheme == "http" && !strings.HasPrefix(u.Host, "127.0.0.1"):
		add(Advice, "the link %s is not https", href)
	case u.Scheme == "https" && !slices.Contains(home, u.Host):
		add(Advice, "the link to %s leaves the site", u.Host)
	}
}

// coloursOf returns the colours of text in an element, from its inline style or its parent's.
func coloursOf(n *html.Node, ink, under string) (string, string) {
	for rule := range strings.SplitSeq(attribute(n, "style"), ";") {
		name, value, _ := strings.Cut(rule, ":")
		switch value = strings.TrimSpace(value); strings.TrimSpace(name) {
		case "color":
			ink = value
		case "background", "background-color":
			under = value
		}
	}
	return ink, under
}

func host(raw string) string {
	u, err := url.Parse(raw)
	if err != nil {
		return ""
	}
	return u.Host
}

func firstWords(s string) string {
	f := strings.Fields(s)
	return strings.Join(f[:min(4, len(f))], " ")
}
