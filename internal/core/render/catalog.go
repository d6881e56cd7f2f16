package render

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"text/template"
	"time"

	"golang.org/x/text/feature/plural"
	"golang.org/x/text/language"
)

// A Catalog holds the words of one locale.
type Catalog struct {
	Locale   language.Tag
	Letters  map[string]Parts
	Units    map[string]Forms // what {{plural}} counts; "minute" and "hour" are required
	Calendar Calendar
}

// Parts are the words of one letter. Subject is required.
type Parts struct {
	Subject   string
	Opening   string
	Main      string
	Button    string // on the button, where the letter has a link
	CodeLabel string // above the code, where the letter has one
	NotMe     string // on the link by which the reader says that somebody else began it
	Aside     string
	Closing   string
	SMS       string // the whole letter as a text message; empty if there is none

	Words map[string]string // further words, for a body of the letter's own: {{word "key"}}
}

// named returns the parts with the names that errors and catalogs use.
func (p Parts) named() map[string]string {
	return map[string]string{
		"subject": p.Subject, "opening": p.Opening, "main": p.Main, "button": p.Button,
		"code_label": p.CodeLabel, "not_me": p.NotMe, "aside": p.Aside, "closing": p.Closing, "sms": p.SMS,
	}
}

// Forms are the plural forms of a unit, under the names of CLDR: zero, one, two, few, many,
// other. Other is required, and so is every form that the locale gives to a whole number.
type Forms map[string]string

var formNames = [...]string{plural.Other: "other", plural.Zero: "zero", plural.One: "one",
	plural.Two: "two", plural.Few: "few", plural.Many: "many"}

func formOf(locale language.Tag, n int) string {
	return formNames[plural.Cardinal.MatchPlural(locale, n, 0, 0, 0, 0)]
}

// count returns the form that the locale's cardinal rules choose for n, with n in the place of its {n}; before it, if
// it has no place.
func (f Forms) count(locale language.Tag, n int) string {
	form := f[formOf(locale, n)]
	if !strings.Contains(form, "{n}") && !f.placed() {
		form = "{n} " + form
	}
	return strings.ReplaceAll(form, "{n}", strconv.Itoa(n))
}

// placed reports whether some form says where the number stands: then one without it is in words, as "one minute" is.
func (f Forms) placed() bool {
	for _, form := range f {
		if strings.Contains(form, "{n}") {
			return true
		}
	}
	return false
}

// check refuses forms that the locale does not have, and the lack of one that it needs.
func (f Forms) check(locale language.Tag) error {
	for name := range f {
		if !slices.Contains(formNames[:], name) {
			return fmt.Errorf("%q is no plural form; CLDR has %s", name, strings.Join(formNames[:], ", "))
		}
	}
	for n := range 201 { // the rules look at the last two digits
		if name := formOf(locale, n); f[name] == "" {
			return fmt.Errorf("the form %q is %w; %s needs it for %d", name, ErrMissing, locale, n)
		}
	}
	return nil
}

// A Calendar says how a locale writes dates and times. Date and Time are patterns in which
// {weekday}, {day}, {month}, {year}, {hour} and {minute} are replaced; {h} is the hour without a zero before it, and
// {hour12} and {ampm} are there for those who count so. First is {day} on the first of a month, where that is not 1.
type Calendar struct {
	Months   []string // twelve, from January on; as they stand in a date
	Weekdays []string // seven, from Sunday on
	Date     string
	Time     string
	First    string
}

func (c Calendar) check() error {
	if len(c.Months) != 12 || len(c.Weekdays) != 7 || c.Date == "" || c.Time == "" {
		return fmt.Errorf("the calendar needs twelve months, seven weekdays, and patterns for date and time: %w",
			ErrMissing)
	}
	return nil
}

func (c Calendar) format(pattern string, t time.Time) string {
	ampm, hour12 := "AM", t.Hour()%12
	if t.Hour() >= 12 {
		ampm = "PM"
	}
	if hour12 == 0 {
		hour12 = 12
	}
	day := strconv.Itoa(t.Day())
	if t.Day() == 1 {
		day = cmp.Or(c.First, day)
	}
	return strings.NewReplacer(
		"{weekday}", c.Weekdays[t.Weekday()], "{month}", c.Months[t.Month()-1],
		"{day}", day, "{year}", fmt.Sprint(t.Year()), "{number}", fmt.Sprint(int(t.Month())),
		"{hour}", fmt.Sprintf("%02d", t.Hour()), "{minute}", fmt.Sprintf("%02d", t.Minute()),
		"{h}", strconv.Itoa(t.Hour()), "{hour12}", fmt.Sprint(hour12), "{ampm}", ampm,
	).Replace(pattern)
}

