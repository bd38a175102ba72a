package survey

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"nimbleharbor/internal/corrections"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/testbound"
)

// TestRemarksAreListed compares docs/remarks.md with the codes that the source gives to remarks.
func TestRemarksAreListed(t *testing.T) {
	t.Parallel()
	used := map[string]bool{}
	constant := regexp.MustCompile(`(?m)^\s*(Code\w+)\s+Code = "([a-z-]+)"$`)
	source, err := os.ReadFile("../stack/codes.go")
	if err != nil {
		t.Fatal(err)
	}
	codes := map[string]string{} // by the constant's name
	for _, m := range constant.FindAllStringSubmatch(string(source), -1) {
		codes[m[1]] = m[2]
	}
	text := func(e ast.Expr) {
		if sel, ok := e.(*ast.SelectorExpr); ok && codes[sel.Sel.Name] != "" {
			used[codes[sel.Sel.Name]] = true
		} else if l, literal := e.(*ast.BasicLit); literal &&
			regexp.MustCompile(`^"[a-z]+(-[a-z]+)+"$`).MatchString(l.Value) {
			t.Errorf("the code %s is written out where a constant belongs", l.Value)
		}
	}
	err = filepath.WalkDir("..", func(file string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") {
			return err
		}
		tree, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(tree, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.CallExpr:
				if sel, ok := n.Fun.(*ast.SelectorExpr); ok &&
					strings.HasPrefix(strings.ToLower(sel.Sel.Name), "remark") {
					for _, arg := range n.Args {
						text(arg)
					}
				}
			case *ast.CompositeLit:
				if sel, ok := n.Type.(*ast.SelectorExpr); ok && sel.Sel.Name == "Remark" {
					for _, e := range n.Elts {
						if kv, ok := e.(*ast.KeyValueExpr); ok &&
							kv.Key.(*ast.Ident).Name == "Code" {
							text(kv.Value)
						}
					}
				}
			}
			return true
		})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	docs, err := os.ReadFile("../../docs/remarks.md")
	if err != nil {
		t.Fatal(err)
	}
	listed := map[string]bool{}
	for _, m := range regexp.MustCompile("(?m)^\\| `([a-z-]+)` \\| (problem|warning|note) "+
		"\\|").FindAllSubmatch(docs, -1) {
		listed[string(m[1])] = true
	}
	for c := range used {
		if !listed[c] {
			t.Errorf("docs/remarks.md does not list %s", c)
		}
	}
	for c := range listed {
		if !used[c] {
			t.Errorf("docs/remarks.md lists %s, which nothing says", c)
		}
	}
}

func TestAgree(t *testing.T) {
	t.Parallel()
	for pair, want := range map[string]bool{
		">=18|^20": true, "^18|^20": false, "~3.11|>=3.10": true, "~3.9|>=3.10": false,
		"<20|>=18": true,
		">=20|<20": false, "*|^1": true, "nonsense|^1": true,
		"^18 || ^20|^20.1": true, ">=8.1|^8.2": true, "17|^17": true, "17|21": false, ">=1.20, " +
			"<1.22|~1.21": true,
	} {
		i := strings.LastIndex(pair, "|")
		if got := agree(pair[:i], pair[i+1:]); got != want {
			t.Errorf("%s: %v", pair, got)
		}
	}
}

// TestHostileTrees surveys what nobody means well by, on a real disk: it must come to an end and
// say what is left out.
func TestHostileTrees(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write := func(name, text string) {
		file := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("web/package.json", `{"scripts": {"start": "node x.js --port 4001"}}`)
	write("a\nb/package.json", `{}`)
	write("bad\xff/package.json", `{}`)
	write("binary/requirements.txt", "\x00\x01\x02flask\x00")
	write("binary/.env", "\x7fELF\x00\x00")
	write("README.md", "\x00\x01")
	write("outside/secret.env", "X=1")
	for link, to := range map[string]string{"loop": ".", "web/up": "..", "escape": "/etc",
		"package.json": "/etc/passwd", "gone": "nowhere"} {
		if err := os.Symlink(to, filepath.Join(dir, link)); err != nil {
			t.Skip("this file system has no symbolic links")
		}
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	s, err := Survey(root.FS(), Options{Root: dir})
	if s.Service("web") == nil {
		t.Errorf("web is not found: %v", err)
	}
	codes := map[stack.Code]bool{}
	for _, r := range s.Remarks {
		codes[r.Code] = true
	}
	if !codes["folder-name-invalid"] || !codes["readme-unreadable"] {
		t.Errorf("said is %v", codes)
	}
	for _, p := range s.Projects {
		if strings.Contains(p.Path, "loop") || strings.Contains(p.Path, "up") ||
			strings.Contains(p.Path, "escape") || p.Path == "." {
			t.Errorf("a link was followed to %s", p.Path)
		}
	}
}

// FuzzReaders gives arbitrary text to every reader under the names that it looks for: none may
// panic or hang.
func FuzzReaders(f *testing.F) {
	for _, seed := range []string{"", "{}", "[]", "a: b\n", "[project]\nname = \"x\"\n",
		"<project/>", "include ':a'",
		"web: run $PORT", "gem 'rails'", "FROM node:20\nEXPOSE 80", "use (\n./a\n)", "x:\n\tcc x\n",
		"# A\n```sh\n$ npm start\n```\n| user | password |\n|-|-|\n| a | b |\n"} {
		f.Add(seed)
	}
	names := slices.Concat(ecosystem.Manifests(),
		[]string{"README.md", "Dockerfile", "Procfile", ".gitignore", ".npmrc",
			"yarn.lock", "pnpm-workspace.yaml", ".tool-versions", "mise.toml", "nuget.config",
			"Cargo.lock", "manage.py", "app.py", "main.go",
			".devcontainer/devcontainer.json", ".github/workflows/x.yml", "compose.yaml",
			".env.example", "seeds.json", corrections.File})
	f.Fuzz(func(t *testing.T, text string) {
		fsys := fstest.MapFS{}
		for _, n := range names {
			fsys[strings.NewReplacer("*", "x").Replace(n)] = &fstest.MapFile{Data: []byte(text)}
		}
		testbound.Within(t, 256, 10*time.Second, func() {
			s, err := Survey(fsys, Options{Root: "/w", ReadCode: true})
			if err != nil {
				for _, fault := range stack.AllFaults(err) {
					if fault.Code == "unexpected" {
						t.Errorf("an error that tells no place: %v", fault)
					}
				}
			}
			_ = Draft(s)
		})
	})
}
