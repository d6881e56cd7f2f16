// What is the same in every letter of a kind, for a writer and in a locale, is worked out once, and stands
// as plain words in a copy of the template.

package render

import (
	"bytes"
	"fmt"
	htmltemplate "html/template"
	"io"
	"strings"
	"text/template"
	"text/template/parse"
)

// A layout is the two layouts of a set for letters that differ in few values.
type layout struct {
	text *template.Template
	html *htmltemplate.Template
}

type layoutKey struct {
	letter *compiled
	writer Writer
	has    [3]bool // whether there is a link, a code, and a way to say "not me"
}

// maxLayouts bounds what is kept: a layout takes some 30 kB.
const maxLayouts = 500

// layout returns the layouts for a letter whose sheet this is.
func (s *Set) layout(c *compiled, b *bound, sheet *Sheet) (*layout, error) {
	key := layoutKey{c, sheet.Writer, [3]bool{sheet.Link != "", sheet.Code != "", sheet.NotMeLink != ""}}
	s.mu.Lock()
	defer s.mu.Unlock()
	if l := s.layouts[key]; l != nil {
		return l, nil
	}
	l, err := s.source.parse()
	if err != nil {
		return nil, err
	}
	// html/template adds its escaping to the tree when it first executes it.
	l.html.Execute(io.Discard, sheet) // an error comes again
	f := fixed{fields: b.fixed(key.has), calls: true}
	f.foldTree(l.text.Tree, func(w io.Writer) error { return l.text.Execute(w, sheet) })
	f.foldTree(l.html.Tree, func(w io.Writer) error { return l.html.Execute(w, sheet) })
	if len(s.layouts) >= maxLayouts {
		clear(s.layouts)
	}
	s.layouts[key] = l
	return l, nil
}

// partField has the field of a [Sheet] that holds the words of a part.
var partField = map[string]string{
	"subject": "Subject", "opening": "Opening", "main": "Main", "button": "Button",
	"code_label": "CodeLabel",
	"not_me":     "NotMe", "aside": "Aside", "closing": "Closing",
}

// fixed returns the fields of a [Sheet] that are the same in all letters of a bound.
func (b *bound) fixed(has [3]bool) map[string]bool {
	fields := map[string]bool{"Lang": true, "Dir": true, "Writer": true, "Mark": true, "Imprint": true,
		"Link": !has[0], "Code": !has[1], "NotMeLink": !has[2], "Body": b.text == nil &&
			b.html == nil, "BodyText": b.text == nil && b.html == nil}
	for part, field := range partField {
		fields[field] = b.parts[part] == nil
	}
	return fields
}

// parse reads both layouts.
func (l Layout) parse() (*layout, error) {
	text, err := template.New("layout, text").Parse(l.Text)
	if err != nil {
		return nil, fmt.Errorf("letter: %w", err)
	}
	html, err := htmltemplate.New("layout, html").Parse(l.HTML)
	if err != nil {
		return nil, fmt.Errorf("letter: %w", err)
	}
	return &layout{text, html}, nil
}

// A fixed says what of a template's data is the same each time.
type fixed struct {
	fields map[string]bool
	calls  bool // so is what functions return for it
}

// A dot is what {{.}} is at some place of a layout.
type dot int

const (
	ofData  dot = iota // the data
	ofFixed            // something fixed
	ofOther            // something else
)

// foldTree makes text of what is fixed in a template, whose tree it is. execute executes the template.
func (f fixed) foldTree(tree *parse.Tree, execute func(io.Writer) error) {
	tree.Root = f.fold(tree.Root, ofData, func(n parse.Node) (words string, ok bool) {
		tree.Root = listNode(n)
		var b strings.Builder
		err := execute(&b)
		return b.String(), err == nil
	})
}

// fold returns list with its fixed nodes made text, as eval works them out. What cannot be worked out
// stays, to fail where it is reached, if it is. list itself stays as it is.
func (f fixed) fold(list *parse.ListNode, at dot, eval func(parse.Node) (words string, ok bool)) *parse.ListNode {
	if list == nil {
		return nil
	}
	out := &parse.ListNode{NodeType: parse.NodeList, Pos: list.Pos}
	add := func(nodes ...parse.Node) {
		for _, n := range nodes {
			plain, ok := n.(*parse.TextNode)
			if i := len(out.Nodes) - 1; ok && i >= 0 {
				if last, ok := out.Nodes[i].(*parse.TextNode); ok {
					out.Nodes[i] = textNode(list.Pos, last.Text, plain.Text)
					continue
				}
			}
			out.Nodes = append(out.Nodes, n)
		}
	}
	for _, n := range list.Nodes {
		if f.has(n, at) {
			if words, ok := eval(n); ok {
				add(textNode(list.Pos, []byte(words)))
				continue
			}
		}
		n = n.Copy()
		switch n := n.(type) {
		case *parse.IfNode:
			n.List, n.ElseList = f.fold(n.List, at, eval), f.fold(n.ElseList, at, eval)
			if f.has(n.Pipe, at) {
				asked := *n
				asked.List, asked.ElseList = listNode(textNode(n.Pos, []byte("yes"))), nil
				if words, ok := eval(&asked); ok && words != "" {
					add(n.List.Nodes...)
					continue
				} else if ok && n.ElseList != nil {
					add(n.ElseList.Nodes...)
					continue
				} else if ok {
					continue
				}
			}
		case *parse.RangeNode:
			n.List, n.ElseList = f.fold(n.List, ofOther, eval), f.fold(n.ElseList, at, eval)
		case *parse.WithNode:
			n.List, n.ElseList = f.fold(n.List, ofOther, eval), f.fold(n.ElseList, at, eval)
		}
		add(n)
	}
	return out
}

// has reports whether what a node prints is fixed. What it does not know, such
// as variables, other templates and breaks, is not fixed.
func (f fixed) has(n parse.Node, at dot) bool {
	branch := func(b parse.BranchNode, inner dot) bool {
		return f.has(b.Pipe, at) && f.has(b.List, inner) && (b.ElseList == nil || f.has(b.ElseList, at))
	}
	switch n := n.(type) {
	case *parse.TextNode, *parse.CommentNode, *parse.StringNode, *parse.NumberNode, *parse.BoolNode, *parse.NilNode:
		return true
	case *parse.IdentifierNode:
		return f.calls
	case *parse.ListNode:
		for _, child := range n.Nodes {
			if !f.has(child, at) {
				return false
			}
		}
		return true
	case *parse.ActionNode:
		return f.has(n.Pipe, at)
	case *parse.PipeNode:
		for _, command := range n.Cmds {
			for _, arg := range command.Args {
				if !f.has(arg, at) {
					return false
				}
			}
		}
		return len(n.Decl) == 0
	case *parse.DotNode:
		return at == ofFixed
	case *parse.FieldNode:
		return at == ofFixed || at == ofData && f.fields[n.Ident[0]]
	case *parse.VariableNode:
		return n.Ident[0] == "$" && len(n.Ident) > 1 && f.fields[n.Ident[1]]
	case *parse.IfNode:
		return branch(n.BranchNode, at)
	case *parse.RangeNode:
		return branch(n.BranchNode, ofFixed)
	case *parse.WithNode:
		return branch(n.BranchNode, ofFixed)
	}
	return false
}

func listNode(nodes ...parse.Node) *parse.ListNode {
	return &parse.ListNode{NodeType: parse.NodeList, Nodes: nodes}
}

func textNode(at parse.Pos, words ...[]byte) *parse.TextNode {
	return &parse.TextNode{NodeType: parse.NodeText, Pos: at, Text: bytes.Join(words, nil)}
}
