package render

import (
	"errors"
	"fmt"
	htmltemplate "html/template"
	"maps"
	"reflect"
	"slices"
	"strings"
	"sync"
	"text/template"
	"text/template/parse"
	"time"

	"github.com/illumicode/illumicode/internal/core/near"
	"golang.org/x/text/language"
)

// ErrMissing matches the refusal of a letter, a locale's words or a value that is not there.
var ErrMissing = errors.New("missing")

// A Source is what a [Set] is made from.
type Source struct {
	Layout   Layout
	Catalogs []Catalog       // the first is the fallback, and has every letter
	Kinds    map[string]Kind // by letter; a letter without one has the zero Kind
	Bodies   map[string]Body // by letter; for those that are not made of parts alone
}

// A Layout sets the parts of every letter: one template for text (text/template) and one for
// HTML (html/template), both executed with a [Sheet]. Each defines the partials "button", "code",
// "table" and "notice", which bodies call as functions.
type Layout struct {
	Text string
	HTML string
}

// A Kind is how a letter is to be treated.
type Kind struct {
	Life          time.Duration // how long a notice is worth delivering; 0 means for ever
	Lane          string        // urgent, normal or bulk; empty leaves it to who sends
	Category      string        // what a reader may unsubscribe from; empty for letters that nobody can
	From          string        // an address to write from; empty means the service's
	ReplyTo       string        // an address; empty means the sender's
	CodeInSubject bool          // the subject may hold the code
	AtMostOnce    bool          // rather not at all than twice: an attempt without an answer is not repeated
	Sample        map[string]any
}

// Security reports whether the letter is one that nobody can unsubscribe from.
func (k Kind) Security() bool { return k.Category == "" }

// A Body is a letter's own middle, in place of main, proof and aside, as templates. Either
// may be empty: it is then derived from the other.
type Body struct {
	Text string
	HTML string
}

// A Set holds all letters of a service in all its locales. It is safe for concurrent use. Use
// [NewSet]: the zero Set has no letters.
type Set struct {
	letters  map[string]map[language.Tag]*compiled
	gaps     map[gapKey][]string // parts, words and units that a letter lacks in a locale
	kinds    map[string]Kind
	bodies   map[string]*body
	fallback *Catalog       // that of the first locale
	locales  []language.Tag // the first is the fallback
	matcher  language.Matcher
	buffers  sync.Pool // of *bytes.Buffer
	source   Layout
	partial  *layout // for the partials that bodies call

	mu      sync.Mutex // guards what follows
	bound   map[boundKey]*bound
	layouts map[layoutKey]*layout
}

type gapKey struct {
	letter string
	locale language.Tag
}

// A body is a Body, parsed.
type body struct {
	text *template.Template // nil if derived
	html *htmltemplate.Template
}

// NewSet returns the set of the letters in src. Errors name the locale, the letter and the part.
func NewSet(src Source) (*Set, error) {
	if len(src.Catalogs) == 0 {
		return nil, errors.New("letter: no catalog, so no letter")
	}
	s := &Set{letters: make(map[string]map[language.Tag]*compiled), kinds: maps.Clone(src.Kinds),
		gaps: make(map[gapKey][]string), bodies: make(map[string]*body),
		source: src.Layout, bound: make(map[boundKey]*bound), layouts: make(map[layoutKey]*layout)}
	if s.kinds == nil {
		s.kinds = make(map[string]Kind)
	}
	var err error
	if s.partial, err = s.source.parse(); err != nil {
		return nil, err
	}
	if err := s.addCatalogs(src.Catalogs); err != nil {
		return nil, fmt.Errorf("letter: %w", err)
	}
	for _, name := range slices.Sorted(maps.Keys(src.Bodies)) {
		if err := s.addBody(name, src.Bodies[name]); err != nil {
			return nil, fmt.Errorf("letter: %w", err)
		}
	}
	if err := s.resolveUnits(); err != nil {
		return nil, fmt.Errorf("letter: %w", err)
	}
	for name, k := range s.kinds {
		if s.letters[name] == nil {
			return nil, fmt.Errorf("letter %q: it is described, and its words are %w", name, ErrMissing)
		}
		if k.Lane != "" && k.Lane != "urgent" && k.Lane != "normal" && k.Lane != "bulk" {
			return nil, fmt.Errorf("letter %q: there is no lane %q; say urgent, normal or bulk", name, k.Lane)
		}
	}
	s.matcher = language.NewMatcher(s.locales)
	return s, nil
}

