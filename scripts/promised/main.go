// Command promised prints every name that the module promises to applications, one in a line, and its type. With
// -check FILE it compares them with a file instead, and fails if they differ or if a promised name has a type that
// applications cannot name.
package main

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"go/importer"
	"go/token"
	"go/types"
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"
)

const module = "github.com/illumicode/illumicode"

// apart are the folders whose packages applications do not import.
var apart = []string{"bench", "chaos", "explore", "cmd", "demo", "examples", "scripts"}

func main() {
	check := flag.String("check", "", "compare with this file")
	flag.Parse()
	if err := run(*check, os.Stdout); err != nil {
		fmt.Fprintln(os.Stderr, "promised:", err)
		os.Exit(1)
	}
}

func run(check string, out io.Writer) error {
	packages, err := promised()
	if err != nil {
		return err
	}
	var l lister
	for _, p := range packages {
		l.list(p)
	}
	text := strings.Join(l.lines, "\n") + "\n"
	if check == "" {
		_, err := io.WriteString(out, text)
		return err
	}
	recorded, err := os.ReadFile(check)
	if err != nil {
		return err
	}
	if differ := difference(strings.Split(string(recorded), "\n"), l.lines); len(differ) > 0 {
		return fmt.Errorf("what is promised is not what %s says; `make promises` writes it anew:\n%s", check,
			strings.Join(differ, "\n"))
	}
	if len(l.leaks) > 0 {
		return fmt.Errorf("applications cannot name:\n%s", strings.Join(l.leaks, "\n"))
	}
	return nil
}

// difference returns what one list has and the other lacks.
func difference(recorded, now []string) (all []string) {
	for _, line := range recorded {
		if line != "" && !slices.Contains(now, line) {
			all = append(all, "- "+line)
		}
	}
	for _, line := range now {
		if !slices.Contains(recorded, line) {
			all = append(all, "+ "+line)
		}
	}
	return all
}

// promised returns the packages that applications import, in order of their paths.
func promised() ([]*types.Package, error) {
	out, err := exec.Command("go", "list", "-export", "-deps", "-json=ImportPath,Export", "./...").Output()
	if err != nil {
		return nil, fmt.Errorf("go list: %w", err)
	}
	exports := make(map[string]string)
	var ours []string
	for dec := json.NewDecoder(bytes.NewReader(out)); dec.More(); {
		var p struct{ ImportPath, Export string }
		if err := dec.Decode(&p); err != nil {
			return nil, err
		}
		exports[p.ImportPath] = p.Export
		if (p.ImportPath+"/" == module+"/" || strings.HasPrefix(p.ImportPath, module+"/")) && imported(p.ImportPath) {
			ours = append(ours, p.ImportPath)
		}
	}
	slices.Sort(ours)
	read := importer.ForCompiler(token.NewFileSet(), "gc", func(path string) (io.ReadCloser, error) {
		return os.Open(exports[path])
	})
	packages := make([]*types.Package, len(ours))
	for i, path := range ours {
		if packages[i], err = read.Import(path); err != nil {
			return nil, err
		}
	}
	return packages, nil
}

// imported reports whether applications import a package of ours.
func imported(path string) bool {
	parts := strings.Split(strings.TrimPrefix(strings.TrimPrefix(path, module), "/"), "/")
	return !slices.Contains(parts, "internal") && !slices.Contains(apart, parts[0])
}

// short returns a package as the lines name it.
func short(p *types.Package) string {
	if p.Path() == module {
		return "illumicode"
	}
	return strings.TrimPrefix(p.Path(), module+"/")
}
