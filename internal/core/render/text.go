// The plain text of letters: paragraphs, lines and wrapping.

package render

import (
	"strings"

	"golang.org/x/text/width"
)

// textWidth is where text lines are wrapped, in columns.
const textWidth = 72

// paragraphs splits words at blank lines.
func paragraphs(words string) []string {
	var out []string
	for p := range strings.SplitSeq(words, "\n\n") {
		if p = strings.TrimSpace(p); p != "" {
			out = append(out, p)
		}
	}
	return out
}

// lines splits at line ends and drops empty lines.
func lines(s string) []string {
	var out []string
	for l := range strings.SplitSeq(s, "\n") {
		if l = strings.TrimSpace(l); l != "" {
			out = append(out, l)
		}
	}
	return out
}

// wrap breaks lines wider than textWidth, folds runs of blank lines to one, and ends
// the text with one line end. A word that does not fit, such as a link, stands on its own line,
// whole: a link broken in two is no link.
func wrap(text string) string {
	var b strings.Builder
	b.Grow(len(text) + len(text)/16)
	blank := 0
	for line := range strings.SplitSeq(strings.TrimSpace(text), "\n") {
		line = strings.TrimRight(line, " \t\r")
		if line == "" {
			if blank++; blank > 1 {
				continue
			}
		} else {
			blank = 0
		}
		if len(line) <= textWidth || columns(line) <= textWidth {
			b.WriteString(line)
			b.WriteByte('\n')
			continue
		}
		wrapLine(&b, line)
		b.WriteByte('\n')
	}
	return b.String()
}

// wrapLine writes a long line, broken at spaces, and between characters of scripts that are written without; what
// follows a break is indented like the line.
func wrapLine(b *strings.Builder, line string) {
	indent := line[:len(line)-len(strings.TrimLeft(line, " "))]
	b.WriteString(indent)
	column := len(indent)
	first := true
	for rest := line[len(indent):]; rest != ""; {
		trimmed := strings.TrimLeft(rest, " ")
		space := min(1, len(rest)-len(trimmed))
		piece := firstPiece(trimmed)
		rest = trimmed[len(piece):]
		wide := columns(piece)
		switch {
		case first:
			first = false
		case column+space+wide > textWidth:
			b.WriteByte('\n')
			b.WriteString(indent)
			column = len(indent)
		case space > 0:
			b.WriteByte(' ')
			column++
		}
		b.WriteString(piece)
		column += wide
	}
}

// Characters that do not begin a line, and those that do not end one (JIS X 4051, the part that every reader would
// miss).
const (
	notFirst = "、。，．・：；？！）」』】〉》ー々っゃゅょぁぃぅぇぉッャュョァィゥェォ％"
	notLast  = "（「『【〈《"
)

// firstPiece returns the beginning of a text up to where a line may be broken.
func firstPiece(text string) string {
	before, wasWide := rune(0), false
	for i, r := range text {
		wide := isWide(r)
		if r == ' ' || i > 0 && (wide || wasWide) && !strings.ContainsRune(notFirst, r) &&
			!strings.ContainsRune(notLast, before) {
			return text[:i]
		}
		before, wasWide = r, wide
	}
	return text
}

// isWide reports whether a character takes two columns (UAX #11).
func isWide(r rune) bool {
	kind := width.LookupRune(r).Kind()
	return kind == width.EastAsianWide || kind == width.EastAsianFullwidth
}

// columns returns how many columns a text takes.
func columns(text string) (n int) {
	for _, r := range text {
		n++
		if r >= 0x1100 && isWide(r) {
			n++
		}
	}
	return n
}
