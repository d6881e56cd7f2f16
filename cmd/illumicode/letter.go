package main

import (
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode/internal/core/compose"
	"github.com/illumicode/illumicode/internal/core/render"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/message"
)

func (a *app) letter() *cobra.Command {
	return group("letter", "Look at letters before anybody gets them", a.letterList(), a.letterShow(), a.letterLint())
}

// A samples shows the configured letters with their sample values.
type samples struct {
	set    *render.Set
	writer render.Writer
	mark   *compose.Part // that travels with each letter; nil for none
	from   message.Address
	base   string // of their links
}

func (a *app) letters() (s samples, err error) {
	f, err := a.load()
	if err != nil {
		return s, err
	}
	s.base = strings.TrimSuffix(f.Site.BaseURL, "/")
	set, err := f.LetterSet()
	if err != nil {
		return s, err
	}
	s.set = render.Of(set)
	if s.writer, s.mark, err = f.Writer(); err != nil {
		return s, err
	}
	s.from, err = f.Sender()
	return s, err
}

// page returns HTML in which a browser finds the mark that travels with letters.
func (s samples) page(html string) (string, error) {
	if s.mark == nil {
		return html, nil
	}
	f, err := s.mark.Open()
	if err != nil {
		return "", err
	}
	defer f.Close()
	raw, err := io.ReadAll(f)
	return strings.ReplaceAll(html, s.writer.Mark, "data:"+s.mark.Type+";base64,"+
		base64.StdEncoding.EncodeToString(raw)), err
}

func (a *app) letterList() *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "List the letters: how they are treated, in which locales, with which values",
		Args:  noArgs,
		RunE: func(*cobra.Command, []string) error {
			s, err := a.letters()
			if err != nil {
				return err
			}
			set := s.set
			type row struct {
				Letter   string   `json:"letter"`
				Lane     string   `json:"lane,omitempty"`
				Category string   `json:"category,omitempty"`
				Proof    bool     `json:"proof"`
				Locales  []string `json:"locales"`
				Values   []string `json:"values"`
			}
			var rows []row
			for _, name := range set.Names() {
				k := set.Kind(name)
				r := row{Letter: name, Lane: k.Lane, Category: k.Category, Proof: set.CarriesProof(name),
					Values: set.Values(name)}
				for _, l := range set.Locales() {
					r.Locales = append(r.Locales, l.String())
				}
				rows = append(rows, r)
			}
			return a.print(rows, func() {
				w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
				fmt.Fprintln(w, "LETTER\tLANE\tCATEGORY\tVALUES\tLOCALES")
				for _, r := range rows {
					category := r.Category
					if category == "" {
						category = "security"
					}
					fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\n", r.Letter, r.Lane, category, strings.Join(r.Values, " "),
						strings.Join(r.Locales, " "))
				}
				w.Flush()
			})
		},
	}
}

func (a *app) letterShow() *cobra.Command {
	var locale, form, out, gallery string
	cmd := &cobra.Command{
		Use:   "show [LETTER]",
		Short: "Show a letter with its sample values, here or in a file; or all of them in a gallery",
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.letters()
			if err != nil {
				return err
			}
			set := s.set
			if gallery != "" {
				if len(args) > 0 {
					return misuse{errors.New("letter show --gallery shows all letters; leave the name out")}
				}
				return a.toFile(gallery, s.gallery)
			}
			if err := oneArg("the name of a letter, as `illumicode letter list` shows it")(cmd, args); err != nil {
				return err
			}
			sample := set.Sample(args[0], set.Locale(locale), s.writer, s.base)
			r, err := set.Render(sample)
			if err != nil {
				return err
			}
			sms := ""
			if set.HasSMS(args[0]) {
				if sms, err = s.text(sample); err != nil {
					return err
				}
			}
			text, err := s.formOf(r, sms, form)
			if err != nil {
				return err
			}
			if out != "" {
				return a.toFile(out, func(f io.Writer) error { _, err := io.WriteString(f, text); return err })
			}
			return a.print(map[string]string{"locale": r.Locale.String(), "subject": r.Subject, "text": r.Text,
				"html": r.HTML, "sms": sms},
				func() { fmt.Fprint(a.out, text) })
		},
	}
	cmd.Flags().StringVar(&locale, "locale", "", "the reader's language (default: the letters' fallback)")
	cmd.Flags().StringVar(&form, "as", "text", "text, html, eml or sms")
	cmd.Flags().StringVar(&out, "out", "", "write to this file instead of here")
	cmd.Flags().StringVar(&gallery, "gallery", "", "write a page with every letter in every locale to this file")
	return cmd
}

