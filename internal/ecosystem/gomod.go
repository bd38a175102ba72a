package ecosystem

import (
	"bufio"
	"bytes"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/stack"
)

var (
	goListens  = regexp.MustCompile(`(?:ListenAndServe\(|Addr:\s*|[aA]ddr\s*:?=\s*|Listen\("tcp",\s*|[pP]ort\s*:?=\s*)"[^":]*:?(\d{2,5})"`)
	goMain     = regexp.MustCompile(`(?m)^package main\b`)
	goServes   = regexp.MustCompile(`"net/http"|net\.Listen\(`)
	goTestFile = regexp.MustCompile(`_test\.go$`)
)

func itoa(n int) string { return strconv.Itoa(n) }

func readGo(f Folder) (*Finding, error) {
	const manifest = "go.mod"
	if !f.Has(manifest) {
		return nil, nil
	}
	data, err := f.Read(manifest)
	if err != nil {
		return nil, err
	}
	out := &Finding{Project: stack.Project{Path: f.Path, Ecosystem: "go", Manager: "go",
		Evidence: []stack.Evidence{{File: f.At(manifest, 0).File, Line: 1, Says: "go.mod"}}}}
	p := &out.Project
	constraint, at, requires := "*", f.At(manifest, 1), false
	lines := bufio.NewScanner(bytes.NewReader(data))
	for n := 1; lines.Scan(); n++ {
		fields := strings.Fields(lines.Text())
		switch {
		case len(fields) == 2 && fields[0] == "module":
			p.Name = fields[1]
		case len(fields) == 2 && fields[0] == "go":
			constraint, at = ">="+fields[1], f.At(manifest, n)
		case len(fields) > 1 && fields[0] == "require":
			requires = true
		}
	}
	if p.Name == "" {
		return nil, &stack.Fault{Kind: stack.Unreadable, Code: "manifest-syntax", At: f.At(manifest, 1), Text: "the file has no module line", Remedy: "Put module NAME on its first line."}
	}
	p.Runtimes = []stack.Runtime{{Tool: "go", Constraint: constraint, At: at}}
	if requires {
		s := f.step(stack.Install, f.At(manifest, 1), "go", "mod", "download")
		s.Inputs = f.in(manifest, "go.sum")
		p.Steps = append(p.Steps, s)
	}
	if dir, main := goServer(f); dir != "" {
		port, at := f.portSetting()
		if port == 0 {
			port, at = f.portByCode(goListens, main...)
		}
		p.Serve = &stack.Serve{Command: []string{"go", "run", dir}, Ports: httpPort(port, at), At: f.At(main[0], 1)}
	}
	p.Steps = append(p.Steps, f.step(stack.Test, f.At(manifest, 1), "go", "test", "./..."))
	return out, nil
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
