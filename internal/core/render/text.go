// The plain text of letters: paragraphs, lines and wrapping.

package render

import (
	"strings"
	"unicode/utf8"
)

// textWidth is where text lines are wrapped, in characters.
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

// wrap breaks lines longer than textWidth at spaces, folds runs of blank lines to one, and ends
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
		if len(line) <= textWidth || utf8.RuneCountInString(line) <= textWidth {
			b.WriteString(line)
			b.WriteByte('\n')
			continue
		}
		wrapLine(&b, line)
		b.WriteByte('\n')
	}
	return b.String()
}

// wrapLine writes a long line, broken at spaces; what follows a break is indented like the line.
func wrapLine(b *strings.Builder, line string) {
	indent := line[:len(line)-len(strings.TrimLeft(line, " "))]
	b.WriteString(indent)
	column := len(indent)
	first := true
	for rest := line[len(indent):]; rest != ""; {
		word := rest
		if i := strings.IndexByte(rest, ' '); i >= 0 {
			word = rest[:i]
		}
		rest = strings.TrimLeft(rest[len(word):], " ")
		width := utf8.RuneCountInString(word)
		switch {
		case first:
			first = false
		case column+1+width > textWidth:
			b.WriteByte('\n')
			b.WriteString(indent)
			column = len(indent)
		default:
			b.WriteByte(' ')
			column++
		}
		b.WriteString(word)
		column += width
	}
}
