// What templates can call: dates, times, numbers and plurals as the reader writes them.

package render

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"reflect"
	"strconv"
	"text/template"
	"time"

	"golang.org/x/text/language"
	"golang.org/x/text/message"
	"golang.org/x/text/number"
)

// formats are the reader's: a locale's catalog and a time zone.
type formats struct {
	catalog *Catalog
	zone    *time.Location
}

// noFormats are nobody's: they only name the functions, for parsing; each execution brings its own.
var noFormats = formats{new(Catalog), time.UTC}

var partFuncs = noFormats.funcs()

// funcs returns the functions of all templates.
//
//	{{date .departs}} {{time .departs}}   a time.Time, or its RFC 3339 text, in the reader's zone
//	{{number .seats}}                     with the locale's separators
//	{{plural "minute" .wait}}             with the form of the unit that the number takes
func (f formats) funcs() template.FuncMap {
	return template.FuncMap{
		"date":   func(v any) (string, error) { return f.when(f.catalog.Calendar.Date, v) },
		"time":   func(v any) (string, error) { return f.when(f.catalog.Calendar.Time, v) },
		"number": f.number,
		"plural": f.plural,
	}
}

func (f formats) when(pattern string, v any) (string, error) {
	switch t := v.(type) {
	case time.Time:
		return f.catalog.Calendar.format(pattern, t.In(f.zone)), nil
	case string:
		parsed, err := time.Parse(time.RFC3339, t)
		if err != nil {
			return "", fmt.Errorf("a date or time must be in the form of RFC 3339, such as 2031-01-02T15:04:05Z")
		}
		return f.catalog.Calendar.format(pattern, parsed.In(f.zone)), nil
	}
	return "", fmt.Errorf("a %T is no date or time", v)
}

func (f formats) number(v any) (string, error) {
	n, err := toFloat(v)
	if err != nil {
		return "", err
	}
	// Dates have Latin digits in every language, so numbers have them too.
	locale, err := f.catalog.Locale.SetTypeForKey("nu", "latn")
	if err != nil {
		locale = f.catalog.Locale
	}
	var how []number.Option
	if base, _ := locale.Base(); math.Abs(n) < 10000 && (base.String() == "es" || base.String() == "pl" ||
		base.String() == "pt" && locale.Parent() != language.Und) { // CLDR's minimumGroupingDigits
		how = append(how, number.NoSeparator())
	}
	return message.NewPrinter(locale).Sprint(number.Decimal(n, how...)), nil
}

func (f formats) plural(unit string, v any) (string, error) {
	c := f.catalog
	forms := c.Units[unit]
	if forms == nil {
		return "", fmt.Errorf("the unit %q is %w from the catalog", unit, ErrMissing)
	}
	n, err := toFloat(v)
	if err != nil {
		return "", err
	}
	return forms.count(c.Locale, int(n)), nil
}

// toFloat reads a number of Go or of JSON.
func toFloat(v any) (float64, error) {
	switch n := v.(type) {
	case json.Number:
		return n.Float64()
	case string:
		f, err := strconv.ParseFloat(n, 64)
		if err != nil { // its text would show the value
			return 0, errors.New("a text that is no number")
		}
		return f, nil
	}
	switch r := reflect.ValueOf(v); {
	case r.CanInt():
		return float64(r.Int()), nil
	case r.CanUint():
		return float64(r.Uint()), nil
	case r.CanFloat():
		return r.Float(), nil
	}
	return 0, fmt.Errorf("a %T is no number", v)
}
