// Measures prints how the code stands against what docs/dev asks of it: methods of a type, branches
// and length of functions, width of lines, size of packages, share of comments. Run it at the top
// of the repository:
//
//	go run ./docs/dev/measures
//
// It says what is there and judges nothing: a number follows from the rooms, and is not reached by
// cutting functions in halves.
package main

import (
	"cmp"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// What docs/dev asks for.
const (
	mostMethods  = 40
	mostBranches = 15
	farBranches  = 20
	mostLines    = 80
	mostColumns  = 100
	mostPackage  = 6000
)

// function is one that is long, or has many branches.
type function struct {
	name            string
	branches, lines int
}

type measures struct {
	methods            map[string]int // by package and type
	packages           map[string]int // lines without tests
	functions          []function
	lines, tests, wide int
	comments           int
}

func main() {
	m := &measures{methods: map[string]int{}, packages: map[string]int{}}
	for _, top := range []string{"cmd", "internal"} {
		if err := filepath.WalkDir(top, m.visit); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
	m.print()
}

func (m *measures) visit(file string, d fs.DirEntry, err error) error {
	switch {
	case err != nil:
		return err
	case d.IsDir() && d.Name() == "testdata":
		return filepath.SkipDir
	case filepath.Ext(file) != ".go":
		return nil
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	lines := strings.Split(strings.TrimSuffix(string(data), "\n"), "\n")
	for _, l := range lines {
		if columns(l) > mostColumns {
			m.wide++
		}
	}
	if strings.HasSuffix(file, "_test.go") {
		m.tests += len(lines)
		return nil
	}
	m.lines += len(lines)
	dir := filepath.ToSlash(filepath.Dir(file))
	m.packages[dir] += len(lines)
	set := token.NewFileSet()
	tree, err := parser.ParseFile(set, file, data, parser.ParseComments)
	if err != nil {
		return err
	}
	for _, c := range tree.Comments {
		m.comments += 1 + set.Position(c.End()).Line - set.Position(c.Pos()).Line
	}
	for _, decl := range tree.Decls {
		f, ok := decl.(*ast.FuncDecl)
		if !ok {
			continue
		}
		name := f.Name.Name
		if f.Recv != nil {
			of := typeName(f.Recv.List[0].Type)
			m.methods[dir+"."+of]++
			name = of + "." + name
		}
		m.functions = append(m.functions, function{dir + "." + name, branches(f),
			1 + set.Position(f.End()).Line - set.Position(f.Pos()).Line})
	}
	return nil
}

// columns is the width of a line, a tab counting four.
func columns(line string) (n int) {
	for _, r := range line {
		if n++; r == '\t' {
			n += 3 - (n-1)%4
		}
	}
	return n
}

func typeName(e ast.Expr) string {
	switch e := e.(type) {
	case *ast.StarExpr:
		return typeName(e.X)
	case *ast.IndexExpr:
		return typeName(e.X)
	case *ast.Ident:
		return e.Name
	}
	return "?"
}

// branches counts the ways through a function beyond the first: conditions, cases, loops, and each
// && and ||.
func branches(f *ast.FuncDecl) (n int) {
	if f.Body == nil {
		return 0
	}
	ast.Inspect(f.Body, func(node ast.Node) bool {
		switch node := node.(type) {
		case *ast.IfStmt, *ast.ForStmt, *ast.RangeStmt:
			n++
		case *ast.CaseClause:
			if node.List != nil {
				n++
			}
		case *ast.CommClause:
			if node.Comm != nil {
				n++
			}
		case *ast.BinaryExpr:
			if node.Op == token.LAND || node.Op == token.LOR {
				n++
			}
		case *ast.FuncLit:
			return true
		}
		return true
	})
	return n
}

func (m *measures) print() {
	fmt.Printf("lines without tests %d, of tests %d (%d %% of all), of comments %d (%d %%)\n",
		m.lines, m.tests, 100*m.tests/(m.lines+m.tests), m.comments, 100*m.comments/m.lines)
	fmt.Printf("lines of more than %d columns: %d\n", mostColumns, m.wide)
	over := func(most int, of func(function) int) (out []function) {
		for _, f := range m.functions {
			if of(f) > most {
				out = append(out, f)
			}
		}
		slices.SortFunc(out, func(a, b function) int { return cmp.Compare(of(b), of(a)) })
		return out
	}
	byBranches := func(f function) int { return f.branches }
	far := over(farBranches, byBranches)
	fmt.Printf("functions: %d; of more than %d branches %d, of more than %d %d, of more than %d "+
		"lines %d\n", len(m.functions), mostBranches, len(over(mostBranches,
		byBranches)), farBranches, len(far), mostLines,
		len(over(mostLines, func(f function) int { return f.lines })))
	for _, f := range far {
		fmt.Printf("  %3d branches, %3d lines  %s\n", f.branches, f.lines, f.name)
	}
	for _, name := range slices.Sorted(maps.Keys(m.methods)) {
		if n := m.methods[name]; n > mostMethods {
			fmt.Printf("%d methods  %s\n", n, name)
		}
	}
	for _, dir := range slices.Sorted(maps.Keys(m.packages)) {
		if n := m.packages[dir]; n > mostPackage {
			fmt.Printf("%d lines  %s\n", n, dir)
		}
	}
}