func (s *Set) addCatalogs(catalogs []Catalog) error {
	fallback := catalogs[0]
	s.fallback = &fallback
	for _, cat := range catalogs {
		if slices.Contains(s.locales, cat.Locale) {
			return fmt.Errorf("two catalogs for %s", cat.Locale)
		}
		s.locales = append(s.locales, cat.Locale)
		for _, below := range catalogs {
			if base, _ := cat.Locale.Base(); below.Locale != cat.Locale &&
				below.Locale == language.Make(base.String()) {
				cat = cat.over(below)
			}
		}
		if err := cat.check(); err != nil {
			return err
		}
		for name := range cat.Letters {
			if _, ok := fallback.Letters[name]; !ok {
				return fmt.Errorf("letter %q: the fallback locale %s lacks it: %w", name, fallback.Locale, ErrMissing)
			}
		}
		for _, name := range slices.Sorted(maps.Keys(fallback.Letters)) {
			parts := cat.Letters[name]
			if s.letters[name] == nil {
				s.letters[name] = make(map[language.Tag]*compiled)
			}
			gaps, whole := parts.lacks(fallback.Letters[name])
			s.gaps[gapKey{name, cat.Locale}] = gaps
			if whole {
				s.letters[name][cat.Locale] = s.letters[name][fallback.Locale]
				continue
			}
			c, err := compile(&cat, name, parts)
			if err != nil {
				return err
			}
			if t := c.parts["subject"]; !s.kinds[name].CodeInSubject && usesValue(t.Tree, "code") {
				return fmt.Errorf(
					"letter %q, locale %s, subject: it holds the code, which a locked screen would show; set "+
						"code_in_subject if that is meant", name, cat.Locale)
			}
			s.letters[name][cat.Locale] = c
		}
	}
	return nil
}

func (s *Set) addBody(name string, b Body) error {
	in := s.letters[name]
	if in == nil {
		return fmt.Errorf("letter %q: it has a body, and its words are %w from the catalogs", name, ErrMissing)
	}
	own := new(body)
	var trees []*parse.Tree
	if b.Text != "" {
		t, err := template.New(name + ".txt").Option("missingkey=error").Funcs(s.bodyFuncs(noFormats, nil)).Parse(
			b.Text)
		if err != nil {
			return fmt.Errorf("letter %q: %w", name, err)
		}
		own.text = t
		trees = append(trees, t.Tree)
	}
	if b.HTML != "" {
		t, err := htmltemplate.New(name + ".html").Option("missingkey=error").Funcs(s.bodyFuncs(noFormats, nil)).Parse(
			b.HTML)
		if err != nil {
			return fmt.Errorf("letter %q: %w", name, err)
		}
		own.html = t
		trees = append(trees, t.Tree)
	}
	if len(trees) == 0 {
		return fmt.Errorf("letter %q: its body is empty", name)
	}
	for _, c := range in {
		values := make(map[string]bool)
		for _, v := range c.values {
			values[v] = true
		}
		for _, tree := range trees {
			collectValues(tree.Root, true, values)
			collectUnits(tree.Root, c.units)
		}
		c.values = slices.Sorted(maps.Keys(values))
	}
	s.bodies[name] = own
	return nil
}

