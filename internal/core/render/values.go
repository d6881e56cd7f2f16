// Which values a template uses, and whether a Go type has them: found in the parse tree, so that
// a missing one is refused when the service starts or the letter is asked for, not at delivery.

package render

import (
	"cmp"
	"errors"
	"fmt"
	"reflect"
	"strings"
	"text/template/parse"

	"github.com/illumicode/illumicode/internal/core/near"
)

// onlyValues refuses what the words of a part do not need: loops, variables, templates.
func onlyValues(n parse.Node) error {
	var err error
	walk(n, func(n parse.Node) {
		switch n := n.(type) {
		case *parse.RangeNode, *parse.WithNode, *parse.TemplateNode, *parse.VariableNode, *parse.BreakNode,
			*parse.ContinueNode:
			err = errors.Join(err,
				fmt.Errorf("%s: the words of a part hold values such as {{.name}} and {{if .name}}…{{end}} only", n))
		}
	})
	return err
}

// onlyText returns the words of a template that has no actions.
func onlyText(root *parse.ListNode) (string, bool) {
	var b strings.Builder
	for _, n := range root.Nodes {
		text, ok := n.(*parse.TextNode)
		if !ok {
			return "", false
		}
		b.Write(text.Text)
	}
	return b.String(), true
}

// walk calls visit for a node and everything in it.
func walk(n parse.Node, visit func(parse.Node)) {
	if n == nil || reflect.ValueOf(n).IsNil() {
		return
	}
	visit(n)
	switch n := n.(type) {
	case *parse.ListNode:
		for _, child := range n.Nodes {
			walk(child, visit)
		}
	case *parse.ActionNode:
		walk(n.Pipe, visit)
	case *parse.IfNode:
		walkBranch(n.BranchNode, visit)
	case *parse.RangeNode:
		walkBranch(n.BranchNode, visit)
	case *parse.WithNode:
		walkBranch(n.BranchNode, visit)
	case *parse.TemplateNode:
		walk(n.Pipe, visit)
	case *parse.PipeNode:
		for _, cmd := range n.Cmds {
			for _, arg := range cmd.Args {
				walk(arg, visit)
			}
		}
	case *parse.ChainNode:
		walk(n.Node, visit)
	}
}

func walkBranch(n parse.BranchNode, visit func(parse.Node)) {
	walk(n.Pipe, visit)
	walk(n.List, visit)
	walk(n.ElseList, visit)
}

// collectValues adds the top-level values that a template uses. top says whether the dot is the
// data: within a loop it is not, and only $.name still leads there.
func collectValues(n parse.Node, top bool, values map[string]bool) {
	if n == nil || reflect.ValueOf(n).IsNil() {
		return
	}
	pipe := func(p *parse.PipeNode) {
		walk(p, func(n parse.Node) {
			switch n := n.(type) {
			case *parse.FieldNode:
				if top {
					values[n.Ident[0]] = true
				}
			case *parse.VariableNode:
				if n.Ident[0] == "$" && len(n.Ident) > 1 {
					values[n.Ident[1]] = true
				}
			}
		})
	}
	switch n := n.(type) {
	case *parse.ListNode:
		for _, child := range n.Nodes {
			collectValues(child, top, values)
		}
	case *parse.ActionNode:
		pipe(n.Pipe)
	case *parse.IfNode:
		pipe(n.Pipe)
		collectValues(n.List, top, values)
		collectValues(n.ElseList, top, values)
	case *parse.RangeNode:
		pipe(n.Pipe)
		collectValues(n.List, false, values)
		collectValues(n.ElseList, top, values)
	case *parse.WithNode:
		pipe(n.Pipe)
		collectValues(n.List, false, values)
		collectValues(n.ElseList, top, values)
	}
}

// collectUnits adds the units that a template counts in.
func collectUnits(n parse.Node, units map[string]bool) {
	walk(n, func(n parse.Node) {
		p, ok := n.(*parse.PipeNode)
		if !ok {
			return
		}
		for _, cmd := range p.Cmds {
			if len(cmd.Args) < 2 || cmd.Args[0].String() != "plural" {
				continue
			}
			if unit, ok := cmd.Args[1].(*parse.StringNode); ok {
				units[unit.Text] = true
			}
		}
	})
}

