// Package letters holds the default letters and reads sets of letters from files. [Load] is the function to read first.
//
// A set is a folder of
//
//	en.toml, de.toml, …       one catalog of words for each locale
//	letters.toml              how each letter is to be treated, and sample values
//	layout.txt, layout.html   what sets the parts of every letter
//	NAME.txt, NAME.html       a letter's own middle, where parts are not enough
//
// Each file is optional: what a set lacks is taken from the default letters, file by file, and
// for catalogs letter by letter. A region, such as pt-PT, has from its language what it does not say. A letter that a
// locale lacks, or half of which it lacks, is written in the fallback locale: none is in two languages.
package letters

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/BurntSushi/toml"
	"golang.org/x/text/language"

	"github.com/illumicode/illumicode/internal/core/render"
	"github.com/illumicode/illumicode/letter"
)

//go:embed default
var files embed.FS

// Fallback is the locale of the default letters for readers of any other language.
const Fallback = "en"

// Default returns the default letters, in Arabic, English (en, en-GB), French (fr, fr-CA), German, Japanese, Polish,
// Portuguese (pt is Brazil's; pt-PT) and Spanish: one set, which everybody who calls shares.
func Default() (*letter.Set, error) { return byDefault() }

var byDefault = sync.OnceValues(func() (*letter.Set, error) { return Load(nil, Fallback) })

// Load returns the set of the letters in the top folder of fsys, which may be nil, over the
// default ones. fallback is the locale for readers of other languages; it must have every letter.
// Errors name the file.
func Load(fsys fs.FS, fallback string) (*letter.Set, error) {
	base, err := fs.Sub(files, "default")
	if err != nil {
		return nil, err
	}
	b := builder{catalogs: make(map[string]*render.Catalog), kinds: make(map[string]render.Kind),
		bodies: make(map[string]render.Body)}
	own := 0 // files read before the layer of fsys
	for _, layer := range []fs.FS{base, fsys} {
		if layer == nil {
			continue
		}
		own = b.read
		if err := b.add(layer); err != nil {
			return nil, err
		}
	}
	if fsys != nil && b.read == own {
		return nil, errors.New(
			"letters: the folder has no letter: no catalog such as en.toml, no letters.toml, no layout and no body; " +
				"leave it out for the default letters")
	}
	first := b.catalogs[fallback]
	if first == nil {
		return nil, fmt.Errorf("letters: the fallback catalog %s.toml: %w", fallback, fs.ErrNotExist)
	}
	src := render.Source{Layout: b.layout, Kinds: b.kinds, Bodies: b.bodies, Catalogs: []render.Catalog{*first}}
	for _, name := range slices.Sorted(maps.Keys(b.catalogs)) {
		if name != fallback {
			src.Catalogs = append(src.Catalogs, *b.catalogs[name])
		}
	}
	set, err := render.NewSet(src)
	if err != nil {
		return nil, err
	}
	public := new(letter.Set)
	render.Publish(public, set)
	return public, nil
}

// A builder gathers a set from layers of files, later ones over earlier ones.
type builder struct {
	read     int // files of letters
	layout   render.Layout
	catalogs map[string]*render.Catalog
	kinds    map[string]render.Kind
	bodies   map[string]render.Body
}

func (b *builder) add(fsys fs.FS) error {
	entries, err := fs.ReadDir(fsys, ".")
	if err != nil {
		return fmt.Errorf("letters: %w", err)
	}
	for _, e := range entries {
		if e.IsDir() {
			continue
		}
		if err := b.file(fsys, e.Name()); err != nil {
			return fmt.Errorf("letters: %s: %w", e.Name(), err)
		}
	}
	return nil
}

