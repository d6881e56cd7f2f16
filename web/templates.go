package web

import (
	"fmt"
	"html/template"
	"io"
	"io/fs"
	"path"
	"slices"
	"time"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/near"
	"github.com/illumicode/illumicode/internal/flow"
)

// readTemplates returns the pages' templates, some of them the application's own. It refuses files that replace none
// of ours, and templates that fail with sample data: what would break at a reader's.
func (p *Pages) readTemplates(own fs.FS) (*template.Template, error) {
	all := template.Must(template.ParseFS(files, "pages/*.html"))
	if own == nil {
		return all, nil
	}
	ours, err := pagesIn(files, "pages/*.html")
	if err != nil {
		return nil, err
	}
	theirs, err := pagesIn(own, "*.html")
	if err != nil {
		return nil, err
	}
	if len(theirs) == 0 {
		return nil, fmt.Errorf("web: Options.Templates has no .html file; %s", near.List("", ours))
	}
	for _, name := range theirs {
		if !slices.Contains(ours, name) {
			return nil, fmt.Errorf("web: Options.Templates: no page is named %q; %s", name, near.List(name, ours))
		}
	}
	if _, err := all.ParseFS(own, "*.html"); err != nil {
		return nil, fmt.Errorf("web: Options.Templates: %w", err)
	}
	for _, name := range ours {
		for _, sample := range p.samples() {
			if err := all.ExecuteTemplate(io.Discard, name, sample); err != nil {
				return nil, fmt.Errorf("web: Options.Templates, with sample data: %w", err)
			}
		}
	}
	return all, nil
}

// pagesIn returns the names of the files that match a pattern.
func pagesIn(folder fs.FS, pattern string) ([]string, error) {
	all, err := fs.Glob(folder, pattern)
	for i := range all {
		all[i] = path.Base(all[i])
	}
	return all, err
}

// samples are a page with everything, and one with little.
func (p *Pages) samples() []page {
	little := p.dress(page{Title: "done_title", Message: "done_text", Request: "0123abcd", Purpose: challenge.Signup},
		"en")
	much := p.dress(page{Title: "wait_title", Message: "wrong_code", Purpose: challenge.Reverify,
		Address: "reader@letters.example", Seconds: 30, Count: int(time.Hour / time.Second), Tries: 4, HasCode: true,
		HasLink: true, Closed: true, Here: "/proof/0123456789abcdef", Next: "/next", CanResend: true, Waiting: true,
		CanCorrect: true, Typed: "reader@", What: "undo",
		Stopped: []string{"new@letters.example"}, Made: true, Browsers: true, Phone: true, Sealed: "sealed"}, "ar")
	return []page{little, much}
}

// dress adds to a page what all have, in a language.
func (p *Pages) dress(v page, locale string) page {
	v.Words, v.Lang = book.In(locale)
	v.Dir = "ltr"
	if v.Lang == "ar" {
		v.Dir = "rtl"
	}
	v.Site, v.Base, v.SignIn = flow.Of(p.svc).Site, p.base, p.opts.SignIn
	return v
}
