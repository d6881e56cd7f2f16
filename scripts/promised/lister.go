package main

import (
	"fmt"
	"go/types"
	"slices"
	"strings"
)

// A lister collects lines, and the names whose types applications cannot name.
type lister struct{ lines, leaks []string }

func (l *lister) list(p *types.Package) {
	for _, name := range p.Scope().Names() {
		if o := p.Scope().Lookup(name); o.Exported() {
			l.object(p, o)
		}
	}
}

func (l *lister) add(name, kind string, t types.Type) {
	l.lines = append(l.lines, name+" "+kind+types.TypeString(t, short))
	if inner := l.internal(t, make(map[types.Type]bool)); inner != "" {
		l.leaks = append(l.leaks, name+" has "+inner)
	}
}

func (l *lister) object(p *types.Package, o types.Object) {
	name := short(p) + "." + o.Name()
	switch o := o.(type) {
	case *types.Const:
		l.add(name, "const ", o.Type())
		l.lines[len(l.lines)-1] += " = " + o.Val().ExactString()
	case *types.Var:
		l.add(name, "var ", o.Type())
	case *types.Func:
		l.add(name, "", o.Type())
	case *types.TypeName:
		t := types.Unalias(o.Type())
		l.lines = append(l.lines, name+" type "+kind(t))
		l.members(name, t)
	}
}

// kind returns what a type is, in a word if it has members.
func kind(t types.Type) string {
	switch u := t.Underlying().(type) {
	case *types.Struct:
		return "struct"
	case *types.Interface:
		return "interface"
	default:
		return types.TypeString(u, short)
	}
}

// members lists fields and methods, those of embedded types included.
func (l *lister) members(name string, t types.Type) {
	if s, ok := t.Underlying().(*types.Struct); ok {
		l.fields(name, s)
	} else if _, ok := t.Underlying().(*types.Interface); !ok {
		if inner := l.internal(t.Underlying(), make(map[types.Type]bool)); inner != "" {
			l.leaks = append(l.leaks, name+" has "+inner)
		}
	}
	of := t
	if _, ok := t.Underlying().(*types.Interface); !ok {
		of = types.NewPointer(t)
	}
	set := types.NewMethodSet(of)
	for i := range set.Len() {
		if m := set.At(i).Obj(); m.Exported() {
			l.add(name+"."+m.Name(), "", m.Type())
		}
	}
}

func (l *lister) fields(name string, s *types.Struct) {
	for f := range s.Fields() {
		switch inner, embedded := f.Type().Underlying().(*types.Struct); {
		case embedded && f.Embedded():
			l.fields(name, inner)
		case f.Exported():
			l.add(name+"."+f.Name(), "", f.Type())
		}
	}
}

// internal returns the first type in t that applications cannot name.
func (l *lister) internal(t types.Type, seen map[types.Type]bool) string {
	if seen[t] {
		return ""
	}
	seen[t] = true
	first := func(all ...types.Type) string {
		for _, one := range all {
			if inner := l.internal(one, seen); inner != "" {
				return inner
			}
		}
		return ""
	}
	switch t := types.Unalias(t).(type) {
	case *types.Named:
		if p := t.Obj().Pkg(); p != nil && slices.Contains(strings.Split(p.Path(), "/"), "internal") &&
			strings.HasPrefix(p.Path(), module) {
			return fmt.Sprintf("%s.%s", short(p), t.Obj().Name())
		}
		return first(slices.Collect(t.TypeArgs().Types())...)
	case *types.Signature:
		return first(t.Params(), t.Results())
	case *types.Tuple:
		for v := range t.Variables() {
			if inner := l.internal(v.Type(), seen); inner != "" {
				return inner
			}
		}
	case *types.Map:
		return first(t.Key(), t.Elem())
	case interface{ Elem() types.Type }: // pointer, slice, array, channel
		return first(t.Elem())
	}
	return ""
}
