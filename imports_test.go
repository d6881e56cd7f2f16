package illumicode_test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

const module = "github.com/illumicode/illumicode"

// floors orders the rooms: a package may import those of lower floors, and its siblings within its own room. Below
// internal every folder is a room. Rooms that are not listed fail the test.
var floors = map[string]int{
	"internal/ascii": 0, "challenge": 0, "event": 0, "limit": 0, "retry": 0, "route": 0, "message": 1, "delivery": 1,
	"internal/core": 2,
	"token":         3, "letter": 3, "letters": 4, "dkim": 3, "provider": 3,
	"internal/store": 3, "internal/storetest": 4, "store": 4, "internal/limits": 4, "internal/outbox": 4,
	"internal/flow":   5,
	"internal/bounce": 6, "internal/composer": 6,
	"":     7,
	"desk": 8, "feedback": 8, "metrics": 8, "web": 9, "illumicodetest": 9,
	"inbox": 0, "internal/standin": 0, "internal/strange": 0, "internal/dial": 0, "internal/text": 0,
	"internal/words": 0, "internal/proxy": 0, "internal/pgtest": 1, "internal/oldrows": 0,
	"internal/serving": 0,
	"internal/check":   4, "internal/figure": 4, "internal/config": 10,
	"demo": 11, "cmd": 12, "examples": 12, "bench": 12, "chaos": 12, "scripts": 12, "explore": 12,
}

// storeFloors are those of the rooms inside the store, which point one way as well.
var storeFloors = map[string]int{"/db": 0, "/feedback": 1, "/limits": 1, "/addresses": 1, "/challenges": 2, "/queue": 3,
	"": 4}

// values are the public rooms of plain values that the core computes with.
var values = []string{"challenge", "event", "limit", "message", "retry", "route", "internal/ascii", "internal/strange"}

func room(pkg string) string {
	parts := strings.Split(strings.TrimPrefix(strings.TrimPrefix(pkg, module), "/"), "/")
	if parts[0] == "internal" && len(parts) > 1 {
		return parts[0] + "/" + parts[1]
	}
	return parts[0]
}

type listed struct {
	ImportPath string
	Imports    []string
	Deps       []string
}

func list(t *testing.T) []listed {
	t.Helper()
	out, err := exec.CommandContext(t.Context(), "go", "list", "-json=ImportPath,Imports,Deps", "./...").Output()
	if err != nil {
		t.Fatalf("go list: %v", err)
	}
	var all []listed
	for dec := json.NewDecoder(bytes.NewReader(out)); dec.More(); {
		var p listed
		if err := dec.Decode(&p); err != nil {
			t.Fatal(err)
		}
		all = append(all, p)
	}
	if len(all) < 20 {
		t.Fatalf("only %d packages listed", len(all))
	}
	return all
}

// Imports point one way, and the core and the root package stay free of what they must not need.
func TestImports(t *testing.T) {
	for _, p := range list(t) {
		from := room(p.ImportPath)
		floor, known := floors[from]
		if !known {
			t.Errorf("%s is in a room that floors does not list", p.ImportPath)
		}
		for _, imp := range p.Imports {
			if strings.HasPrefix(imp, module) && (room(imp) != from && floors[room(imp)] >= floor) {
				t.Errorf("%s imports %s, which is not below it", p.ImportPath, imp)
			}
			if inside, ok := strings.CutPrefix(imp, module+"/internal/store"); ok && from == "internal/store" &&
				storeFloors[inside] >= storeFloors[strings.TrimPrefix(p.ImportPath, module+"/internal/store")] {
				t.Errorf("%s imports %s, which is not below it", p.ImportPath, imp)
			}
			if strings.HasSuffix(p.ImportPath, "/explore/model") && strings.HasPrefix(imp, module) {
				t.Errorf("%s imports %s: the model shares nothing with what it is compared with", p.ImportPath, imp)
			}
			if from == "internal/core" && !coreMay(imp) {
				t.Errorf("%s imports %s: the core computes, and touches neither network, files, clock nor database",
					p.ImportPath, imp)
			}
		}
		if p.ImportPath != module {
			continue
		}
		for _, dep := range p.Deps {
			for _, banned := range []string{"modernc.org/sqlite", "jackc/pgx", "mattn/go-sqlite3", "prometheus/",
				"spf13/", "gonum.org/", "chromedp/", "emersion/"} {
				if strings.Contains(dep, banned) {
					t.Errorf("the root package depends on %s", dep)
				}
			}
		}
	}
}

// coreMay reports whether a package of the core may import imp.
func coreMay(imp string) bool {
	if strings.HasPrefix(imp, module+"/internal/core/") || slices.Contains(values, room(imp)) ||
		strings.HasPrefix(imp, "golang.org/x/text/") ||
		// these two only parse
		imp == "golang.org/x/net/idna" || imp == "golang.org/x/net/html" || imp == "net/url" || imp == "net/netip" {
		return true
	}
	if first, _, _ := strings.Cut(imp, "/"); strings.Contains(first, ".") {
		return false // not the standard library
	}
	for _, banned := range []string{"net", "os", "database/sql", "log", "syscall", "unsafe"} {
		if imp == banned || strings.HasPrefix(imp, banned+"/") {
			return false
		}
	}
	return true
}

// No function of the core reads a clock or starts a goroutine.
func TestCoreIsPure(t *testing.T) {
	files := 0
	err := filepath.WalkDir("internal/core", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		files++
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, path, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(f, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.GoStmt:
				t.Errorf("%s: a goroutine in the core", set.Position(n.Pos()))
			case *ast.SelectorExpr:
				x, ok := n.X.(*ast.Ident)
				if ok && x.Name == "time" &&
					strings.Contains(" Now Since Until Sleep After Tick NewTimer NewTicker AfterFunc ",
						" "+n.Sel.Name+" ") {
					t.Errorf("%s: time.%s in the core; the instant is an argument", set.Position(n.Pos()), n.Sel.Name)
				}
			}
			return true
		})
		return nil
	})
	if err != nil || files < 10 {
		t.Fatalf("%d files read, %v", files, err)
	}
}

// Every promise of docs/threats.md names a test that exists.
func TestThreatsNameTests(t *testing.T) {
	out, err := exec.CommandContext(t.Context(), "git", "grep", "--untracked", "-hoE", `^func (Test|Fuzz)\w+`, "--",
		"*_test.go").Output()
	if err != nil {
		t.Fatalf("git grep: %v", err)
	}
	tests := make(map[string]bool)
	for s := bufio.NewScanner(bytes.NewReader(out)); s.Scan(); {
		tests[strings.TrimPrefix(s.Text(), "func ")] = true
	}
	promises := 0
	for line := range strings.SplitSeq(readFile(t, "docs/threats.md"), "\n") {
		cells := strings.Split(line, "|")
		if len(cells) < 4 || !strings.Contains(cells[2], "`") {
			continue
		}
		promises++
		for i, name := range strings.Split(cells[2], "`") {
			if i%2 == 1 && !tests[name] {
				t.Errorf("docs/threats.md names %s, which is no test", name)
			}
		}
	}
	if promises < 20 {
		t.Errorf("only %d promises found in docs/threats.md", promises)
	}
}
