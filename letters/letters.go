// Package letters holds the default letters and reads sets of letters from files: one catalog in
// TOML for each locale, such as en.toml, and the two layouts layout.txt and layout.html. What
// becomes of them is the business of package core/letter.
package letters

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"github.com/BurntSushi/toml"
	"golang.org/x/text/language"

	"github.com/illumicode/illumicode/core/letter"
)

//go:embed default
var files embed.FS

// Default returns the default letters, in English (the fallback) and German.
func Default() (*letter.Set, error) {
	sub, err := fs.Sub(files, "default")
	if err != nil {
		return nil, err
	}
	return Load(sub, "en")
}

// A catalogFile is what a catalog holds in TOML.
type catalogFile struct {
	Units  map[string]letter.Forms `toml:"units"`
	Letter map[string]struct {
		Subject     string `toml:"subject"`
		Opening     string `toml:"opening"`
		Instruction string `toml:"instruction"`
		Button      string `toml:"button"`
		CodeLabel   string `toml:"code_label"`
		Aside       string `toml:"aside"`
		Closing     string `toml:"closing"`
	} `toml:"letter"`
}

// Load reads the set of letters in the top folder of fsys: every *.toml is the catalog of the
// BCP 47 locale that names it, and the one of fallback must be there. Errors name the file.
func Load(fsys fs.FS, fallback string) (*letter.Set, error) {
	text, err := fs.ReadFile(fsys, "layout.txt")
	if err != nil {
		return nil, fmt.Errorf("letters: the text layout: %w", err)
	}
	html, err := fs.ReadFile(fsys, "layout.html")
	if err != nil {
		return nil, fmt.Errorf("letters: the HTML layout: %w", err)
	}
	names, err := fs.Glob(fsys, "*.toml")
	if err != nil {
		return nil, err
	}
	var catalogs []letter.Catalog
	found := false
	for _, name := range names {
		cat, err := readCatalog(fsys, name)
		if err != nil {
			return nil, fmt.Errorf("letters: %s: %w", name, err)
		}
		if strings.TrimSuffix(name, ".toml") == fallback {
			catalogs = append([]letter.Catalog{cat}, catalogs...)
			found = true
		} else {
			catalogs = append(catalogs, cat)
		}
	}
	if !found {
		return nil, fmt.Errorf("letters: the fallback catalog %s.toml: %w", fallback, fs.ErrNotExist)
	}
	return letter.NewSet(letter.Layout{Text: string(text), HTML: string(html)}, catalogs...)
}

func readCatalog(fsys fs.FS, name string) (letter.Catalog, error) {
	tag, err := language.Parse(strings.TrimSuffix(path.Base(name), ".toml"))
	if err != nil {
		return letter.Catalog{}, errors.New("its name is not a BCP 47 language tag")
	}
	var f catalogFile
	meta, err := toml.DecodeFS(fsys, name, &f)
	if err != nil {
		return letter.Catalog{}, err
	}
	if unknown := meta.Undecoded(); len(unknown) > 0 {
		return letter.Catalog{}, fmt.Errorf("unknown key %q", unknown[0].String())
	}
	cat := letter.Catalog{Locale: tag, Units: f.Units, Letters: make(map[string]letter.Parts)}
	for name, p := range f.Letter {
		cat.Letters[name] = letter.Parts(p)
	}
	return cat, nil
}