// resolveUnits refuses a letter that counts in a unit that the fallback lacks, and gives readers of a locale that lacks
// one the letter in the language of the fallback.
func (s *Set) resolveUnits() error {
	for _, name := range s.Names() {
		for _, locale := range s.locales {
			c := s.letters[name][locale]
			for _, unit := range slices.Sorted(maps.Keys(c.units)) {
				switch {
				case c.catalog.Units[unit] != nil:
				case s.fallback.Units[unit] != nil:
					key := gapKey{name, locale}
					s.gaps[key] = append(s.gaps[key], "units."+unit)
					s.letters[name][locale] = s.letters[name][s.locales[0]]
				default:
					return fmt.Errorf("letter %q, locale %s: the unit %q is %w from the catalog, and from that of %s",
						name, locale, unit, ErrMissing, s.fallback.Locale)
				}
			}
		}
	}
	return nil
}

func usesValue(tree *parse.Tree, name string) bool {
	values := make(map[string]bool)
	collectValues(tree.Root, true, values)
	return values[name]
}

// Names returns the names of the letters, sorted.
func (s *Set) Names() []string { return slices.Sorted(maps.Keys(s.letters)) }

// Values returns the names of the values that a letter uses in any locale, but for those that every
// letter is given, sorted.
func (s *Set) Values(name string) []string {
	var all []string
	for _, c := range s.letters[name] {
		for _, v := range c.values {
			if !provided[v] && !slices.Contains(all, v) {
				all = append(all, v)
			}
		}
	}
	slices.Sort(all)
	return all
}

// Locales returns the locales, the fallback first.
func (s *Set) Locales() []language.Tag { return slices.Clone(s.locales) }

// Kind returns how a letter is to be treated.
func (s *Set) Kind(name string) Kind { return s.kinds[name] }

// Locale returns the best of the set's locales for a reader's wishes: BCP 47 tags or an
// Accept-Language value, the most wanted first. What cannot be read is passed over. Of each value the first
// [maxWishes] wishes count that are whole in its first [maxWishBytes] bytes.
func (s *Set) Locale(wishes ...string) language.Tag {
	bounded := make([]string, 0, len(wishes))
	for _, one := range wishes {
		if one != "" {
			bounded = append(bounded, firstWishes(one))
		}
	}
	if len(bounded) == 0 { // most have none
		return s.locales[0]
	}
	_, i := language.MatchStrings(s.matcher, bounded...)
	return s.locales[i]
}

// The most of an Accept-Language value that is looked at: reading a long one takes seconds.
const (
	maxWishes    = 16
	maxWishBytes = 512
)

func firstWishes(wish string) string {
	if len(wish) > maxWishBytes {
		wish = wish[:maxWishBytes]
		wish = wish[:max(0, strings.LastIndexByte(wish, ','))]
	}
	all := strings.SplitN(wish, ",", maxWishes+1)
	return strings.Join(all[:min(len(all), maxWishes)], ",")
}

// Has reports whether there is a letter of this name.
func (s *Set) Has(name string) bool { _, ok := s.letters[name]; return ok }

// Categories returns what readers may unsubscribe from, in alphabetical order.
func (s *Set) Categories() []string {
	var all []string
	for name := range s.letters {
		if c := s.kinds[name].Category; c != "" && !slices.Contains(all, c) {
			all = append(all, c)
		}
	}
	slices.Sort(all)
	return all
}

// CarriesProof reports whether the letter has a button or a place for a code, and so makes no
// sense without a challenge.
func (s *Set) CarriesProof(name string) bool {
	c := s.letters[name][s.locales[0]]
	return c != nil && (c.parts["button"] != nil || c.parts["code_label"] != nil)
}

// Offers reports which forms of a proof the letter has room for: a button for a link, a place for a
// code.
func (s *Set) Offers(name string) (link, code bool) {
	c := s.letters[name][s.locales[0]]
	return c != nil && c.parts["button"] != nil, c != nil && c.parts["code_label"] != nil
}

