package demo

import (
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/text/width"

	"github.com/illumicode/illumicode/internal/store"
)

// A Style is how a Teller prints.
type Style string

// The styles.
const (
	Plain  Style = "plain"
	Colour Style = "colour" // for a terminal
	JSON   Style = "json"   // an object a line
)

// A Teller prints the script as it goes, in lines of at most 100 columns. It is not safe for
// concurrent use.
type Teller struct {
	out   io.Writer
	style Style
	who   string // the passenger whose steps are told
	rows  []row
}

// A row is a line of the closing table.
type row struct {
	name, lang, way string
	letters         int
	took            time.Duration
}

// NewTeller returns a Teller that prints to out.
func NewTeller(out io.Writer, style Style) *Teller { return &Teller{out: out, style: style} }

func (t *Teller) paint(code, s string) string {
	if t.style != Colour {
		return s
	}
	return "\x1b[" + code + "m" + s + "\x1b[0m"
}

func (t *Teller) line(format string, args ...any) {
	if t.style != JSON {
		fmt.Fprintf(t.out, format+"\n", args...)
	}
}

func (t *Teller) object(o map[string]any) {
	if t.style == JSON {
		json.NewEncoder(t.out).Encode(o) // strings and numbers always marshal
	}
}

// Begin announces a passenger.
func (t *Teller) Begin(n, of int, c cast) {
	name := cmp.Or(c.name, "(no name)")
	t.who = c.email
	t.line("")
	t.line("%s %s <%s>, %s: %s", t.paint("2", fmt.Sprintf("[%2d/%d]", n, of)), t.paint("1", name), c.email, c.lang,
		c.way)
}

// Step tells one step: what the passenger did, what was seen, how long it took.
func (t *Teller) Step(what, seen string, took time.Duration) {
	t.object(map[string]any{"passenger": t.who, "step": what, "seen": seen, "ms": took.Milliseconds()})
	t.line("        %s  %s %s", fit(what, 28), fit(seen, 50), t.paint("2", fmt.Sprintf("%7s", millis(took))))
}

// Wrong tells the step that went wrong.
func (t *Teller) Wrong(err error) {
	t.object(map[string]any{"passenger": t.who, "wrong": err.Error()})
	t.line("%s", t.paint("31", "  WRONG  "+err.Error()))
}

// End remembers a passenger for the closing table.
func (t *Teller) End(name, lang, way string, letters int, took time.Duration) {
	if name == "" {
		name = "(no name)"
	}
	t.rows = append(t.rows, row{name, lang, way, letters, took})
}

// Summary prints the closing table.
func (t *Teller) Summary(sum store.Summary, attempts map[string]int, arrived int, took time.Duration) {
	t.object(map[string]any{"signed_in": len(t.rows), "passengers": len(passengers), "ms": took.Milliseconds(),
		"sent": sum.Count[store.Sent], "arrived": arrived, "failed": sum.Count[store.Failed], "attempts": attempts})
	t.line("")
	t.line("%s", t.paint("1", fit("Passenger", 28)+fit("Language", 10)+fit("Way", 32)+"Letters    Time  Signed in"))
	for _, r := range t.rows {
		t.line("%s%s%s%7d %7s  %s", fit(r.name, 28), fit(r.lang, 10), fit(r.way, 32), r.letters, millis(r.took),
			t.paint("32", "yes"))
	}
	t.line("")
	t.line("%d of %d passengers confirmed and signed in, in %s.", len(t.rows), len(passengers), millis(took))
	t.line("Letters sent: %d, arrived: %d, failed: %d. Dropped, as nobody was to get them: %d.",
		sum.Count[store.Sent], arrived, sum.Count[store.Failed], sum.Count[store.Cancelled]+sum.Count[store.Expired])
	t.line("Attempts: %d accepted, %d put off and repeated, %d ambiguous.", attempts["accepted"], attempts["transient"],
		attempts["ambiguous"])
}

// fit pads or cuts s to n columns.
func fit(s string, n int) string {
	var b strings.Builder
	used := 0
	for i, r := range s {
		w := columns(r)
		if used+w > n || used+w == n && i+utf8.RuneLen(r) < len(s) {
			b.WriteString("…")
			used++
			break
		}
		b.WriteRune(r)
		used += w
	}
	return b.String() + strings.Repeat(" ", max(0, n-used))
}

// columns returns how many columns of a terminal a character takes (Unicode Standard Annex #11).
func columns(r rune) int {
	if k := width.LookupRune(r).Kind(); k == width.EastAsianWide || k == width.EastAsianFullwidth {
		return 2
	}
	return 1
}

func millis(d time.Duration) string {
	if d >= 10*time.Second {
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return fmt.Sprintf("%d ms", d.Milliseconds())
}