// fits reports the first field path of a template that the type of the dot lacks. Fields have
// the names that encoding/json gives them, for data travels as JSON.
func fits(n parse.Node, dot, root reflect.Type) error {
	if n == nil || reflect.ValueOf(n).IsNil() {
		return nil
	}
	branch := func(b parse.BranchNode, inner reflect.Type) error {
		return errors.Join(fits(b.Pipe, dot, root), fits(b.List, inner, root), fits(b.ElseList, dot, root))
	}
	switch n := n.(type) {
	case *parse.ListNode:
		for _, child := range n.Nodes {
			if err := fits(child, dot, root); err != nil {
				return err
			}
		}
	case *parse.ActionNode:
		return fits(n.Pipe, dot, root)
	case *parse.IfNode:
		return branch(n.BranchNode, dot)
	case *parse.RangeNode:
		return branch(n.BranchNode, element(typeOf(n.Pipe, dot, root)))
	case *parse.WithNode:
		return branch(n.BranchNode, typeOf(n.Pipe, dot, root))
	case *parse.PipeNode:
		var err error
		walk(n, func(n parse.Node) {
			switch n := n.(type) {
			case *parse.FieldNode:
				_, e := follow(dot, n.Ident)
				err = errors.Join(err, e)
			case *parse.VariableNode:
				if n.Ident[0] == "$" {
					_, e := follow(root, n.Ident[1:])
					err = errors.Join(err, e)
				}
			}
		})
		return err
	}
	return nil
}

// typeOf returns the type of a pipeline that is a single field path, else nil: unknown.
func typeOf(p *parse.PipeNode, dot, root reflect.Type) reflect.Type {
	if len(p.Cmds) != 1 || len(p.Cmds[0].Args) != 1 {
		return nil
	}
	switch n := p.Cmds[0].Args[0].(type) {
	case *parse.FieldNode:
		t, _ := follow(dot, n.Ident) // an error is reported where the pipe itself is checked
		return t
	case *parse.VariableNode:
		if n.Ident[0] == "$" {
			t, _ := follow(root, n.Ident[1:])
			return t
		}
	}
	return nil
}

func element(t reflect.Type) reflect.Type {
	if t != nil && (t.Kind() == reflect.Slice || t.Kind() == reflect.Array || t.Kind() == reflect.Map) {
		return t.Elem()
	}
	return nil
}

// follow returns the type at a path of field names. A nil type is unknown, and has any field.
func follow(t reflect.Type, path []string) (reflect.Type, error) {
	for i, name := range path {
		for t != nil && t.Kind() == reflect.Pointer {
			t = t.Elem()
		}
		switch {
		case t == nil || t.Kind() == reflect.Interface:
			return nil, nil
		case t.Kind() == reflect.Map:
			t = t.Elem()
		case t.Kind() == reflect.Struct:
			field, ok := fieldByJSON(t, name)
			if !ok && i == 0 && provided[name] {
				return nil, nil
			}
			if own := supplied(name, t); !ok && i == 0 && own != nil {
				field, ok = own, true
			}
			if !ok {
				return nil, missing(fmt.Sprintf("the type %s has no value %q; %s", t, strings.Join(path[:i+1], "."),
					near.List(name, jsonNames(t))))
			}
			t = field
		default:
			return nil, fmt.Errorf("the value %q is %w: a %s has no fields", strings.Join(path[:i+1], "."), ErrMissing,
				t)
		}
	}
	return t, nil
}

// jsonNames returns the names that encoding/json gives the fields of a struct.
func jsonNames(t reflect.Type) (all []string) {
	for _, f := range reflect.VisibleFields(t) {
		tag, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if f.IsExported() && tag != "-" && !f.Anonymous {
			all = append(all, cmp.Or(tag, f.Name))
		}
	}
	return all
}

func fieldByJSON(t reflect.Type, name string) (reflect.Type, bool) {
	for _, f := range reflect.VisibleFields(t) {
		tag, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if f.IsExported() && (tag == name || tag == "" && f.Name == name) {
			return f.Type, true
		}
	}
	return nil, false
}