func (b *builder) file(fsys fs.FS, name string) error {
	stem, ext := strings.TrimSuffix(name, path.Ext(name)), path.Ext(name)
	if ext == ".toml" || ext == ".txt" || ext == ".html" {
		b.read++
	}
	switch {
	case name == "letters.toml":
		return b.readKinds(fsys)
	case ext == ".toml":
		return b.readCatalog(fsys, stem)
	case ext != ".txt" && ext != ".html":
		return nil // a README, a picture
	}
	raw, err := fs.ReadFile(fsys, name)
	if err != nil {
		return err
	}
	if stem == "layout" {
		if ext == ".txt" {
			b.layout.Text = string(raw)
		} else {
			b.layout.HTML = string(raw)
		}
		return nil
	}
	body := b.bodies[stem]
	if ext == ".txt" {
		body.Text = string(raw)
	} else {
		body.HTML = string(raw)
	}
	b.bodies[stem] = body
	return nil
}

// decode reads a TOML file strictly.
func decode(fsys fs.FS, name string, into any) error {
	meta, err := toml.DecodeFS(fsys, name, into)
	if err != nil {
		return err
	}
	// What lists in a sample hold counts as undecoded, though it is not.
	unknown := slices.DeleteFunc(meta.Undecoded(), func(k toml.Key) bool { return len(k) > 2 && k[1] == "sample" })
	if len(unknown) > 0 {
		return fmt.Errorf("unknown key %q", unknown[0].String())
	}
	return nil
}

func (b *builder) readKinds(fsys fs.FS) error {
	var f map[string]struct {
		Lane          string         `toml:"lane"`
		Life          string         `toml:"life"`
		Category      string         `toml:"category"`
		From          string         `toml:"from"`
		ReplyTo       string         `toml:"reply_to"`
		CodeInSubject bool           `toml:"code_in_subject"`
		AtMostOnce    bool           `toml:"at_most_once"`
		Sample        map[string]any `toml:"sample"`
	}
	if err := decode(fsys, "letters.toml", &f); err != nil {
		return err
	}
	for name, k := range f {
		var life time.Duration
		if k.Life != "" {
			var err error
			if life, err = time.ParseDuration(k.Life); err != nil || life <= 0 {
				return fmt.Errorf("%s.life: %q is no duration; write it as 30m or 6h", name, k.Life)
			}
		}
		b.kinds[name] = render.Kind{Life: life, Lane: k.Lane, Category: k.Category, From: k.From, ReplyTo: k.ReplyTo,
			CodeInSubject: k.CodeInSubject, AtMostOnce: k.AtMostOnce, Sample: k.Sample}
	}
	return nil
}

// A catalogFile is what a catalog holds in TOML.
type catalogFile struct {
	Units    map[string]render.Forms `toml:"units"`
	Calendar struct {
		Months   []string `toml:"months"`
		Weekdays []string `toml:"weekdays"`
		Date     string   `toml:"date"`
		Time     string   `toml:"time"`
		First    string   `toml:"first"`
	} `toml:"calendar"`
	Letter map[string]struct {
		Subject   string            `toml:"subject"`
		Opening   string            `toml:"opening"`
		Main      string            `toml:"main"`
		Button    string            `toml:"button"`
		CodeLabel string            `toml:"code_label"`
		NotMe     string            `toml:"not_me"`
		Aside     string            `toml:"aside"`
		Closing   string            `toml:"closing"`
		SMS       string            `toml:"sms"`
		Words     map[string]string `toml:"words"`
	} `toml:"letter"`
}

func (b *builder) readCatalog(fsys fs.FS, locale string) error {
	tag, err := language.Parse(locale)
	if err != nil {
		return errors.New("its name is not a BCP 47 language tag")
	}
	var f catalogFile
	if err := decode(fsys, locale+".toml", &f); err != nil {
		return err
	}
	cat := b.catalogs[locale]
	if cat == nil {
		cat = &render.Catalog{Locale: tag, Letters: make(map[string]render.Parts), Units: make(map[string]render.Forms)}
		b.catalogs[locale] = cat
	}
	maps.Copy(cat.Units, f.Units)
	if f.Calendar.Date != "" || f.Calendar.Time != "" {
		cat.Calendar = render.Calendar(f.Calendar)
	}
	for name, p := range f.Letter {
		cat.Letters[name] = render.Parts(p)
	}
	return nil
}
