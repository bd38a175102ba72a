package cli_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"nimbleharbor/internal/expr"
)

// layers lists the packages from the words at the bottom to the command line at the top: imports go downwards.
var layers = [][]string{
	{"stack", "expr", "shell", "archive", "spelling"},
	{"diagnose", "protocol", "sockets", "testrun"},
	{"address", "dotenv", "ecosystem", "gitrepo", "order", "engine", "engine/standin/inside", "casefile", "testport",
		"testbound"},
	{"compose", "run", "engine/standin", "settings", "timeline"},
	{"workspace", "reading"},
	{"survey", "logs", "memory"},
	{"needs", "fill", "locker", "consent"},
	{"launch"},
	{"supervise"},
	{"session"},
	{"view"},
	{"demo"},
	{"cli"},
}

// shows are the packages that may speak to a person.
var shows = []string{"view", "cli", "demo"}

// forbidden are the libraries of the interface, which the core must not know.
var forbidden = []string{"github.com/spf13/", "golang.org/x/term", "github.com/mattn/go-runewidth", "charm.land/",
	"github.com/charmbracelet/"}

// TestArchitecture holds the packages to their structure: no import upwards, no interface library and
// no printing in the core.
func TestArchitecture(t *testing.T) {
	t.Parallel()
	layer := map[string]int{}
	for i, names := range layers {
		for _, n := range names {
			layer[n] = i
		}
	}
	seen := map[string]bool{}
	err := filepath.WalkDir("..", func(file string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() && d.Name() == "testdata" {
			if d != nil && d.IsDir() && err == nil {
				return filepath.SkipDir
			}
			return err
		}
		if !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") {
			return nil
		}
		pkg := filepath.ToSlash(filepath.Dir(strings.TrimPrefix(filepath.ToSlash(file), "../")))
		seen[pkg] = true
		own, known := layer[pkg]
		if !known {
			t.Errorf("the package %s has no place in the structure", pkg)
			return nil
		}
		tree, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
		if err != nil {
			return err
		}
		core := !slices.Contains(shows, pkg)
		for _, imp := range tree.Imports {
			path, _ := strconv.Unquote(imp.Path.Value)
			if other, ours := strings.CutPrefix(path, "nimbleharbor/internal/"); ours && layer[other] >= own {
				t.Errorf("%s imports %s, which does not lie below it", file, other)
			}
			for _, f := range forbidden {
				if core && strings.HasPrefix(path, f) {
					t.Errorf("%s is core and imports %s", file, path)
				}
			}
		}
		if core {
			ast.Inspect(tree, func(n ast.Node) bool {
				sel, ok := n.(*ast.SelectorExpr)
				if !ok {
					return true
				}
				if id, ok := sel.X.(*ast.Ident); ok &&
					(id.Name == "fmt" && (sel.Sel.Name == "Print" || sel.Sel.Name == "Printf" ||
						sel.Sel.Name == "Println") || id.Name == "os" &&
						(sel.Sel.Name == "Stdout" || sel.Sel.Name == "Stderr")) {
					t.Errorf("%s is core and uses %s.%s", file, id.Name, sel.Sel.Name)
				}
				return true
			})
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for name := range layer {
		if !seen[name] {
			t.Errorf("the structure names the package %s, which does not exist", name)
		}
	}
}

// TestExpressionsAreRight makes every regular expression of the program ready: they are made late otherwise.
func TestExpressionsAreRight(t *testing.T) {
	t.Parallel()
	if n := expr.Check(); n < 100 {
		t.Errorf("only %d expressions are known", n)
	}
}