// check refuses a catalog that would fail when a letter is written.
func (c *Catalog) check() error {
	for _, unit := range []string{"minute", "hour"} {
		if c.Units[unit] == nil {
			return fmt.Errorf("locale %s: unit %q is %w", c.Locale, unit, ErrMissing)
		}
	}
	for _, unit := range slices.Sorted(maps.Keys(c.Units)) {
		if err := c.Units[unit].check(c.Locale); err != nil {
			return fmt.Errorf("locale %s: unit %q: %w", c.Locale, unit, err)
		}
	}
	if err := c.Calendar.check(); err != nil {
		return fmt.Errorf("locale %s: %w", c.Locale, err)
	}
	return nil
}

// over returns the words of a region over those of its language: what it does not say is said as there.
func (c Catalog) over(language Catalog) Catalog {
	c.Letters, c.Units = maps.Clone(c.Letters), maps.Clone(c.Units)
	for name, below := range language.Letters {
		p := c.Letters[name]
		for _, f := range p.fields(&below) {
			if *f.have == "" {
				*f.have = *f.other
			}
		}
		words := maps.Clone(below.Words)
		if words == nil {
			words = make(map[string]string)
		}
		maps.Copy(words, p.Words)
		p.Words = words
		c.Letters[name] = p
	}
	for unit, forms := range language.Units {
		if c.Units[unit] == nil {
			c.Units[unit] = forms
		}
	}
	cal, from := &c.Calendar, language.Calendar
	cal.Date, cal.Time, cal.First = cmp.Or(cal.Date, from.Date), cmp.Or(cal.Time, from.Time),
		cmp.Or(cal.First, from.First)
	if len(cal.Months) == 0 {
		cal.Months = from.Months
	}
	if len(cal.Weekdays) == 0 {
		cal.Weekdays = from.Weekdays
	}
	return c
}

// A field is a part of a letter, and the same of another.
type field struct {
	name        string
	have, other *string
}

func (p *Parts) fields(other *Parts) []field {
	return []field{
		{"subject", &p.Subject, &other.Subject}, {"opening", &p.Opening, &other.Opening},
		{"main", &p.Main, &other.Main},
		{"button", &p.Button, &other.Button}, {"code_label", &p.CodeLabel, &other.CodeLabel},
		{"not_me", &p.NotMe, &other.NotMe}, {"aside", &p.Aside, &other.Aside}, {"closing", &p.Closing, &other.Closing},
		{"sms", &p.SMS, &other.SMS},
	}
}

// lacks returns what of the fallback's a letter does not have, and whether it cannot do without: then its reader gets
// all of it in the language of the fallback, and never half of it.
func (p Parts) lacks(fallback Parts) (gaps []string, whole bool) {
	for _, f := range p.fields(&fallback) {
		if *f.have == "" && *f.other != "" {
			if f.name == "opening" || f.name == "closing" { // a language may do without
				continue
			}
			gaps = append(gaps, f.name)
			whole = whole || f.name != "aside" && f.name != "sms" // a text message is a letter of its own
		}
	}
	for _, key := range slices.Sorted(maps.Keys(fallback.Words)) {
		if p.Words[key] == "" {
			gaps, whole = append(gaps, "words."+key), true
		}
	}
	return gaps, whole
}

// A compiled is one letter in one locale, parsed.
type compiled struct {
	catalog *Catalog
	root    *template.Template // what the parts share: one set of functions for all
	parts   map[string]*template.Template
	words   map[string]string
	values  []string        // the values it uses, sorted
	units   map[string]bool // the units it counts in
}

// compile parses the parts of a letter. Errors name locale, letter and part.
func compile(cat *Catalog, name string, p Parts) (*compiled, error) {
	where := func(part string) string {
		return fmt.Sprintf("letter %q, locale %s, %s", name, cat.Locale, part)
	}
	if strings.TrimSpace(p.Subject) == "" {
		return nil, fmt.Errorf("%s: it is empty, and every letter needs one", where("subject"))
	}
	c := &compiled{catalog: cat, root: template.New("").Option("missingkey=error").Funcs(partFuncs),
		parts: make(map[string]*template.Template), words: p.Words, units: make(map[string]bool)}
	values := make(map[string]bool)
	for part, words := range p.named() {
		if words == "" {
			continue
		}
		t, err := c.root.New(part).Parse(words)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", where(part), err)
		}
		if err := onlyValues(t.Root); err != nil {
			return nil, fmt.Errorf("%s: %w", where(part), err)
		}
		collectValues(t.Root, true, values)
		collectUnits(t.Root, c.units)
		c.parts[part] = t
	}
	c.values = slices.Sorted(maps.Keys(values))
	return c, nil
}

// maxPart bounds a part or a body in bytes: room for any letter, none for a value gone wild.
const maxPart = 256 << 10

var errTooLong = errors.New("it grows past 256 KiB")

// A limited is a string builder that fails when it is full.
type limited struct {
	strings.Builder
	room int
}

func newLimited() *limited { return &limited{room: maxPart} }

func (l *limited) Write(p []byte) (int, error) {
	if l.room -= len(p); l.room < 0 {
		return 0, errTooLong
	}
	return l.Builder.Write(p)
}
