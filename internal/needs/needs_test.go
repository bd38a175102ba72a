package needs

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/stack"
)

// machine is made up: what it has is in its fields.
type machine struct {
	versions map[string]string
	engine   error
	taken    map[int]*stack.Owner
	free     uint64
	logins   []string // variables that hold one
}

func (m machine) Version(_ context.Context, tool string) (string, error) {
	v, ok := m.versions[tool]
	if !ok {
		return "", ErrNoTool
	}
	if v == "broken" {
		return "", errors.New("a library is missing")
	}
	return v, nil
}

func (m machine) Engine(_ context.Context, want engine.Outside) (engine.Seen, error) {
	seen := engine.Seen{Version: "1.2", API: "1.41", Images: map[string]diagnose.Finding{}}
	for ref := range want.Images {
		if strings.HasPrefix(ref, "absent") {
			seen.Images[ref] = (&diagnose.Image{Ref: ref, Registry: "quay", Why: "unauthorized"}).Explain()
		}
	}
	for _, n := range want.Networks {
		seen.Lacks = append(seen.Lacks, "network "+n)
	}
	return seen, m.engine
}

func (m machine) PortFree(_ string, port int) (bool, *stack.Owner) {
	o, taken := m.taken[port]
	return !taken, o
}

func (m machine) Answers(_ context.Context, port int, _ string) bool { return m.taken[port] != nil }

func (m machine) LoggedIn(_, variable string) bool { return slices.Contains(m.logins, variable) }

func (m machine) DiskFree() (uint64, error) { return m.free, nil }

func (m machine) Install(tool string) string {
	if tool == "node" {
		return "get node"
	}
	return ""
}

func app() *stack.Stack {
	return &stack.Stack{
		Projects: []stack.Project{
			{Path: "web", Manager: "npm",
				Runtimes: []stack.Runtime{{Tool: "node", Constraint: ">=20",
					At: stack.Place{File: "web/package.json", Line: 3}}, {Tool: "npm", Constraint: "*"}}},
			{Path: "admin", Manager: "npm",
				Runtimes: []stack.Runtime{{Tool: "node", Constraint: ">=20",
					At: stack.Place{File: "admin/package.json", Line: 9}}}},
			{Path: "unused", Manager: "npm", Runtimes: []stack.Runtime{{Tool: "elsewhere", Constraint: "*"}}},
		},
		Services: []stack.Service{
			{Name: "web", Runs: stack.Native, Project: "web", Manager: "npm",
				Ports: []stack.Port{{Host: 8000, Target: 8000, Transport: "tcp"}}},
			{Name: "admin", Runs: stack.Native, Project: "admin", Manager: "npm"},
			{Name: "db", Runs: stack.Container, At: stack.Place{File: "compose.yaml", Line: 2},
				Ports: []stack.Port{{Host: 5432, Target: 5432, Transport: "tcp"}, {Target: 99, Transport: "tcp"}}},
		},
	}
}

