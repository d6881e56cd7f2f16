package flow

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// Greeted returns a name by which a letter to an address that is not proven may greet, or "" for nobody: whoever typed
// the name may be a stranger who wants the letter to say something. A name has at most forty characters, in four words
// of letters, marks and what joins them; a dot follows an initial, in a word of initials: "x.com" is none.
func Greeted(name string) string {
	name = norm.NFKC.String(name)
	words := strings.Fields(name)
	if utf8.RuneCountInString(name) > 40 || len(words) > 4 {
		return ""
	}
	for _, word := range words {
		parts := strings.Split(strings.TrimSuffix(word, "."), ".")
		initials := strings.Contains(word, ".")
		for _, part := range parts {
			if letters, ok := countLetters(part); !ok || initials && letters != 1 {
				return ""
			}
		}
	}
	return strings.Join(words, " ")
}

// countLetters counts the letters of a word. It is not ok if the word has anything else that no name has.
func countLetters(word string) (n int, ok bool) {
	for _, r := range word {
		switch {
		case unicode.IsLetter(r):
			n++
		case !unicode.IsMark(r) && r != '-' && r != '\'' && r != '’':
			return n, false
		}
	}
	return n, true
}
