// Package letter names the letters of a service. Package letters has the default ones and reads others from a folder;
// [Set] is the type to read first.
package letter

import "github.com/illumicode/illumicode/internal/core/render"

// inside lets the other packages of this module reach the letters.
//
//lint:ignore U1000 embedded for its methods, which only this module can call
type inside = render.Held

// A Set is the letters of a service in several languages. It is safe for concurrent use. The zero Set has no letter and
// is refused; use letters.Default or letters.Load.
type Set struct {
	//lint:ignore U1000 embedded for its methods, which only this module can call
	inside
}

// Names returns the names of the letters, in order.
func (s *Set) Names() []string { return render.Of(s).Names() }

// Locales returns the languages of the letters as BCP 47 tags, that of the fallback first.
func (s *Set) Locales() []string {
	var all []string
	for _, tag := range render.Of(s).Locales() {
		all = append(all, tag.String())
	}
	return all
}

// ErrMissing matches a letter or a value of a letter that there is not.
var ErrMissing = render.ErrMissing

// Colours are those of letters, as #rrggbb; an empty one has its default. Dark mode keeps its own, but for the accent.
// New refuses words whose contrast to what is under them is below 4.5 to 1 (WCAG 2.2 §1.4.3, AA).
type Colours struct {
	Accent   string // of the button and the edge; default #1d5f63
	OnAccent string // of the words on the button; default #ffffff
	Ink      string // of the text; default #17323a
	Sheet    string // under the text; default #ffffff
	Ground   string // around the sheet; default #eef2f1
}
