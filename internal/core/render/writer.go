package render

import (
	"fmt"
	"math"
	"net/url"
	"strconv"
	"strings"
)

// A Writer is who is writing: set once, shown by every letter.
type Writer struct {
	Name     string // of the service, as people know it; the value "site" of every letter
	HomePage string // absolute, or empty
	Imprint  string // may have several lines, or be empty
	Mark     string // a picture beside the name: an https URL, or cid:ID of an inline part; empty for none
	Colours  Colours
}

// Colours are those of letters, as #rrggbb. An empty one has its default. Dark mode keeps its own,
// but for the accent.
type Colours struct {
	Accent   string // of the button and the edge; default #1d5f63
	OnAccent string // of the words on the button; default #ffffff
	Ink      string // of the text; default #17323a
	Sheet    string // under the text; default #ffffff
	Ground   string // around the sheet; default #eef2f1
}

// MinContrast is the least contrast of words against what is under them: WCAG 2.2 §1.4.3, AA.
const MinContrast = 4.5

// Check returns w with its default colours, or an error that names what cannot be used: a colour
// that is none, words that could not be read, a mark that is no picture's address.
func (w Writer) Check() (Writer, error) {
	c := &w.Colours
	for _, one := range []struct {
		name, def string
		value     *string
	}{{"accent", "#1d5f63", &c.Accent}, {"on_accent", "#ffffff", &c.OnAccent}, {"ink", "#17323a", &c.Ink},
		{"sheet", "#ffffff", &c.Sheet}, {"ground", "#eef2f1", &c.Ground}} {
		if *one.value == "" {
			*one.value = one.def
		}
		if _, err := luminance(*one.value); err != nil {
			return w, fmt.Errorf("letter: colour %s: %w", one.name, err)
		}
	}
	for _, pair := range [][3]string{{"on_accent on accent", c.OnAccent, c.Accent}, {"ink on sheet", c.Ink, c.Sheet}} {
		if r := Contrast(pair[1], pair[2]); r < MinContrast {
			return w, fmt.Errorf(
				"letter: %s has a contrast of %.1f, want at least %.1f (WCAG 2.2 §1.4.3): make one darker or lighter",
				pair[0], r, MinContrast)
		}
	}
	if w.Mark != "" && !strings.HasPrefix(w.Mark, "cid:") {
		if u, err := url.Parse(w.Mark); err != nil || u.Scheme != "https" || u.Host == "" {
			return w, fmt.Errorf("letter: the mark is neither an https URL nor the cid: of an inline part")
		}
	}
	return w, nil
}

// Contrast returns the contrast ratio of two colours, from 1 to 21 (WCAG 2.2, "contrast ratio"),
// or 0 if one of them is no colour.
func Contrast(a, b string) float64 {
	la, errA := luminance(a)
	lb, errB := luminance(b)
	if errA != nil || errB != nil {
		return 0
	}
	return (math.Max(la, lb) + 0.05) / (math.Min(la, lb) + 0.05)
}

// luminance returns the relative luminance of #rrggbb or #rgb (WCAG 2.2).
func luminance(colour string) (float64, error) {
	hex, ok := strings.CutPrefix(colour, "#")
	if ok && len(hex) == 3 {
		hex = string([]byte{hex[0], hex[0], hex[1], hex[1], hex[2], hex[2]})
	}
	n, err := strconv.ParseUint(hex, 16, 24)
	if !ok || len(hex) != 6 || err != nil {
		return 0, fmt.Errorf("%q is no colour; write it as #rrggbb", colour)
	}
	linear := func(channel uint64) float64 {
		v := float64(channel&0xff) / 255
		if v <= 0.04045 {
			return v / 12.92
		}
		return math.Pow((v+0.055)/1.055, 2.4)
	}
	return 0.2126*linear(n>>16) + 0.7152*linear(n>>8) + 0.0722*linear(n), nil
}
