package letter

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"text/template"
	"text/template/parse"

	"golang.org/x/text/feature/plural"
	"golang.org/x/text/language"
)

// A Catalog holds the words of one locale.
type Catalog struct {
	Locale  language.Tag
	Letters map[string]Parts
	Units   map[string]Forms // "minute" and "hour", for the lives of proofs
}

// Parts are the words of one letter. Subject is required.
type Parts struct {
	Subject     string
	Opening     string
	Instruction string
	Button      string // on the button, where the letter has a link
	CodeLabel   string // above the code, where the letter has one
	Aside       string
	Closing     string
}

// named returns the parts with the names that errors and catalogs use.
func (p Parts) named() map[string]string {
	return map[string]string{
		"subject": p.Subject, "opening": p.Opening, "instruction": p.Instruction, "button": p.Button,
		"code_label": p.CodeLabel, "aside": p.Aside, "closing": p.Closing,
	}
}

// Forms are the plural forms of a unit, under the names of CLDR: zero, one, two, few, many,
// other. Other is required.
type Forms map[string]string

// count returns n with the form that the locale's cardinal rules choose.
func (f Forms) count(locale language.Tag, n int) string {
	form := plural.Cardinal.MatchPlural(locale, n, 0, 0, 0, 0)
	name := [...]string{plural.Other: "other", plural.Zero: "zero", plural.One: "one",
		plural.Two: "two", plural.Few: "few", plural.Many: "many"}[form]
	word, ok := f[name]
	if !ok {
		word = f["other"]
	}
	return fmt.Sprintf("%d %s", n, word)
}

// A compiled is one letter in one locale, parsed.
type compiled struct {
	catalog *Catalog
	parts   map[string]*template.Template
	values  []string // the values its parts use, sorted
}

// compile parses the parts of a letter. Errors name locale, letter and part.
func compile(cat *Catalog, name string, p Parts) (*compiled, error) {
	where := func(part string) string {
		return fmt.Sprintf("letter %q, locale %s, %s", name, cat.Locale, part)
	}
	if strings.TrimSpace(p.Subject) == "" {
		return nil, fmt.Errorf("%s: it is empty, and every letter needs one", where("subject"))
	}
	c := &compiled{catalog: cat, parts: make(map[string]*template.Template)}
	values := make(map[string]bool)
	for part, words := range p.named() {
		if words == "" {
			continue
		}
		t, err := template.New(part).Option("missingkey=error").Parse(words)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", where(part), err)
		}
		if err := collectValues(t.Root, values); err != nil {
			return nil, fmt.Errorf("%s: %w", where(part), err)
		}
		c.parts[part] = t
	}
	c.values = slices.Sorted(maps.Keys(values))
	return c, nil
}

// collectValues adds the top-level values that a template uses, so that a missing one can be
// refused when the letter is asked for rather than when it is delivered. Words need values and
// conditions; a construct whose values could not be listed is refused.
func collectValues(n parse.Node, values map[string]bool) error {
	switch n := n.(type) {
	case nil, *parse.TextNode, *parse.CommentNode, *parse.StringNode, *parse.NumberNode, *parse.BoolNode, *parse.IdentifierNode:
	case *parse.ListNode:
		if n == nil {
			return nil
		}
		for _, child := range n.Nodes {
			if err := collectValues(child, values); err != nil {
				return err
			}
		}
	case *parse.ActionNode:
		return collectValues(n.Pipe, values)
	case *parse.IfNode:
		return errors.Join(collectValues(n.Pipe, values), collectValues(n.List, values), collectValues(n.ElseList, values))
	case *parse.PipeNode:
		if len(n.Decl) > 0 {
			return errors.New("variables are not available in a letter")
		}
		for _, cmd := range n.Cmds {
			for _, arg := range cmd.Args {
				if err := collectValues(arg, values); err != nil {
					return err
				}
			}
		}
	case *parse.FieldNode:
		values[n.Ident[0]] = true
	default:
		return fmt.Errorf("%s: a letter's words hold values such as {{.name}} and {{if .name}}…{{end}} only", n)
	}
	return nil
}

// execute returns the words of one part with its values, or "" where the letter lacks the part.
func (c *compiled) execute(part string, data map[string]any) (string, error) {
	t := c.parts[part]
	if t == nil {
		return "", nil
	}
	b := &limited{room: maxPart}
	if err := t.Execute(b, data); err != nil {
		return "", err
	}
	return strings.TrimSpace(b.String()), nil
}

// maxPart bounds one part in bytes: room for any letter, none for a value gone wild.
const maxPart = 64 << 10

// A limited is a string builder that fails when it is full.
type limited struct {
	strings.Builder
	room int
}

func (l *limited) Write(p []byte) (int, error) {
	if l.room -= len(p); l.room < 0 {
		return 0, fmt.Errorf("it grows past %d bytes: %w", maxPart, io.ErrShortWrite)
	}
	return l.Builder.Write(p)
}
