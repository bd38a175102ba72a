package ecosystem

import (
	"errors"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/mod/modfile"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

var (
	goListens = expr.New(
		`(?:ListenAndServe\(|Addr:\s*|Run\(|Start\(|[aA]ddr\s*:?=\s*|Listen\((?:"tcp",\s*)?|` +
			`[pP]ort\s*:?=\s*|flag\.String(?:Var)?\((?:&\w+,\s*)?"(?:\w*[-_])?` +
			`(?:addr|address|listen|bind|host|http)",\s*)` + `"[^":]*:?(\d{2,5})"`)
	goMain   = expr.New(`(?m)^package main\b`)
	goServes = expr.New(`"net/http"|net\.Listen\(`)
	goOpens  = expr.New(`ListenAndServe|http\.Serve(?:TLS)?\(|net\.Listen\(`)
	// goWeb are modules with servers of their own, and goRuns how these are started.
	goWeb = expr.New(`"(?:github\.com/(?:gin-gonic/gin|labstack/echo|gofiber/fiber|go-chi/chi|gorilla/mux|` +
		`valyala/fasthttp|cloudwego/hertz|beego/beego|kataras/iris|julienschmidt/httprouter)(?:/v\d+)?|` +
		`google\.golang\.org/grpc)"`)
	goRuns   = expr.New(`\.(?:Run|RunTLS|Start|StartTLS|Listen|Serve|Spin)\(`)
	goBuilds = expr.New(`\bgo (?:build|install)\b[^\n;&|]*?\s(\./[\w./-]+)`)
	// The names of main packages below cmd, and of those among them that are no part of the running
	// application.
	goServerName = expr.New(`(?i)server|api|web|http|app|gateway|daemon`)
	goOtherMain  = expr.New(`(?i)(^|[-_])(tests?|mocks?|fakes?|bench\w*|examples?|demos?|gen\w*|tools?|lint\w*|` +
		`migrat\w*|seed\w*|cli|client)([-_]|$)`)
	goTestFile = expr.New(`_test\.go$`)
)

// golang is Go, whose program is its package manager too.
var golang = &Ecosystem{
	Name:     "go",
	Compiled: true,
	Managers: []*Manager{{Name: "go", Locks: []string{"go.sum", "go.work.sum"},
		Obeys: []string{"go.work"}}},
	Manifests: []string{"go.mod", "go.work"},
	Made:      []string{"vendor"},
	Endings:   []string{".go"},
	Language:  goCode,
	Given:     []string{"GOPATH"},
	Tools: []Tool{{Name: "go", Ask: []string{"version"}, Called: []string{"golang", "go"},
		Images: []string{"golang"},
		Packages: map[string]string{"pacman": "go", "apt": "golang", "dnf": "golang", "brew": "go",
			"apk": "go"}}},
	Verbs: []Verb{
		{SetsUp, []string{"go install"}},
		{stack.Install, []string{"go mod|get"}},
		{stack.Test, []string{"go test"}},
		{Serves, []string{"go run"}},
		{stack.Build, []string{"go build"}},
	},
}

var goCode = &Language{
	Comments: slashes,
	Blocks:   starred,
	Quotes:   []Quote{doubled, letter, {Open: "`", Close: "`", Raw: true, Lines: true}},
	Accesses: callsFor(false, "os.Getenv", "os.LookupEnv"),
	Else:     usualElse,
}

func itoa(n int) string { return strconv.Itoa(n) }

// goProject is a Go module or workspace while it is read.
type goProject struct {
	Folder
	out        *Finding
	manifest   string
	constraint string // of the go line, or of a later toolchain
	at         stack.Place
	requires   map[string]stack.Place // modules, by path
	asks       map[string]stack.Place // those that its own code imports
}

func readGo(f Folder) (*Finding, error) {
	manifest := f.first("go.work", "go.mod")
	if manifest == "" {
		return nil, nil
	}
	data, err := f.Read(manifest)
	if err != nil {
		return nil, err
	}
	g := &goProject{Folder: f, manifest: manifest, out: f.finding("go", "go", manifest, manifest),
		constraint: "*", at: f.At(manifest, 1), requires: map[string]stack.Place{},
		asks: map[string]stack.Place{}}
	if err := g.parse(data); err != nil {
		return nil, err
	}
	if g.out.Within == nil || g.constraint != "*" {
		g.out.wants("go", g.constraint, g.at)
	}
	if at, ok := g.requires[cgoSQLite]; ok {
		g.out.compiles(cgoSQLite, []string{"gcc"}, true, at)
	}
	if manifest == "go.work" || g.out.Within == nil && len(g.requires) > 0 {
		g.out.step(g.download())
	}
	g.out.uses(g.out.Project.Name, g.asks)
	dir, main := goServer(f)
	if dir != "" {
		g.compile(dir)
	}
	g.migrate()
	if dir != "" {
		port, at := f.PortSetting()
		if port == 0 {
			port, at = f.portByCode(goListens, main...)
		}
		g.out.Project.Serve = &stack.Serve{Command: []string{"go", "run", dir},
			Ports: httpPort(port, at), At: f.At(main[0], 1), PortBy: stack.PortBy{Env: "PORT"}}
	}
	if manifest == "go.mod" {
		g.out.step(f.step(stack.Test, f.At(manifest, 1), "go", "test", "./..."))
	}
	return g.out, nil
}

// download is the step that fetches the modules.
func (g *goProject) download() stack.Step {
	s := g.step(stack.Install, g.At(g.manifest, 1), "go", "mod", "download")
	if g.manifest == "go.mod" && !g.Has("go.sum") && !g.Has("vendor/modules.txt") {
		s.Command = []string{"go", "mod", "tidy"} // which makes it; nothing is built without
		g.out.lockMissing("go.sum", s.At)
	}
	s.Inputs = g.in(g.manifest, "go.sum", "go.work.sum")
	for _, m := range g.out.Members {
		s.Inputs = append(s.Inputs, g.folders(m+"/go.mod", m+"/go.sum")...)
	}
	return s
}

// compile adds the compiling of what is served, of which nothing is kept but what the tool keeps
// for itself: the first time takes minutes, in which a service that compiles itself could not be
// told from one that doesn't answer.
func (g *goProject) compile(dir string) {
	nowhere := "/dev/null"
	if g.System == "windows" {
		nowhere = "NUL"
	}
	s := g.step(stack.Build, g.At(g.manifest, 1), "go", "build", "-o", nowhere, dir)
	s.Inputs = g.in(g.manifest, "go.sum", "go.work.sum")
	if dir != "." {
		s.Inputs = append(s.Inputs, g.folders(strings.TrimPrefix(dir, "./"))...)
	}
	g.out.step(s)
}

// Modules of which more is known.
const (
	cgoSQLite = "github.com/mattn/go-sqlite3"
	goose     = "github.com/pressly/goose/v3"
)

// parse reads the manifest. A file of a later form than is known here is read as far as it is
// understood.
func (g *goProject) parse(data []byte) error {
	version := func(line *modfile.Line, version string) {
		g.constraint, g.at = ">="+strings.TrimPrefix(version, "go"), g.At(g.manifest,
			line.Start.Line)
	}
	if g.manifest == "go.work" {
		work, err := modfile.ParseWork(g.manifest, data, nil)
		if err != nil {
			return g.wrong(err)
		}
		if work.Go != nil {
			version(work.Go.Syntax, work.Go.Version)
		}
		for _, use := range work.Use {
			if dir := path.Clean(use.Path); dir != "." {
				g.out.Members = append(g.out.Members, dir)
			}
		}
		return nil
	}
	mod, err := modfile.ParseLax(g.manifest, data, nil)
	if err != nil {
		return g.wrong(err)
	}
	if mod.Module == nil {
		return &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeManifestSyntax,
			At:   g.At(g.manifest, 1),
			Text: "the file has no module line", Remedy: "Put module NAME on its first line."}
	}
	g.out.Project.Name = mod.Module.Mod.Path
	if mod.Go != nil {
		version(mod.Go.Syntax, mod.Go.Version)
	}
	for _, r := range mod.Require {
		g.requires[r.Mod.Path] = g.At(g.manifest, r.Syntax.Start.Line)
		if !r.Indirect {
			g.asks[r.Mod.Path] = g.requires[r.Mod.Path]
		}
	}
	return nil
}

