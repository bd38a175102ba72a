package ecosystem

import (
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// tasks are files of tasks that are called by name. They make a project only of a folder without any other.
var tasks = &Ecosystem{
	Name: "make",
	Managers: []*Manager{
		{Name: "make", Tasks: true, Tools: []Tool{{Name: "make",
			Packages: map[string]string{"apt": "make", "dnf": "make", "brew": "make", "apk": "make"}}}},
		{Name: "just", Tasks: true, Tools: []Tool{{Name: "just"}}},
		{Name: "task", Tasks: true, Tools: []Tool{{Name: "task"}}},
	},
	Manifests: []string{"Makefile", "makefile", "GNUmakefile", "justfile", "Taskfile.yml", "Taskfile.yaml"},
}

// taskFiles are the files that hold tasks to be called by name, with the program that calls them.
var taskFiles = []struct{ file, program string }{
	{"Makefile", "make"}, {"makefile", "make"}, {"GNUmakefile", "make"}, {"justfile", "just"}, {"Taskfile.yml", "task"},
	{"Taskfile.yaml", "task"},
}

var (
	makeTarget = expr.New(`^([A-Za-z0-9][\w.\-/]*)\s*:([^=]|$)(.*)$`)
	justRecipe = expr.New(`^@?([A-Za-z][\w-]*)(?:\s+[^:]*)?:([^=]|$)`)
	taskPort   = expr.New(`(?m)^\s*(?:export\s+)?PORT\s*[:?]?=\s*(\d{2,5})`)
	helpText   = expr.New(`##+\s*(.+)$`)
)

// Targets reads the entries of the folder's task file, and tells the program that calls them.
func (f Folder) Targets() (program, file string, out []stack.Target) {
	for _, t := range taskFiles {
		if !f.Has(t.file) {
			continue
		}
		data, err := f.Read(t.file)
		if err != nil {
			continue
		}
		if t.program == "task" {
			return t.program, t.file, f.taskfile(t.file, data)
		}
		return t.program, t.file, f.recipes(t.file, t.program, string(data))
	}
	return "", "", nil
}

// recipes reads a file of targets whose lines are indented below them.
func (f Folder) recipes(file, program, text string) []stack.Target {
	var out []stack.Target
	comment := ""
	for i, line := range strings.Split(strings.ReplaceAll(text, "\\\n", "  "), "\n") {
		line = strings.TrimRight(line, "\r")
		trimmed := strings.TrimSpace(line)
		switch {
		case trimmed == "":
			comment = ""
		case strings.HasPrefix(line, "#"):
			comment = strings.TrimSpace(strings.TrimLeft(line, "#"))
		case line[0] == '\t' || line[0] == ' ':
			if len(out) > 0 && (line[0] == '\t' || program == "just") {
				last := &out[len(out)-1]
				last.Lines = append(last.Lines, strings.TrimLeft(trimmed, "@-"))
			}
		default:
			expr := makeTarget
			if program == "just" {
				expr = justRecipe
			}
			m := expr.FindStringSubmatch(line)
			if m == nil {
				comment = ""
				continue
			}
			t := stack.Target{Name: m[1], Help: comment, At: f.At(file, i+1)}
			if h := helpText.FindStringSubmatch(line); h != nil {
				t.Help = strings.TrimSpace(h[1])
			}
			if program == "make" {
				rest, _, _ := strings.Cut(m[2]+m[3], "#")
				for _, dep := range strings.Fields(rest) {
					if dep != "|" && !strings.ContainsAny(dep, "$%") {
						t.Lines = append(t.Lines, "make "+dep)
					}
				}
			}
			out = append(out, t)
			comment = ""
		}
	}
	return out
}

// taskfile reads tasks from YAML.
func (f Folder) taskfile(file string, data []byte) []stack.Target {
	var y struct {
		Tasks map[string]any `yaml:"tasks"`
	}
	if parseYAML(data, &y) != nil {
		return nil
	}
	var out []stack.Target
	for _, name := range sortedKeys(y.Tasks) {
		t := stack.Target{Name: name, At: f.lineWith(file, "  "+name+":")}
		cmds := y.Tasks[name]
		if m, ok := cmds.(map[string]any); ok {
			t.Help, _ = m["desc"].(string)
			cmds = m["cmds"]
			if one, ok := m["cmd"].(string); ok {
				cmds = one
			}
		}
		switch c := cmds.(type) {
		case string:
			t.Lines = []string{c}
		case []any:
			for _, e := range c {
				if s, ok := e.(string); ok {
					t.Lines = append(t.Lines, s)
				}
			}
		}
		out = append(out, t)
	}
	return out
}

// taskRoles tell what a task of a usual name is for.
var taskRoles = []struct {
	role  stack.Role
	names []string
}{
	{stack.Install, []string{"install", "setup", "deps", "dependencies", "bootstrap", "init"}},
	{stack.Build, []string{"build", "compile"}},
	{stack.Generate, []string{"generate", "gen", "codegen"}},
	{stack.Create, []string{"db-create", "create-db", "createdb"}},
	{stack.Migrate, []string{"migrate", "db-migrate", "migrations", "migrate-up"}},
	{stack.Seed, []string{"seed", "db-seed"}},
	{stack.Test, []string{"test", "tests"}},
}

var (
	serveTasks  = []string{"dev", "serve", "run", "start", "up"}
	engineCalls = expr.New(`\b(docker|podman|nerdctl|docker-compose)\b`)
	serverLine  = expr.New(
		`\b(serve|server|runserver|run dev|start|uvicorn|gunicorn|flask|go run|cargo run|rackup|puma|php -S|` +
			`http\.server|\./\S+|node \S+)\b`)
)

// readTasks makes a project of a folder that has no other manifest than a task file; nil if it has none.
func readTasks(f Folder) *Finding {
	program, file, targets := f.Targets()
	if len(targets) == 0 {
		return nil
	}
	out := f.finding("make", "make", file, file)
	p := &out.Project
	p.Targets = targets
	out.wants(program, "*", f.At(file, 1))
	find := func(names []string) *stack.Target {
		for _, n := range names {
			for i := range targets {
				if targets[i].Name == n && len(targets[i].Lines) > 0 {
					return &targets[i]
				}
			}
		}
		return nil
	}
	runsContainers := func(t *stack.Target) bool {
		return slices.ContainsFunc(t.Lines, engineCalls.MatchString)
	}
	serve := find(serveTasks)
	first := &targets[0]
	if program == "make" && (serve == nil || first == serve) &&
		slices.ContainsFunc(first.Lines, serverLine.MatchString) {
		// Its first target is what it does when it is called without a name.
		serve = first
	}
	for _, r := range taskRoles {
		if t := find(r.names); t != nil && !runsContainers(t) && t != serve &&
			!(serve != nil && slices.Contains(serve.Lines, program+" "+t.Name) && r.role != stack.Install) {
			s := f.step(r.role, t.At, program, t.Name)
			s.Expands = t.Lines
			out.step(s)
		}
	}
	if serve != nil && !runsContainers(serve) {
		command := []string{program, serve.Name}
		if serve == first && program == "make" {
			command = []string{program}
		}
		v := stack.Serve{Command: command, At: serve.At, Expands: serve.Lines, PortBy: stack.PortBy{Env: "PORT"}}
		if port := PortIn(strings.Join(serve.Lines, "\n")); port > 0 {
			v.Ports = httpPort(port, serve.At)
		} else if port, at := f.PortSetting(); port > 0 {
			v.Ports = httpPort(port, at)
		} else if port, at := f.portByCode(taskPort,
			file); port > 0 {
			v.Ports = httpPort(port, at)
		}
		p.Serve = &v
	}
	return out
}

// Process is a line of a Procfile.
type Process struct {
	Name, Line string
	At         stack.Place
}

var procLine = expr.New(`^([A-Za-z0-9_-]+):\s*(.+?)\s*$`)

// Procfile reads the processes that the folder's Procfile names; the one for work on the project goes first.
func (f Folder) Procfile() []Process {
	name := f.first("Procfile.dev", "Procfile.local", "Procfile")
	if name == "" || !f.Has(name) {
		return nil
	}
	var out []Process
	for i, line := range strings.Split(f.text(name), "\n") {
		if m := procLine.FindStringSubmatch(strings.TrimRight(line, "\r")); m != nil {
			out = append(out, Process{m[1], m[2], f.At(name, i+1)})
		}
	}
	return out
}