// OffersSMS is Offers for the letter's form as a text message.
func (s *Set) OffersSMS(name string) (link, code bool) {
	c := s.letters[name][s.locales[0]]
	if c == nil || c.parts["sms"] == nil {
		return false, false
	}
	return usesValue(c.parts["sms"].Tree, "link"), usesValue(c.parts["sms"].Tree, "code")
}

// HasSMS reports whether the letter has a form as SMS.
func (s *Set) HasSMS(name string) bool {
	c := s.letters[name][s.locales[0]]
	return c != nil && c.parts["sms"] != nil
}

// provided lists the values that Render adds itself.
var provided = map[string]bool{"site": true, "link_life": true, "code_life": true, "link": true, "code": true}

// Missing returns the error for a letter that there is not. It matches [ErrMissing] and lists those that there are.
func (s *Set) Missing(name string) error {
	return missing(fmt.Sprintf("no letter is named %q; %s", name, near.List(name, s.Names())))
}

// missing is an error that matches ErrMissing.
type missing string

func (m missing) Error() string        { return string(m) }
func (m missing) Is(target error) bool { return target == ErrMissing }

// supplied returns the type of a value that the library adds to the data of a notice: "moment" to a reminder, "items"
// and "count" to a letter that notices gathered in. Each item is the data of one notice. It is nil for other names.
func supplied(name string, data reflect.Type) reflect.Type {
	switch name {
	case "moment":
		return reflect.TypeFor[string]()
	case "count":
		return reflect.TypeFor[int]()
	case "items":
		return reflect.SliceOf(data)
	}
	return nil
}

// Check reports whether the letter could be rendered with data: whether it exists and every
// value that it uses in this locale is there. The error matches [ErrMissing] and names the
// letter, the locale and the value.
func (s *Set) Check(name string, locale language.Tag, data map[string]any) error {
	_, err := s.checked(name, locale, data)
	return err
}

// checked returns a letter that could be rendered with data, or the error of [Set.Check].
func (s *Set) checked(name string, locale language.Tag, data map[string]any) (*compiled, error) {
	c, err := s.find(name, locale)
	if err != nil {
		return nil, err
	}
	for _, v := range c.values {
		if _, ok := data[v]; !ok && !provided[v] {
			return nil, fmt.Errorf("letter %q, locale %s: the value %q is %w from the data", name, c.catalog.Locale,
				v, ErrMissing)
		}
	}
	return c, nil
}

// CheckType reports whether every value that the letter uses, in any locale, is a field of the
// struct that sample is, under its JSON name. The error matches [ErrMissing] and names it.
func (s *Set) CheckType(name string, sample any) error {
	in, ok := s.letters[name]
	if !ok {
		return s.Missing(name)
	}
	t := reflect.TypeOf(sample)
	for t != nil && t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if t == nil || t.Kind() != reflect.Struct {
		return fmt.Errorf("letter %q: its data is described by a %T; use a struct", name, sample)
	}
	one := func(locale language.Tag, tree *parse.Tree) error {
		if err := fits(tree.Root, t, t); err != nil {
			return fmt.Errorf("letter %q, locale %s, %s: %w", name, locale, tree.Name, err)
		}
		return nil
	}
	for _, locale := range s.locales {
		for _, part := range slices.Sorted(maps.Keys(in[locale].parts)) {
			if err := one(locale, in[locale].parts[part].Tree); err != nil {
				return err
			}
		}
	}
	if b := s.bodies[name]; b != nil {
		if b.text != nil {
			if err := one(s.locales[0], b.text.Tree); err != nil {
				return err
			}
		}
		if b.html != nil {
			return one(s.locales[0], b.html.Tree)
		}
	}
	return nil
}

// find returns the letter in the locale, or in the fallback where the set lacks the locale.
func (s *Set) find(name string, locale language.Tag) (*compiled, error) {
	in, ok := s.letters[name]
	if !ok {
		return nil, s.Missing(name)
	}
	if c := in[locale]; c != nil {
		return c, nil
	}
	return in[s.locales[0]], nil
}
