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

// layers lists the packages from the words at the bottom to the command line at the top: imports go
// downwards.
var layers = [][]string{
	{"stack", "expr", "shell", "reading", "spelling", "beside"},
	{"archive", "claim", "rule", "dockerfile", "process", "value"},
	{"diagnose", "protocol", "signin", "sockets", "testrun"},
	{"address", "dotenv", "ecosystem", "gitrepo", "order", "engine", "engine/standin/inside",
		"casefile", "testport", "testbound"},
	{"command", "compose", "run", "engine/standin", "readme", "settings", "timeline"},
	{"workspace", "tree", "corrections", "hide"},
	{"code"},
	{"facts"},
	{"demand"},
	{"connect"},
	{"ports"},
	{"survey", "logs", "memory"},
	{"needs", "fill", "locker", "consent"},
	{"plan"},
	{"engines", "record"},
	{"judge", "keeper", "mend"},
	{"execute"},
	{"steward", "enter"},
	{"session"},
	{"view"},
	{"view/picture"},
	{"view/board", "view/report"},
	{"demo"},
	{"cli"},
}

// shows are the packages that may speak to a person.
var shows = []string{"view", "view/picture", "view/board", "view/report", "cli", "demo"}

// forbidden are the libraries of the interface, which the core must not know.
var forbidden = []string{"github.com/spf13/", "golang.org/x/term", "github.com/mattn/go-runewidth",
	"charm.land/", "github.com/charmbracelet/"}

// TestArchitecture holds the packages to their structure: no import upwards, no interface library
// and no printing in the core.
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
			if other, ours := strings.CutPrefix(path, "nimbleharbor/internal/"); ours &&
				layer[other] >= own {
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

// TestExpressionsAreRight makes every regular expression of the program ready: they are made late
// otherwise.
func TestExpressionsAreRight(t *testing.T) {
	t.Parallel()
	if n := expr.Check(); n < 100 {
		t.Errorf("only %d expressions are known", n)
	}
}

// opens are the files that may open others by the system's own calls, and why. All else goes
// through reading: a checkout, or what it launched, can have put a pipe, a device or something
// without end at any name.
var opens = map[string]string{
	"casefile":                "cases of tests",
	"demo":                    "its own actors and files",
	"engine/testdata/tiny":    "a program of tests",
	"engine/standin":          "its own images",
	"reading":                 "what the others go through",
	"sockets/inside.go":       "the process table",
	"steward/loads_linux.go":  "the process table",
	"process/tree_linux.go":   "the process table",
	"process/process_unix.go": "the process table",
	"process/marks.go":        "the process table",
	"engines/inside.go":       "the process table",
	"needs/machine.go":        "what version managers keep in the person's home",
	"needs/facts.go":          "the process table",
	"cli/diagnose.go":         "a log that a person names, which may be a pipe",
	"cli/fill.go":             "answers that a person names, which may be a pipe",
	"cli/locker.go":           "a pack or a key that a person names, which may be a pipe",
	"workspace/state.go":      "makes files that are new",
	"archive/archive.go":      "what it has just unpacked itself",
}

// TestNothingElseOpens holds the program to the one way to open a file.
func TestNothingElseOpens(t *testing.T) {
	t.Parallel()
	used := map[string]bool{}
	err := filepath.WalkDir("..", func(file string, d os.DirEntry, err error) error {
		name := strings.TrimPrefix(filepath.ToSlash(file), "../")
		if err != nil || !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") {
			return err
		}
		tree, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(tree, func(n ast.Node) bool {
			sel, ok := n.(*ast.SelectorExpr)
			if !ok {
				return true
			}
			id, _ := sel.X.(*ast.Ident)
			of := ""
			if id != nil {
				of = id.Name
			}
			call := of + "." + sel.Sel.Name
			switch {
			case call == "os.Open", call == "os.OpenFile", call == "os.ReadFile",
				call == "os.DirFS",
				call == "root.FS", call == "top.FS":
			case sel.Sel.Name == "OpenFile", sel.Sel.Name == "ReadFile" &&
				slices.Contains([]string{"top", "root"}, of):
			default:
				return true
			}
			for allowed := range opens {
				if name == allowed || strings.HasPrefix(name, allowed+"/") {
					used[allowed] = true
					return true
				}
			}
			t.Errorf("%s: %s opens a file by itself; see the package reading", file, call)
			return true
		})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for name := range opens {
		if !used[name] {
			t.Errorf("%s may open files by itself, and doesn't", name)
		}
	}
}
