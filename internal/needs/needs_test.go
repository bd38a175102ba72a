package needs

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/ecosystem"
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
	apart    string   // the source that can't be reached
	kept     map[string][]ecosystem.Kept
	offers   string // the version that would be installed
	facts    Facts
	kernel   uint64
	weighs   int64
	engineIs engine.Seen
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
	seen := m.engineIs
	seen.Version, seen.API, seen.Images = "1.2", "1.41", map[string]diagnose.Finding{}
	for ref := range want.Images {
		if strings.HasPrefix(ref, "absent") {
			seen.Images[ref] = (&diagnose.Image{Ref: ref, Registry: "quay",
				Why: "unauthorized"}).Explain()
		}
	}
	for _, ref := range want.Made {
		seen.Lacks = append(seen.Lacks, "image "+ref)
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

func (m machine) DiskFree(folder string) (uint64, error) {
	if folder == "/engine" {
		return 1 << 30, nil
	}
	return m.free, nil
}

func (m machine) Install(tool string) Way {
	if tool == "node" || tool == "npm" && m.offers == "18.3" { // npm comes with it
		return Way{"get node", m.offers}
	}
	return Way{}
}

func (m machine) Kept(tool string) []ecosystem.Kept { return m.kept[tool] }

func (m machine) Host() Facts { return m.facts }

func (m machine) Kernel(string) (uint64, bool) { return m.kernel, m.kernel > 0 }

func (m machine) Weigh(p *stack.Project) (Weight, bool) {
	return Weight{p.Path + "/lock", 12, m.weighs}, m.weighs > 0
}

func (m machine) Reaches(_ context.Context, address string) error {
	if m.apart != "" && strings.Contains(address, m.apart) {
		return errors.New("no such host")
	}
	return nil
}

func app() *stack.Stack {
	return &stack.Stack{
		Projects: []stack.Project{
			{Path: "web", Manager: "npm",
				Runtimes: []stack.Runtime{{Tool: "node", Constraint: ">=20",
					At: stack.Place{File: "web/package.json",
						Line: 3}}, {Tool: "npm", Constraint: "*"}}},
			{Path: "admin", Manager: "npm",
				Runtimes: []stack.Runtime{{Tool: "node", Constraint: ">=20",
					At: stack.Place{File: "admin/package.json", Line: 9}}}},
			{Path: "unused", Manager: "npm",
				Runtimes: []stack.Runtime{{Tool: "elsewhere", Constraint: "*"}}},
		},
		Services: []stack.Service{
			{Name: "web", Runs: stack.Native, Project: "web", Manager: "npm",
				Ports: []stack.Port{{Host: 8000, Target: 8000, Transport: "tcp"}}},
			{Name: "admin", Runs: stack.Native, Project: "admin", Manager: "npm"},
			{Name: "db", Runs: stack.Container, At: stack.Place{File: "compose.yaml", Line: 2},
				Ports: []stack.Port{{Host: 5432, Target: 5432, Transport: "tcp"},
					{Target: 99, Transport: "tcp"}}},
		},
	}
}

// TestOfEngine asks for what others make on an engine, for images, and for what it is too old for.
func TestOfEngine(t *testing.T) {
	t.Parallel()
	s := &stack.Stack{Networks: map[string]stack.Network{"lan": {External: true, Name: "pier"},
		"own": {}}, Services: []stack.Service{
		{Name: "web", Runs: stack.Container, Image: "absent/web:1",
			ContainerWay: stack.ContainerWay{
				Container: &stack.ContainerSpec{Networks: []string{"lan", "own"},
					Attached: map[string]stack.Attach{"lan": {MAC: "02:42:ac:11:00:07"}}}}},
		{Name: "built", Runs: stack.Container, Image: "absent/own:1", Build: ".",
			Bases: []stack.BaseImage{{Image: "absent/web:1"}, {Image: "absent/base:1"}, {Image: "there:1"}},
			ContainerWay: stack.ContainerWay{
				Container: &stack.ContainerSpec{Networks: []string{"lan"},
					Mounts: []stack.Mount{{Type: "image", Source: "x:1"}}}}},
		{Name: "tides", Runs: stack.Container, Image: "absent-tides", At: stack.Place{Line: 7},
			ContainerWay: stack.ContainerWay{Container: &stack.ContainerSpec{}}},
	}, Remarks: []stack.Remark{{Code: stack.CodeImageOfProject, About: stack.AboutService("tides"),
		Remedy: "Make it."}}}
	var got []string
	a := Ask(t.Context(), s, nil, nil, machine{free: 10 << 30})
	for _, n := range a.Needs {
		if !n.Met {
			got = append(got, fmt.Sprintf("%s (%s, %s): %s", n.Name, n.Level,
				strings.Join(n.For, " "), n.Found))
		}
	}
	want := []string{"network pier (required, web built): the engine has none of that name",
		"image absent/web:1 (required, web built): quay asks for a login", "mac_address (optional, " +
			"web): API 1.41", "image absent/base:1 (required, built): quay asks for a login",
		"volumes of type image (required, built): API 1.41",
		"image absent-tides (required, tides): nobody has made it yet, and a project here does"}
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
		{"a tool is missing", func(m *machine) { m.versions = map[string]string{"npm": "10"} },
			nil, nil, false, "node", "get node"},
		{"a tool without a known package",
			func(m *machine) { m.versions = map[string]string{"node": "20.0.0"} }, nil,
			nil, false, "npm", "Install npm"},
		{"a tool is too old", func(m *machine) { m.versions["node"] = "18.3.0" }, nil, nil, false,
			"node", ">=20"},
		{"a tool does not run", func(m *machine) { m.versions["node"] = "broken" }, nil, nil,
			false, "node", "node --version"},
		{"the engine is not started", func(m *machine) {
			m.engine = &engine.Unavailable{Lack: diagnose.NotStarted, Address: "unix:///s"}
		}, nil, nil, false, "container engine", "Start"},
		{"no engine is needed", func(m *machine) { m.engine = &engine.Unavailable{Lack: diagnose.NotInstalled} },
			[]string{"web"}, nil, true, "", ""},
		{"a port is taken", func(m *machine) {
			m.taken = map[int]*stack.Owner{8000: {PID: 77, Command: "python3"}}
		}, nil, nil, false, "port 8000", "process 77 (python3)"},
		{"a port is taken by somebody",
			func(m *machine) { m.taken = map[int]*stack.Owner{5432: nil} }, nil, nil, false,
			"port 5432", "--shift"},
		{"a port is our own", func(m *machine) { m.taken = map[int]*stack.Owner{5432: nil} }, nil,
			map[int]bool{5432: true}, true, "", ""},
		{"the disk is full", func(m *machine) { m.free = 1 << 20 }, nil, nil, true, "disk space",
			"Make room"},
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
			if a.Met != c.met || strings.Join(unmet, " ") != c.unmet ||
				!strings.Contains(remedies, c.remedy) {
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
	a := Ask(t.Context(), app(), nil, nil,
		machine{versions: map[string]string{"node": "22.0.0", "npm": "10"}, free: 1 << 40})
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
		{"20.20.2", ">=18", true}, {"16.1.0", ">=18", false}, {"20.1.0", "^20", true}, {"21.0.0",
			"^20", false},
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
	for _, l := range []diagnose.Lack{diagnose.NotInstalled, diagnose.NotStarted,
		diagnose.NotPermitted, diagnose.NotSpeaking} {
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
	if free, err := l.DiskFree(""); err != nil || free == 0 {
		t.Errorf("free are %d bytes, %v", free, err)
	}
	if w := l.Install("no-such-tool-anywhere"); w.Command != "" {
		t.Errorf("to install an unknown tool: %q", w.Command)
	}
}

func TestWhatPackagesTake(t *testing.T) {
	t.Parallel()
	s := app()
	for i := range s.Projects {
		if p := &s.Projects[i]; p.Path == "web" {
			p.Runtimes = append(p.Runtimes,
				stack.Runtime{Tool: "cobol", Constraint: "*", Hint: true})
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
		"tool cobol met=false optional, tool gcc met=false required, tool swig met=false "+
			"optional, source npm.quay.example met=true required, "+
			"source in.quay.example met=false required"; got != want || a.Met {
		t.Errorf("got  %s\nwant %s", got, want)
	}
	for _, n := range a.Needs {
		if n.Name == "gcc" && n.Wanted != "to compile tide, wave" || n.Name == "in.quay.example" &&
			!strings.Contains(n.Remedy, "QUAY_TOKEN") {
			t.Errorf("the need is %+v", n)
		}
	}
	m.versions["gcc"], m.logins, m.apart = "12.2.0-14", []string{"QUAY_TOKEN"}, "in.quay"
	i := slices.IndexFunc(Ask(t.Context(), s, nil, nil, m).Needs, func(n Need) bool {
		return n.Name == "in.quay.example"
	})
	if n := Ask(t.Context(), s, nil, nil, m).Needs[i]; n.Met || n.Level != Optional ||
		!strings.Contains(n.Found, "no such host") {
		t.Errorf("a source that can't be reached is %+v", n)
	}
	m.apart = "npm.quay" // nobody keeps a login for it, so that it is not asked
	if a := Ask(t.Context(), s, nil, nil, m); !a.Met {
		t.Errorf("with everything there: %v", a.Unmet())
	}
}

// TestServersElsewhere asks for servers that no service of the stack is.
func TestServersElsewhere(t *testing.T) {
	t.Parallel()
	s := app()
	s.Servers = []stack.Server{
		{Speaks: "postgres", Port: 5433, For: "web", Key: "DATABASE_URL", Needed: true,
			MadeBy: "ledger.sh"},
		{Speaks: "redis", Port: 6379, For: "web", Key: "QUEUE"},
		{Speaks: "redis", Port: 6379, For: "admin", Key: "QUEUE"},
	}
	m := machine{versions: map[string]string{"node": "20.1.0", "npm": "10"}, free: 10 << 30}
	for _, c := range []struct {
		there []int
		met   bool
		want  string
	}{
		{nil, false, "postgres on port 5433 (required, web): ledger.sh; redis on port 6379 " +
			"(optional, web admin): "},
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
				script := map[bool]string{true: "ledger.sh"}[strings.Contains(n.Remedy,
					"ledger.sh")]
				got = append(got, fmt.Sprintf("%s (%s, %s): %s", n.Name, n.Level,
					strings.Join(n.For, " "), script))
			}
		}
		if a.Met != c.met || strings.Join(got, "; ") != c.want {
			t.Errorf("with %v: met %v, %q", c.there, a.Met, got)
		}
	}
}

// TestHints asks for a version that only a container uses: where this machine has another, that is
// an optional need, unless the project itself says what it takes.
func TestHints(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ own, hint, want string }{
		{"*", "^18", "node ^18 optional"}, {">=20", "^18", ""}, {"*", "^20", ""}, {"20.3.0", "*",
			""},
		{"18.3.0", "*", "node 18.3.0 or close to it required"},
	} {
		s := app()
		close := ""
		if strings.Count(c.own, ".") == 2 {
			close = "^" + c.own[:2]
		}
		s.Projects[0].Runtimes = []stack.Runtime{{Tool: "node", Constraint: c.own, Close: close},
			{Tool: "node", Constraint: c.hint, Hint: true,
				At: stack.Place{File: "Dockerfile", Line: 1}}}
		a := Ask(t.Context(), s, []string{"web"}, nil,
			machine{versions: map[string]string{"node": "20.1.0"}, free: 10 << 30})
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
	s := &stack.Stack{Services: []stack.Service{{Name: "pages", Runs: stack.Native,
		Command: []string{"php", "-S", "x"}, At: stack.Place{File: "index.php", Line: 1}}}}
	a := Ask(t.Context(), s, nil, nil, machine{free: 10 << 30})
	if len(a.Needs) == 0 || a.Needs[0].Name != "php" || a.Needs[0].Met || a.Met {
		t.Errorf("%+v", a.Needs)
	}
}

// TestBlock puts what can be installed into as few lines as there are ways to do it.
func TestBlock(t *testing.T) {
	t.Parallel()
	a := Answer{Needs: []Need{{Command: "corepack enable pnpm"},
		{Command: "sudo apt-get install -y node"},
		{Command: "sudo apt-get update && sudo apt-get install -y ruby pipx && pipx install uv"},
		{Command: "sudo apt-get update && sudo apt-get install -y ruby"}, {Command: "corepack " +
			"enable pnpm"},
		{Met: true, Command: "sudo apt-get install -y php"}, {Remedy: "Think."}}}
	want := "sudo apt-get update; sudo apt-get install -y node ruby pipx; corepack enable pnpm; " +
		"pipx install uv"
	if got := strings.Join(a.Block(), "; "); got != want {
		t.Errorf("to paste is %s", got)
	}
}

// TestKept finds versions that lie in a person's home, and says what loads them, or whom to ask for
// others.
func TestKept(t *testing.T) {
	t.Parallel()
	old := []ecosystem.Kept{{Version: "18.1.0", By: "nvm", Bin: ".nvm/18"}}
	two := append([]ecosystem.Kept{{Version: "22.1.0", By: "nvm", Bin: ".nvm/22"},
		{Version: "22.9.0", By: "asdf", Bin: ".asdf/22"}, {Version: "odd", By: "nvm",
			Bin: ".nvm/odd"}}, old...)
	for _, c := range []struct {
		name, here, offers string
		kept               []ecosystem.Kept
		remedy, command    string
	}{
		{"the newest that fits", "", "", two, "node 22.9.0 is here, kept by asdf",
			`export PATH="$HOME/.asdf/22:$PATH"`},
		{"beside one that is too old", "18.0.0", "", two, "kept by asdf",
			`export PATH="$HOME/.asdf/22:$PATH"`},
		{"beside one that does not run", "broken", "", two, "kept by asdf",
			`export PATH="$HOME/.asdf/22:$PATH"`},
		{"none that fits", "18.0.0", "", old,
			"Install node >=20 with nvm, which keeps other versions of it here", ""},
		{"none that fits, none loaded, none offered", "", "18.3", old,
			"Install node >=20 with nvm", ""},
		{"an offer that fits", "", "20.1", nil, "Install it: get node", "get node"},
		{"an offer that does not fit", "", "18.3", nil, "this system's own package has 18.3", ""},
		{"one whose version nobody knows", "", "", []ecosystem.Kept{{Bin: ".local/bin"}},
			"get node", "get node"},
	} {
		m := machine{versions: map[string]string{"npm": "10"}, free: 10 << 30, offers: c.offers,
			kept: map[string][]ecosystem.Kept{"node": c.kept}}
		if c.here != "" {
			m.versions["node"] = c.here
		}
		n := Ask(t.Context(), app(), []string{"web"}, nil, m).Needs[0]
		if n.Met || !strings.Contains(n.Remedy, c.remedy) || n.Command != c.command {
			t.Errorf("%s: met %v, %s (%s)", c.name, n.Met, n.Remedy, n.Command)
		}
	}
	m := machine{free: 10 << 30, offers: "18.3"}
	if n := Ask(t.Context(), app(), []string{"web"}, nil, m).Needs[1]; n.Name != "npm" ||
		n.Command != "" || !strings.HasPrefix(n.Remedy, "It comes with node") {
		t.Errorf("of what comes with a tool that is offered too old it says %s (%s)", n.Remedy,
			n.Command)
	}
	m = machine{versions: map[string]string{"node": "20.1.0"}, free: 10 << 30,
		kept: map[string][]ecosystem.Kept{"npm": {{Bin: ".local/bin"}}}}
	if n := Ask(t.Context(), app(), []string{"web"}, nil,
		m).Needs[1]; n.Command != `export PATH="$HOME/.local/bin:$PATH"` {
		t.Errorf("of a program in a folder of the person's own it says %s", n.Remedy)
	}
}

// TestHost says what the machine itself is short of, and nothing of what is enough.
func TestHost(t *testing.T) {
	t.Parallel()
	enough := Facts{Memory: 8 << 30, MemoryFree: 4 << 30, OpenFiles: 1024,
		Watches: Limit{65536, 100}, Watchers: Limit{128, 3}}
	for _, c := range []struct {
		name   string
		change func(m *machine, s *stack.Stack)
		want   string
	}{
		{"enough", func(*machine, *stack.Stack) {}, ""},
		{"few open files", func(m *machine, _ *stack.Stack) { m.facts.OpenFiles = 256 },
			"open files: a program may have 256 open"},
		{"watches used up", func(m *machine, _ *stack.Stack) { m.facts.Watches.Used = 65000 },
			"file watches: 65000 of 65536 are in use"},
		{"watchers used up", func(m *machine, _ *stack.Stack) { m.facts.Watchers.Used = 128 },
			"file watchers: 128 of 128 are in use"},
		{"what is not told", func(m *machine, _ *stack.Stack) { m.facts = Facts{} }, ""},
		{"little memory", func(m *machine, _ *stack.Stack) { m.facts.MemoryFree = 100 << 20 },
			"memory: 100 MB of 8.0 GB free"},
		{"reserved memory", func(m *machine, s *stack.Stack) {
			s.Services[2].Container.MemoryReservation = 9 << 30
		}, "memory: this machine has 8.0 GB"},
		{"reserved memory, on another machine", func(m *machine, s *stack.Stack) {
			s.Services[2].Container.MemoryReservation, m.engineIs.Memory = 3<<30, 2<<30
		}, "memory: the engine's machine has 2.0 GB"},
		{"clocks apart", func(m *machine, _ *stack.Stack) { m.engineIs.Ahead = -90 * time.Second },
			"clock: they are 1m30s apart"},
		{"a kernel's limit", func(m *machine, s *stack.Stack) {
			s.Services[2].Image, m.kernel = "opensearch:2", 65530
		}, "vm.max_map_count: 65530"},
		{"a kernel's limit that does not matter", func(m *machine, s *stack.Stack) {
			s.Services[2].Image, m.kernel = "opensearch:2", 65530
			s.Services[2].Env = map[string]string{"discovery.type": "single-node"}
		}, ""},
		{"another machine's kernel", func(m *machine, s *stack.Stack) {
			s.Services[2].Image, m.kernel, m.engineIs.Remote = "opensearch:2", 65530, true
		}, ""},
		{"installs that do not fit", func(m *machine, _ *stack.Stack) { m.weighs = 5 << 30 },
			"disk space: 10.0 GB free, of 12.0 GB: about 5.0 GB for the 12 packages of " +
				"web/lock, about 5.0 GB for the 12 packages of admin/lock"},
		{"images that fit", func(m *machine, _ *stack.Stack) {
			m.engineIs.Fetches, m.engineIs.Keeps = 3<<30, "/same"
		}, ""},
		{"images that do not fit elsewhere", func(m *machine, _ *stack.Stack) {
			m.engineIs.Fetches, m.engineIs.Keeps = 3<<30, "/engine"
		}, "disk space of the engine: 1.0 GB free in /engine, of about 3.0 GB for images"},
	} {
		s := app()
		s.Services[2].Container = &stack.ContainerSpec{}
		m := machine{versions: map[string]string{"node": "20.1.0", "npm": "10"}, free: 10 << 30,
			facts: enough}
		c.change(&m, s)
		a := Ask(t.Context(), s, nil, nil, m)
		var got []string
		for _, n := range a.Needs {
			if !n.Met {
				words := n.Name + ": " + n.Found
				if n.Kind == Disk {
					words += ", of " + n.Wanted
				}
				got = append(got, words)
				if n.Remedy == "" || n.Level != Optional {
					t.Errorf("%s: %+v", c.name, n)
				}
			}
		}
		if strings.Join(got, "; ") != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}