// text returns a letter as an SMS, as providers get it.
func (s samples) text(r render.Request) (string, error) {
	r.Proof.Code = strings.ReplaceAll(r.Proof.Code, " ", "")
	text, err := s.set.RenderSMS(r)
	if err != nil {
		return "", err
	}
	return compose.BindCode(text, s.base, r.Proof.Code)
}

// gallery writes a page with all letters.
func (s samples) gallery(to io.Writer) error {
	var b strings.Builder
	if err := s.set.Gallery(&b, s.writer, s.base); err != nil {
		return err
	}
	html, err := s.page(b.String())
	if err == nil {
		_, err = io.WriteString(to, html)
	}
	return err
}

// formOf returns a rendered letter in one form.
func (s samples) formOf(r render.Rendered, sms, form string) (string, error) {
	switch form {
	case "text":
		return "Subject: " + r.Subject + "\n\n" + r.Text, nil
	case "html":
		return s.page(r.HTML)
	case "sms":
		if sms == "" {
			return "", errors.New("this letter has no form as SMS")
		}
		n, gsm := compose.Segments(sms)
		alphabet := "GSM 7-bit"
		if !gsm {
			alphabet = "UCS-2"
		}
		segments := "segments"
		if n == 1 {
			segments = "segment"
		}
		return fmt.Sprintf("%s\n\n(%d %s, %s)\n", sms, n, segments, alphabet), nil
	case "eml":
		to, err := message.ParseAddress("reader@letters.example")
		if err != nil {
			return "", err
		}
		sample := compose.Message{From: s.from, To: []message.Address{to}, Subject: r.Subject, Text: r.Text,
			HTML: r.HTML, Date: time.Now(), ID: "sample@letters.example"}
		if s.mark != nil {
			sample.Inline = []compose.Part{*s.mark}
		}
		m, err := sample.Compose()
		if err != nil {
			return "", err
		}
		raw, err := m.Bytes()
		return string(raw), err
	}
	return "", misuse{fmt.Errorf("--as %s: say text, html, eml or sms", form)}
}

// toFile writes a file and says so.
func (a *app) toFile(name string, write func(io.Writer) error) error {
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	if err := errors.Join(write(f), f.Close()); err != nil {
		return err
	}
	return a.print(map[string]string{"file": name}, func() { a.line("Wrote %s.", name) })
}

func (a *app) letterLint() *cobra.Command {
	return &cobra.Command{
		Use:   "lint",
		Short: "Look for what is wrong with the letters; exits 1 if readers would be hurt by it",
		Args:  noArgs,
		RunE: func(*cobra.Command, []string) error {
			s, err := a.letters()
			if err != nil {
				return err
			}
			set := s.set
			found := append(flow.Misfits(set), set.Lint(s.writer, s.base)...)
			faults := 0
			rows := []map[string]string{}
			for _, f := range found {
				if f.Level == render.Fault {
					faults++
				}
				rows = append(rows, map[string]string{"letter": f.Letter, "locale": f.Locale, "level": string(f.Level),
					"what": f.What})
			}
			err = a.print(rows, func() {
				for _, f := range found {
					a.line("%-6s  %s, %s: %s", f.Level, f.Letter, f.Locale, f.What)
				}
				a.line("%d letters in %d locales: %d faults, %d pieces of advice.", len(set.Names()),
					len(set.Locales()), faults, len(found)-faults)
			})
			if err == nil && faults > 0 {
				err = fmt.Errorf("%d faults", faults)
			}
			return err
		},
	}
}