// TestOfEngine asks for what others make on an engine, for images, and for what it is too old for.
func TestOfEngine(t *testing.T) {
	t.Parallel()
	s := &stack.Stack{Networks: map[string]stack.Network{"lan": {External: true, Name: "pier"}, "own": {}},
		Services: []stack.Service{
			{Name: "web", Runs: stack.Container, Image: "absent/web:1", ContainerWay: stack.ContainerWay{
				Container: &stack.ContainerSpec{Networks: []string{"lan", "own"},
					Attached: map[string]stack.Attach{"lan": {MAC: "02:42:ac:11:00:07"}}}}},
			{Name: "built", Runs: stack.Container, Image: "absent/own:1", Build: ".", ContainerWay: stack.ContainerWay{
				Container: &stack.ContainerSpec{Networks: []string{"lan"},
					Mounts: []stack.Mount{{Type: "image", Source: "x:1"}}}}},
		}}
	var got []string
	a := Ask(t.Context(), s, nil, nil, machine{free: 10 << 30})
	for _, n := range a.Needs {
		if !n.Met {
			got = append(got, fmt.Sprintf("%s (%s, %s): %s", n.Name, n.Level, strings.Join(n.For, " "), n.Found))
		}
	}
	want := []string{"network pier (required, web built): the engine has none of that name",
		"image absent/web:1 (required, web): quay asks for a login", "mac_address (optional, web): API 1.41",
		"volumes of type image (required, built): API 1.41"}
	if !slices.Equal(got, want) || a.Met {
		t.Errorf("not met are\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

func TestAsk(t *testing.T) {
	t.Parallel()
	good := machine{versions: map[string]string{"node": "20.1.0", "npm": "10"}, free: 10 << 30}
	for _, c := range []struct {
		name     string
		change   func(*machine)
		services []string
		ours     map[int]bool
		met      bool
		unmet    string // names of what is not met
		remedy   string
	}{
		{"all is there", func(*machine) {}, nil, nil, true, "", ""},
		{"a tool is missing", func(m *machine) { m.versions = map[string]string{"npm": "10"} }, nil, nil, false, "node",
			"get node"},
		{"a tool without a known package", func(m *machine) { m.versions = map[string]string{"node": "20.0.0"} }, nil,
			nil, false, "npm", "Install npm"},
		{"a tool is too old", func(m *machine) { m.versions["node"] = "18.3.0" }, nil, nil, false, "node", ">=20"},
		{"a tool does not run", func(m *machine) { m.versions["node"] = "broken" }, nil, nil, false, "node",
			"node --version"},
		{"the engine is not started",
			func(m *machine) { m.engine = &engine.Unavailable{Lack: diagnose.NotStarted, Address: "unix:///s"} }, nil,
			nil, false, "container engine", "Start"},
		{"no engine is needed", func(m *machine) { m.engine = &engine.Unavailable{Lack: diagnose.NotInstalled} },
			[]string{"web"}, nil, true, "", ""},
		{"a port is taken", func(m *machine) { m.taken = map[int]*stack.Owner{8000: {PID: 77, Command: "python3"}} },
			nil, nil, false, "port 8000", "process 77 (python3)"},
		{"a port is taken by somebody", func(m *machine) { m.taken = map[int]*stack.Owner{5432: nil} }, nil, nil, false,
			"port 5432", "--shift"},
		{"a port is our own", func(m *machine) { m.taken = map[int]*stack.Owner{5432: nil} }, nil,
			map[int]bool{5432: true}, true, "", ""},
		{"the disk is full", func(m *machine) { m.free = 1 << 20 }, nil, nil, true, "disk space", "Make room"},
		{"several at once", func(m *machine) { m.versions = nil; m.taken = map[int]*stack.Owner{8000: nil, 5432: nil} },
			nil, nil, false, "node npm port 8000 port 5432", "get node"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			m := good
			m.versions = map[string]string{"node": "20.1.0", "npm": "10"}
			c.change(&m)
			a := Ask(t.Context(), app(), c.services, c.ours, m)
			var unmet []string
			remedies := ""
			for _, n := range a.Needs {
				if !n.Met {
					unmet = append(unmet, n.Name)
					remedies += n.Remedy + "\n"
				}
				if n.Name == "elsewhere" {
					t.Error("a tool of a project that is not launched is wanted")
				}
			}
			if a.Met != c.met || strings.Join(unmet, " ") != c.unmet || !strings.Contains(remedies, c.remedy) {
				t.Errorf("met %v, unmet %q, remedies %q", a.Met, unmet, remedies)
			}
			if len(a.Unmet()) > len(unmet) {
				t.Errorf("Unmet gives %q", a.Unmet())
			}
		})
	}
}

func TestOneNeedForSeveral(t *testing.T) {
	t.Parallel()
	a := Ask(t.Context(), app(), nil, nil, machine{versions: map[string]string{"node": "22.0.0", "npm": "10"},
		free: 1 << 40})
	i := slices.IndexFunc(a.Needs, func(n Need) bool { return n.Name == "node" })
	if n := a.Needs[i]; len(n.Because) != 2 || strings.Join(n.For, " ") != "web admin" {
		t.Errorf("the need for node is %+v", n)
	}
}

func TestSatisfies(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		version, constraint string
		want                bool
	}{
		{"20.20.2", ">=18", true}, {"16.1.0", ">=18", false}, {"20.1.0", "^20", true}, {"21.0.0", "^20", false},
		{"20.5.0", "20.x", true},
		{"18.0.0", ">=16 <19", true}, {"20.0.0", "18 || 20", true}, {"3.11.7", "~3.11", true},
		{"3.12.0", "~3.11", false}, {"1.26.8", ">=1.22", true},
		{"20.0.0", "*", true}, {"20.0.0", "lts/*", true}, {"odd", ">=3", true},
	} {
		if got := satisfies(c.version, c.constraint); got != c.want {
			t.Errorf("%s satisfies %s: %v", c.version, c.constraint, got)
		}
	}
}

func TestEveryLackHasItsOwnWords(t *testing.T) {
	t.Parallel()
	seen := map[string]bool{}
	for _, l := range []diagnose.Lack{diagnose.NotInstalled, diagnose.NotStarted, diagnose.NotPermitted,
		diagnose.NotSpeaking} {
		u := &engine.Unavailable{Lack: l, Address: "unix:///run/x.sock", Cause: errors.New("why")}
		for _, s := range []string{u.Error(), u.Remedy()} {
			if s == "" || seen[s] {
				t.Errorf("for %s this is said: %q", l, s)
			}
			seen[s] = true
		}
	}
}

func TestLocal(t *testing.T) {
	t.Parallel()
	l := &Local{Dir: t.TempDir()}
	if v, err := l.Version(t.Context(), "go"); err != nil || !strings.HasPrefix(v, "1.") {
		t.Errorf("the version of go is %q, %v", v, err)
	}
	if _, err := l.Version(t.Context(), "no-such-tool-anywhere"); !errors.Is(err, ErrNoTool) {
		t.Errorf("of a tool that is missing: %v", err)
	}
	if free, err := l.DiskFree(); err != nil || free == 0 {
		t.Errorf("free are %d bytes, %v", free, err)
	}
	if s := l.Install("no-such-tool-anywhere"); s != "" {
		t.Errorf("to install an unknown tool: %q", s)
	}
}

func TestWhatPackagesTake(t *testing.T) {
	t.Parallel()
	s := app()
	for i := range s.Projects {
		if p := &s.Projects[i]; p.Path == "web" {
			p.Runtimes = append(p.Runtimes, stack.Runtime{Tool: "cobol", Constraint: "*", Hint: true})
			p.Compiles = []stack.Compile{{Package: "tide", Takes: "gcc"},
				{Package: "wave", Takes: "gcc", Certain: true}, {Package: "tide", Takes: "swig"}}
			p.Sources = []stack.Source{{Address: "https://npm.quay.example/x"},
				{Address: "https://in.quay.example", Login: true, Variable: "QUAY_TOKEN"}}
		}
	}
	m := machine{versions: map[string]string{"node": "20.1.0", "npm": "10"}, free: 10 << 30}
	told := func(a *Answer) string {
		var out []string
		for _, n := range a.Needs {
			if n.Kind == Source || n.Name == "gcc" || n.Name == "swig" || n.Name == "cobol" {
				out = append(out, fmt.Sprintf("%s %s met=%v %s", n.Kind, n.Name, n.Met, n.Level))
			}
		}
		return strings.Join(out, ", ")
	}
	a := Ask(t.Context(), s, nil, nil, m)
	if got, want := told(a),
		"tool cobol met=false optional, tool gcc met=false required, tool swig met=false optional, "+
			"source npm.quay.example met=true required, "+
			"source in.quay.example met=false required"; got != want || a.Met {
		t.Errorf("got  %s\nwant %s", got, want)
	}
	for _, n := range a.Needs {
		if n.Name == "gcc" && n.Wanted != "to compile tide, wave" || n.Name == "in.quay.example" &&
			!strings.Contains(n.Remedy, "QUAY_TOKEN") {
			t.Errorf("the need is %+v", n)
		}
	}
	m.versions["gcc"], m.logins = "12.2.0-14", []string{"QUAY_TOKEN"}
	if a := Ask(t.Context(), s, nil, nil, m); !a.Met {
		t.Errorf("with everything there: %v", a.Unmet())
	}
}

// TestServersElsewhere asks for servers that no service of the stack is.
func TestServersElsewhere(t *testing.T) {
	t.Parallel()
	s := app()
	s.Servers = []stack.Server{
		{Speaks: "postgres", Port: 5433, For: "web", Key: "DATABASE_URL", Needed: true, MadeBy: "ledger.sh"},
		{Speaks: "redis", Port: 6379, For: "web", Key: "QUEUE"},
		{Speaks: "redis", Port: 6379, For: "admin", Key: "QUEUE"},
	}
	m := machine{versions: map[string]string{"node": "20.1.0", "npm": "10"}, free: 10 << 30}
	for _, c := range []struct {
		there []int
		met   bool
		want  string
	}{
		{nil, false, "postgres on port 5433 (required, web): ledger.sh; redis on port 6379 (optional, web admin): "},
		{[]int{5433}, true, "redis on port 6379 (optional, web admin): "},
		{[]int{5433, 6379}, true, ""},
	} {
		m.taken = map[int]*stack.Owner{}
		for _, p := range c.there {
			m.taken[p] = &stack.Owner{PID: 1}
		}
		a := Ask(t.Context(), s, nil, nil, m)
		var got []string
		for _, n := range a.Needs {
			if n.Kind == Server && !n.Met {
				script := map[bool]string{true: "ledger.sh"}[strings.Contains(n.Remedy, "ledger.sh")]
				got = append(got, fmt.Sprintf("%s (%s, %s): %s", n.Name, n.Level, strings.Join(n.For, " "), script))
			}
		}
		if a.Met != c.met || strings.Join(got, "; ") != c.want {
			t.Errorf("with %v: met %v, %q", c.there, a.Met, got)
		}
	}
}

// TestHints asks for a version that only a container uses: where this machine has another, that is an optional need,
// unless the project itself says what it takes.
func TestHints(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ own, hint, want string }{
		{"*", "^18", "node ^18 optional"}, {">=20", "^18", ""}, {"*", "^20", ""}, {"20.3.0", "*", ""},
		{"18.3.0", "*", "node 18.3.0 or close to it required"},
	} {
		s := app()
		close := ""
		if strings.Count(c.own, ".") == 2 {
			close = "^" + c.own[:2]
		}
		s.Projects[0].Runtimes = []stack.Runtime{{Tool: "node", Constraint: c.own, Close: close},
			{Tool: "node", Constraint: c.hint, Hint: true, At: stack.Place{File: "Dockerfile", Line: 1}}}
		a := Ask(
			t.Context(),
			s,
			[]string{"web"},
			nil,
			machine{versions: map[string]string{"node": "20.1.0"}, free: 10 << 30},
		)
		got := ""
		for _, n := range a.Needs {
			if !n.Met {
				got += n.Name + " " + n.Wanted + " " + string(n.Level)
			}
		}
		if got != c.want {
			t.Errorf("own %s, hint %s: %q, want %q", c.own, c.hint, got, c.want)
		}
	}
}

