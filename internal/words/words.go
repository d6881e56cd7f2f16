// Package words holds the words of pages in several languages, read from one TOML file with a
// table for each locale.
package words

import (
	"fmt"
	"io/fs"

	"github.com/BurntSushi/toml"
)

// A Book is the words by locale, then by key.
type Book map[string]map[string]string

// MustLoad reads an embedded book. It panics if that is broken, or if a locale lacks a key that
// English has: both are faults of the build, not of its user.
func MustLoad(fsys fs.FS, name string) Book {
	var b Book
	if _, err := toml.DecodeFS(fsys, name, &b); err != nil {
		panic(err)
	}
	for locale, w := range b {
		for key := range b["en"] {
			if w[key] == "" {
				panic(fmt.Sprintf("words: %s: locale %s lacks %q", name, locale, key))
			}
		}
	}
	return b
}

// In returns the words of a locale, or those of English where there are none, and which it is.
func (b Book) In(locale string) (map[string]string, string) {
	if w := b[locale]; w != nil {
		return w, locale
	}
	return b["en"], "en"
}
