// Package words holds the words of pages in several languages, read from one TOML file with a
// table for each locale.
package words

import (
	"fmt"
	"io/fs"
	"maps"
	"strings"

	"github.com/BurntSushi/toml"
)

// A Book is the words by locale, then by key.
type Book map[string]map[string]string

// MustLoad reads an embedded book. A locale with a region, such as pt-PT, has from its language what it does not say
// itself. It panics if the book is broken, or if a locale lacks a key that English has: both are faults of the build,
// not of its user.
func MustLoad(fsys fs.FS, name string) Book {
	var b Book
	if _, err := toml.DecodeFS(fsys, name, &b); err != nil {
		panic(err)
	}
	for locale, w := range b {
		language, _, region := strings.Cut(locale, "-")
		if region {
			b[locale] = maps.Clone(b[language])
			if b[locale] == nil {
				panic(fmt.Sprintf("words: %s: there is %s and no %s", name, locale, language))
			}
			maps.Copy(b[locale], w)
		}
		for key := range b["en"] {
			if b[locale][key] == "" {
				panic(fmt.Sprintf("words: %s: locale %s lacks %q", name, locale, key))
			}
		}
	}
	return b
}

// In returns the words of a locale, of its language, or of English, and which of these it is.
func (b Book) In(locale string) (map[string]string, string) {
	for at := locale; at != ""; at = at[:max(0, strings.LastIndexByte(at, '-'))] {
		if w := b[at]; w != nil {
			return w, at
		}
	}
	return b["en"], "en"
}