// TestProgramWithoutProject asks for the program of a service that no project is known of.
func TestProgramWithoutProject(t *testing.T) {
	t.Parallel()
	s := &stack.Stack{Services: []stack.Service{{Name: "pages", Runs: stack.Native, Command: []string{"php", "-S", "x"},
		At: stack.Place{File: "index.php", Line: 1}}}}
	a := Ask(t.Context(), s, nil, nil, machine{free: 10 << 30})
	if len(a.Needs) == 0 || a.Needs[0].Name != "php" || a.Needs[0].Met || a.Met {
		t.Errorf("%+v", a.Needs)
	}
}

// TestBlock puts what can be installed into as few lines as there are ways to do it.
func TestBlock(t *testing.T) {
	t.Parallel()
	a := Answer{Needs: []Need{{Command: "corepack enable pnpm"}, {Command: "sudo apt-get install node"},
		{Command: "sudo apt-get install ruby"}, {Command: "sudo apt-get install ruby"}, {Command: "corepack enable " +
			"pnpm"},
		{Met: true, Command: "sudo apt-get install php"}, {Remedy: "Think."}}}
	if got := strings.Join(a.Block(), "; "); got != "sudo apt-get install node ruby; corepack enable pnpm" {
		t.Errorf("to paste is %s", got)
	}
}
