// Package strange makes text of strangers, such as what servers answer, fit for logs, tables and terminals.
package strange

import (
	"strings"
	"unicode"
)

// mostRunes bounds a line, in characters.
const mostRunes = 300

// Line returns a text as one line that cannot do anything: without control characters, escapes and marks of direction,
// without what is not UTF-8, and not too long.
func Line(s string) string { return Cut(s, mostRunes) }

// Cut is Line with another bound.
func Cut(s string, most int) string {
	s = strings.Map(func(r rune) rune {
		switch {
		case unicode.IsSpace(r):
			return ' '
		case !unicode.IsPrint(r) || r == unicode.ReplacementChar:
			return -1
		}
		return r
	}, s)
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return s
}
