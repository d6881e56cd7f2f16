// Command sizes fails, and says where, if a line of Go has more than 120 columns (a tab counts as four), or a function
// outside tests has more than 60 lines or five arguments.
package main

import (
	"bytes"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"unicode/utf8"
)

const (
	mostColumns   = 120
	mostLines     = 60
	mostArguments = 5
)

func main() {
	faults, err := check(".")
	for _, fault := range faults {
		fmt.Fprintln(os.Stderr, fault)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "sizes:", err)
	}
	if err != nil || len(faults) > 0 {
		os.Exit(1)
	}
}

func check(root string) (faults []string, err error) {
	err = filepath.WalkDir(root, func(path string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") {
			return err
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		faults = append(faults, columns(path, text)...)
		if strings.HasSuffix(path, "_test.go") {
			return nil
		}
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, path, text, parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		faults = append(faults, functions(set, f)...)
		return nil
	})
	return faults, err
}

func columns(path string, text []byte) (faults []string) {
	number := 0
	for line := range bytes.Lines(text) {
		number++
		line = bytes.TrimSuffix(line, []byte("\n"))
		if n := utf8.RuneCount(line) + 3*bytes.Count(line, []byte("\t")); n > mostColumns {
			faults = append(faults, fmt.Sprintf("%s:%d: %d columns; at most %d", path, number, n, mostColumns))
		}
	}
	return faults
}

func functions(set *token.FileSet, f *ast.File) (faults []string) {
	ast.Inspect(f, func(n ast.Node) bool {
		var kind *ast.FuncType
		name := "a function"
		switch n := n.(type) {
		case *ast.FuncDecl:
			kind, name = n.Type, n.Name.Name
		case *ast.FuncLit:
			kind = n.Type
		default:
			return true
		}
		from, to := set.Position(n.Pos()), set.Position(n.End())
		if lines := to.Line - from.Line + 1; lines > mostLines {
			faults = append(faults, fmt.Sprintf("%s: %s has %d lines; at most %d", from, name, lines, mostLines))
		}
		if args := kind.Params.NumFields(); args > mostArguments {
			faults = append(faults, fmt.Sprintf("%s: %s has %d arguments; at most %d", from, name, args, mostArguments))
		}
		return true
	})
	return faults
}