// wrong is the fault of a manifest that can't be read, with the first place that is wrong.
func (g *goProject) wrong(err error) error {
	f := &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeManifestSyntax,
		At:   g.At(g.manifest, 1),
		Text: "not a valid " + g.manifest, Remedy: "Correct the file at this place.", Cause: err}
	var list modfile.ErrorList
	if errors.As(err, &list) && len(list) > 0 {
		f.At.Line, f.Column = max(1, list[0].Pos.Line), list[0].Pos.LineRune
		f.Text += ": " + list[0].Err.Error()
	}
	return f
}

// migrate adds the migration by goose, unless the program does it itself.
func (g *goProject) migrate() {
	at, ok := g.requires[goose]
	folder := g.first("migrations", "db/migrations", "sql/migrations")
	if !ok || folder == "" || strings.Contains(g.goMainText(), "goose") {
		return
	}
	s := g.step(stack.Migrate, at, "go", "run", goose+"/cmd/goose", "-dir", folder, "up")
	s.Inputs = g.folders(folder)
	g.out.step(s)
}

// ListensIn finds the port on which a file of code listens that a command runs.
func (f Folder) ListensIn(command []string) (int, stack.Place) {
	for _, w := range command {
		if path.Ext(w) == ".go" && f.exists(path.Clean(w)) {
			return f.portByCode(goListens, path.Clean(w))
		}
	}
	return 0, stack.Place{}
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

// goModule is the line of a module's name, without the number of its version.
var goModule = expr.New(`(?m)^module\s+"?(\S+?)(?:/v\d+)?"?\s*$`)

// goServer finds the main package that serves: at the module's root, or below cmd. The one that the
// Dockerfile builds goes first, then the one that is called like the module, then those that open a
// port by themselves, those whose name says that they serve, and then the alphabet.
func goServer(f Folder) (dir string, files []string) {
	dirs := []string{"."}
	if entries, err := fs.ReadDir(f.FS, path.Join(f.Path, "cmd")); err == nil {
		for _, e := range entries {
			if e.IsDir() && !goOtherMain.MatchString(e.Name()) {
				dirs = append(dirs, "cmd/"+e.Name())
			}
		}
	}
	slices.Sort(dirs)
	docker := strings.ReplaceAll(f.text("Dockerfile"), "\\\n", " ")
	project := ""
	if m := goModule.FindStringSubmatch(f.text("go.mod")); m != nil {
		project = path.Base(m[1])
	}
	best := 0
	for _, d := range dirs {
		sources, rank := goMainOf(f, d)
		m := &goEntry{dir: d, rank: rank, own: path.Base(d) == project,
			named: goServerName.MatchString(path.Base(d)) && d != "."}
		m.built = slices.ContainsFunc(goBuilds.FindAllStringSubmatch(docker, -1),
			func(b []string) bool { return path.Clean(b[1]) == d })
		m.exposed = strings.Contains(docker, "\nEXPOSE ")
		if w := m.weight(); w > best {
			best, dir, files = w, d, sources
		}
	}
	if dir != "" && dir != "." {
		dir = "./" + dir
	}
	return dir, files
}

// goEntry is a folder with a main package: how much its code speaks for a server (0 for not, below
// for against), whether it is called like the module, or like a server, and whether the Dockerfile
// builds it, and exposes a port.
type goEntry struct {
	dir                        string
	rank                       int
	own, named, built, exposed bool
}

// weight is how much speaks for it; 0 where nothing says that it serves.
func (m *goEntry) weight() int {
	serves := m.rank > 0 || m.built && m.named || (m.built || m.own) && m.exposed
	if m.rank < 0 || !serves {
		return 0
	}
	w := 2 * m.rank
	for _, one := range []struct {
		is    bool
		worth int
	}{{m.named, 1}, {m.own, 6}, {m.built, 12}} { // its own is more than what only helps it
		if one.is {
			w += one.worth
		}
	}
	return w
}

// goMainOf are the files of a main package, and whether it opens a port: 2, may do so by what it
// imports: 1, or shows nothing of it: 0; -1 for what is no main package.
func goMainOf(f Folder, dir string) (sources []string, rank int) {
	entries, err := fs.ReadDir(f.FS, path.Join(f.Path, dir))
	if err != nil {
		return nil, -1
	}
	isMain := false
	for _, e := range entries {
		if !strings.HasSuffix(e.Name(), ".go") || goTestFile.MatchString(e.Name()) {
			continue
		}
		name := path.Join(dir, e.Name())
		data, err := f.Read(name)
		if err != nil {
			continue
		}
		sources = append(sources, name)
		isMain = isMain || goMain.Match(data)
		switch {
		case goOpens.Match(data), goWeb.Match(data) && goRuns.Match(data):
			rank = 2
		case goWeb.Match(data), goServes.Match(data):
			rank = max(rank, 1)
		}
	}
	if !isMain {
		return nil, -1
	}
	return sources, rank
}
