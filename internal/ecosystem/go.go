package ecosystem

import (
	"bufio"
	"bytes"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

var (
	goListens = expr.New(
		`(?:ListenAndServe\(|Addr:\s*|Run\(|Start\(|[aA]ddr\s*:?=\s*|Listen\("tcp",\s*|` +
			`[pP]ort\s*:?=\s*)"[^":]*:?(\d{2,5})"`)
	goMain     = expr.New(`(?m)^package main\b`)
	goServes   = expr.New(`"net/http"|net\.Listen\(`)
	goTestFile = expr.New(`_test\.go$`)
)

// golang is Go, whose program is its package manager too.
var golang = &Ecosystem{
	Name:      "go",
	Managers:  []*Manager{{Name: "go", Locks: []string{"go.sum", "go.work.sum"}}},
	Manifests: []string{"go.mod", "go.work"},
	Made:      []string{"vendor"},
	Endings:   []string{".go"},
	Reads:     readsBy(false, `"`+envName+`"()`, "os.Getenv(", "os.LookupEnv("),
	Given:     []string{"GOPATH"},
	Tools: []Tool{{Name: "go", Ask: []string{"version"}, Called: []string{"golang", "go"}, Images: []string{"golang"},
		Packages: map[string]string{"apt": "golang", "dnf": "golang", "brew": "go", "apk": "go"}}},
	Verbs: []Verb{
		{SetsUp, []string{"go install"}},
		{stack.Install, []string{"go mod|get"}},
		{stack.Test, []string{"go test"}},
		{Serves, []string{"go run"}},
		{stack.Build, []string{"go build"}},
	},
}

func itoa(n int) string { return strconv.Itoa(n) }

func readGo(f Folder) (*Finding, error) {
	manifest := f.first("go.work", "go.mod")
	if manifest == "" {
		return nil, nil
	}
	data, err := f.Read(manifest)
	if err != nil {
		return nil, err
	}
	out := f.finding("go", "go", manifest, manifest)
	p := &out.Project
	constraint, at, requires := "*", f.At(manifest, 1), false
	modules := map[string]stack.Place{}
	block := ""
	lines := bufio.NewScanner(bytes.NewReader(data))
	lines.Buffer(nil, maxManifest)
	for n := 1; lines.Scan(); n++ {
		line, _, _ := strings.Cut(lines.Text(), "//")
		fields := strings.Fields(line)
		if len(fields) == 0 {
			continue
		}
		if block != "" && fields[0] != ")" {
			fields = append([]string{block}, fields...)
		}
		switch {
		case fields[0] == ")":
			block = ""
		case len(fields) == 2 && fields[1] == "(":
			block = fields[0]
		case len(fields) == 2 && fields[0] == "module":
			p.Name = strings.Trim(fields[1], `"`)
		case len(fields) == 2 && fields[0] == "go":
			constraint, at = ">="+fields[1], f.At(manifest, n)
		case len(fields) == 2 && fields[0] == "toolchain":
			constraint, at = ">="+strings.TrimPrefix(fields[1], "go"), f.At(manifest, n)
		case len(fields) > 1 && fields[0] == "use":
			if dir := path.Clean(fields[1]); dir != "." {
				out.Members = append(out.Members, dir)
			}
		case len(fields) > 1 && fields[0] == "require":
			requires = true
			modules[fields[1]] = f.At(manifest, n)
		}
	}
	if p.Name == "" && manifest == "go.mod" {
		return nil, &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeManifestSyntax, At: f.At(manifest, 1),
			Text: "the file has no module line", Remedy: "Put module NAME on its first line."}
	}
	if out.Within == nil || constraint != "*" {
		out.wants("go", constraint, at)
	}
	if at, ok := modules["github.com/mattn/go-sqlite3"]; ok {
		p.Compiles = append(p.Compiles, stack.Compile{Package: "github.com/mattn/go-sqlite3", Takes: "gcc",
			Certain: true, At: at})
	}
	if manifest == "go.work" || out.Within == nil && requires {
		s := f.step(stack.Install, f.At(manifest, 1), "go", "mod", "download")
		s.Inputs = f.in(manifest, "go.sum", "go.work.sum")
		for _, m := range out.Members {
			s.Inputs = append(s.Inputs, f.folders(m+"/go.mod", m+"/go.sum")...)
		}
		out.step(s)
	}
	if at, ok := modules["github.com/pressly/goose/v3"]; ok {
		if folder := f.first("migrations", "db/migrations", "sql/migrations"); folder != "" &&
			!strings.Contains(f.goMainText(), "goose") {
			s := f.step(stack.Migrate, at, "go", "run", "github.com/pressly/goose/v3/cmd/goose", "-dir", folder, "up")
			s.Inputs = f.folders(folder)
			out.step(s)
		}
	}
	if dir, main := goServer(f); dir != "" {
		port, at := f.PortSetting()
		if port == 0 {
			port, at = f.portByCode(goListens, main...)
		}
		p.Serve = &stack.Serve{Command: []string{"go", "run", dir}, Ports: httpPort(port, at), At: f.At(main[0], 1),
			PortBy: stack.PortBy{Env: "PORT"}}
	}
	if manifest == "go.mod" {
		out.step(f.step(stack.Test, f.At(manifest, 1), "go", "test", "./..."))
	}
	return out, nil
}

// goMainText is the text of the module's own main files.
func (f Folder) goMainText() string {
	_, files := goServer(f)
	var out strings.Builder
	for _, name := range files {
		out.WriteString(f.text(name))
	}
	return out.String()
}

// goServer finds the main package that serves: the module's root, or the first below cmd that opens a port.
func goServer(f Folder) (dir string, files []string) {
	dirs := []string{"."}
	if entries, err := fs.ReadDir(f.FS, path.Join(f.Path, "cmd")); err == nil {
		for _, e := range entries {
			if e.IsDir() {
				dirs = append(dirs, "cmd/"+e.Name())
			}
		}
	}
	slices.Sort(dirs)
	for _, d := range dirs {
		entries, err := fs.ReadDir(f.FS, path.Join(f.Path, d))
		if err != nil {
			continue
		}
		var sources []string
		isMain, serves := false, false
		for _, e := range entries {
			if !strings.HasSuffix(e.Name(), ".go") || goTestFile.MatchString(e.Name()) {
				continue
			}
			name := path.Join(d, e.Name())
			data, err := f.Read(name)
			if err != nil {
				continue
			}
			sources = append(sources, name)
			isMain = isMain || goMain.Match(data)
			serves = serves || goServes.Match(data)
		}
		if isMain && serves {
			if d != "." {
				d = "./" + d
			}
			return d, sources
		}
	}
	return "", nil
}
