package ecosystem

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// tasks are files of tasks that are called by name. They make a project only of a folder without
// any other.
var tasks = &Ecosystem{
	Name: "make",
	Managers: []*Manager{
		{Name: "make", Tasks: true, Tools: []Tool{{Name: "make",
			Packages: map[string]string{"pacman": "make", "apt": "make", "dnf": "make",
				"brew": "make", "apk": "make"}}}},
		{Name: "just", Tasks: true, Tools: []Tool{{Name: "just"}}},
		{Name: "task", Tasks: true, Tools: []Tool{{Name: "task"}}},
	},
	Manifests: []string{"Makefile", "makefile", "GNUmakefile", "justfile", "Taskfile.yml",
		"Taskfile.yaml"},
}

// taskFiles are the files that hold tasks to be called by name, with the program that calls them.
var taskFiles = []struct{ file, program string }{
	{"Makefile", "make"}, {"makefile", "make"}, {"GNUmakefile", "make"}, {"justfile",
		"just"}, {"Taskfile.yml", "task"},
	{"Taskfile.yaml", "task"},
}

var (
	makeTarget = expr.New(`^((?:\.{1,2}/)*[A-Za-z0-9][\w.\-/]*)\s*:([^=]|$)(.*)$`)
	justRecipe = expr.New(`^@?([A-Za-z_][\w-]*)(?:\s+[^:]*)?:([^=]|$)(.*)$`)
	plainTask  = expr.New(`^[\w./@+-]+$`)
	taskPort   = expr.New(`(?m)^\s*(?:export\s+)?PORT\s*[:?]?=\s*(\d{2,5})`)
	helpText   = expr.New(`##+\s*(.+)$`)
)

// Targets reads the entries of the folder's task file, and tells the program that calls them.
func (f Folder) Targets() (program, file string, out []stack.Target) {
	defer func() {
		for i := range out {
			out[i].Program = program
		}
	}()
	for _, t := range taskFiles {
		if !f.Has(t.file) {
			continue
		}
		data, err := f.Read(t.file)
		if err != nil {
			continue
		}
		return t.program, t.file, taskFolder{f}.targetsIn(t.program, t.file, data)
	}
	return "", "", nil
}

// taskFolder reads the files of tasks in a folder.
type taskFolder struct{ Folder }

// targetsIn reads a file of tasks as a program does.
func (f taskFolder) targetsIn(program, file string, data []byte) []stack.Target {
	if program == "task" {
		return f.taskfile(file, data)
	}
	text := string(data)
	out := f.recipes(file, program, text)
	if program == "make" {
		f.expand(out, text)
	}
	return out
}

// goesOn stands for the end of a line that goes on in the next.
const goesOn = "\x00"

func betweenTasks(r rune) bool { return strings.ContainsRune(" \t()", r) }

// recipes reads a file of targets whose lines are indented below them.
func (f taskFolder) recipes(file, program, text string) []stack.Target {
	var out []stack.Target
	comment, named := "", false // whether the rule that is read has a plain name
	number, next := 0, 1
	for _, line := range strings.Split(strings.ReplaceAll(text, "\\\n", goesOn), "\n") {
		number, next = next, next+1+strings.Count(line, goesOn)
		line = strings.TrimRight(strings.ReplaceAll(line, goesOn, "  "), "\r")
		trimmed := strings.TrimSpace(line)
		switch {
		case trimmed == "":
			comment = ""
		case strings.HasPrefix(line, "#"):
			comment = strings.TrimSpace(strings.TrimLeft(line, "#"))
		case line[0] == '\t' || line[0] == ' ':
			if named && (line[0] == '\t' || program == "just") {
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
				comment, named = "", named && !strings.Contains(line, ":")
				continue
			}
			named = true
			t := stack.Target{Name: m[1], Help: comment, At: f.At(file, number),
				Lines: callsBefore(program, m[2]+m[3])}
			if h := helpText.FindStringSubmatch(line); h != nil {
				t.Help = strings.TrimSpace(h[1])
			}
			out = append(out, t)
			comment = ""
		}
	}
	return out
}

// callsBefore are the calls of what a target needs first, by what stands behind its name.
func callsBefore(program, text string) (calls []string) {
	between := unicode.IsSpace
	if program == "just" {
		between = betweenTasks // with arguments in brackets
	}
	names, _, _ := strings.Cut(text, "#")
	for _, dep := range strings.FieldsFunc(names, between) {
		if plainTask.MatchString(dep) || makeVariable.FindString(dep) == dep {
			calls = append(calls, program+" "+dep)
		}
	}
	return calls
}

var (
	makeSet      = expr.New(`^ *(?:export\s+|override\s+)*([A-Za-z_][\w.-]*)[ \t]*(\?|::?:?|\+)?=[ \t]*([^#]*)`)
	makeInclude  = expr.New(`(?m)^-?include[ \t]+([\w./-]+)[ \t]*$`)
	makeVariable = expr.New(`\$[({]([A-Za-z_][\w.-]*)[)}]`)
)

// maxIncludes and maxExpanded bound how many files of a Makefile are read, and how long a line with
// the values of its variables may get.
const (
	maxIncludes = 8
	maxExpanded = 4096
)

// expand puts the values of plain variables into the lines of a Makefile's targets. What make finds
// out by itself stays as it is written.
func (f taskFolder) expand(targets []stack.Target, text string) {
	set := map[string]string{"MAKE": "make", "CURDIR": ".", "PWD": "."}
	texts := []string{text}
	for i := 0; i < len(texts) && i < maxIncludes; i++ {
		for _, m := range makeInclude.FindAllStringSubmatch(texts[i], -1) {
			texts = append(texts, f.text(m[1]))
		}
	}
	for _, text := range slices.Backward(texts) { // what is included mostly stands first
		makeValues(text, set)
	}
	for i := range targets {
		for k, line := range targets[i].Lines {
			targets[i].Lines[k] = makeExpanded(line, set)
		}
	}
}

// makeExpanded is a text with the values of the variables that are known.
func makeExpanded(text string, set map[string]string) string {
	for range maxIncludes {
		next := makeVariable.ReplaceAllStringFunc(text, func(name string) string {
			value, known := set[name[2:len(name)-1]]
			value = strings.ReplaceAll(value, "$(shell pwd)", ".")
			if !known || strings.Contains(value, "$(shell") {
				return name
			}
			return value
		})
		if next == text || len(next) > maxExpanded {
			break
		}
		text = next
	}
	return text
}

// makeValues adds the values of a Makefile's variables, those of a condition that can't be decided
// here in their order.
func makeValues(text string, set map[string]string) {
	var skips []bool // of the conditions around a line, whether it is left out by them
	decided := []bool{}
	for _, line := range strings.Split(strings.ReplaceAll(text, "\\\n", " "), "\n") {
		line = strings.TrimRight(line, "\r")
		word, rest, _ := strings.Cut(strings.TrimSpace(line), " ")
		switch word {
		case "ifeq", "ifneq", "ifdef", "ifndef":
			holds, known := makeHolds(word, strings.TrimSpace(rest), set)
			skips, decided = append(skips, known && !holds), append(decided, known)
			continue
		case "else":
			if n := len(skips) - 1; n >= 0 && decided[n] {
				skips[n] = !skips[n]
			}
			continue
		case "endif":
			if n := len(skips) - 1; n >= 0 {
				skips, decided = skips[:n], decided[:n]
			}
			continue
		}
		m := makeSet.FindStringSubmatch(line)
		if m == nil || slices.Contains(skips, true) {
			continue
		}
		value, before := strings.TrimSpace(m[3]), set[m[1]]
		_, known := set[m[1]]
		switch {
		case m[2] == "?" && known, slices.Contains(decided, false) && known:
		case m[2] == "+" && known:
			set[m[1]] = before + " " + value
		case m[2] != "" && m[2] != "?" && m[2] != "+":
			set[m[1]] = makeExpanded(value, set)
		default:
			set[m[1]] = value
		}
	}
}

// makeHolds decides a condition of a Makefile; known is false where only make could.
func makeHolds(word, rest string, set map[string]string) (holds, known bool) {
	if word == "ifdef" || word == "ifndef" {
		_, there := set[rest]
		return there == (word == "ifdef"), true
	}
	rest = strings.TrimSuffix(strings.TrimPrefix(rest, "("), ")")
	a, b, ok := strings.Cut(rest, ",")
	if !ok {
		a, b, ok = strings.Cut(rest, " ")
	}
	plain := func(text string) string {
		text = makeVariable.ReplaceAllString(makeExpanded(strings.Trim(strings.TrimSpace(text),
			`"'`), set), "")
		return strings.TrimSpace(text)
	}
	a, b = plain(a), plain(b)
	return (a == b) == (word == "ifeq"), ok && !strings.Contains(a+b, "$")
}

// taskfile reads tasks from YAML.
func (f taskFolder) taskfile(file string, data []byte) []stack.Target {
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
			for _, dep := range listOf(m["deps"]) {
				if task, named := fieldOf(dep, "task"); named {
					dep = task
				}
				if task, ok := dep.(string); ok {
					t.Lines = append(t.Lines, "task "+task)
				}
			}
			cmds = cmp.Or(m["cmds"], m["cmd"])
		}
		for _, e := range listOf(cmds) {
			line, _ := e.(string)
			if task, ok := fieldOf(e, "task"); ok {
				line = fmt.Sprint("task ", task)
			}
			for _, key := range []string{"cmd", "defer"} {
				if inner, ok := fieldOf(e, key); ok {
					line, _ = inner.(string)
				}
			}
			if line != "" {
				t.Lines = append(t.Lines, line)
			}
		}
		out = append(out, t)
	}
	return out
}

// listOf is a list, or a list of the one thing that stands in its place.
func listOf(value any) []any {
	if list, ok := value.([]any); ok {
		return list
	}
	if value == nil {
		return nil
	}
	return []any{value}
}

// fieldOf is the value of a key, if it is a table that is given.
func fieldOf(value any, key string) (any, bool) {
	m, _ := value.(map[string]any)
	inner, ok := m[key]
	return inner, ok
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

// ServeTasks are the usual names of tasks that serve, those for work on the code first.
var ServeTasks = []string{"dev", "serve", "run", "start", "up"}

var (
	engineCalls = expr.New(`\b(docker|podman|nerdctl|docker-compose)\b`)
	serverLine  = expr.New(
		`\b(serve|server|runserver|run dev|start|uvicorn|gunicorn|flask|go run|cargo run|rackup|puma|php -S|` +
			`http\.server|\./\S+|node \S+)\b`)
)

// readTasks makes a project of a folder that has no other manifest than a task file; nil if it has
// none.
func readTasks(f Folder) *Finding {
	program, file, targets := f.Targets()
	if len(targets) == 0 {
		return nil
	}
	out := f.finding("make", "make", file, file)
	out.Project.Targets = targets
	out.wants(program, "*", f.At(file, 1))
	serve, alone := servingTarget(program, targets)
	for _, r := range taskRoles {
		t := targetOf(targets, r.names)
		if t == nil || runsContainers(t) || t == serve {
			continue
		}
		along := serve != nil && slices.Contains(serve.Lines, program+" "+t.Name)
		if along && r.role != stack.Install {
			continue // what serves does it by itself
		}
		s := f.step(r.role, t.At, program, t.Name)
		s.Expands = t.Lines
		out.step(s)
	}
	if serve != nil && !runsContainers(serve) {
		v := stack.Serve{Command: []string{program, serve.Name}, At: serve.At, Expands: serve.Lines,
			PortBy: stack.PortBy{Env: "PORT"}}
		if alone {
			v.Command = v.Command[:1]
		}
		if port := PortIn(strings.Join(serve.Lines, "\n")); port > 0 {
			v.Ports = httpPort(port, serve.At)
		} else if port, at := f.PortSetting(); port > 0 {
			v.Ports = httpPort(port, at)
		} else if port, at := f.portByCode(taskPort, file); port > 0 {
			v.Ports = httpPort(port, at)
		}
		out.Project.Serve = &v
	}
	return out
}

// targetOf is the first target of one of the names that does something; nil for none.
func targetOf(targets []stack.Target, names []string) *stack.Target {
	for _, n := range names {
		for i := range targets {
			if targets[i].Name == n && len(targets[i].Lines) > 0 {
				return &targets[i]
			}
		}
	}
	return nil
}

func runsContainers(t *stack.Target) bool {
	return slices.ContainsFunc(t.Lines, engineCalls.MatchString)
}

// servingTarget is the target that serves; alone tells that it is what the program does without a
// name, as make does the first.
func servingTarget(program string, targets []stack.Target) (serve *stack.Target, alone bool) {
	serve = targetOf(targets, ServeTasks)
	first := &targets[0]
	if program == "make" && (serve == nil || first == serve) &&
		slices.ContainsFunc(first.Lines, serverLine.MatchString) {
		serve = first
	}
	return serve, serve == first && program == "make"
}

// Process is a line of a Procfile.
type Process struct {
	Name, Line string
	At         stack.Place
}

var procLine = expr.New(`^([A-Za-z0-9_-]+):\s*(.+?)\s*$`)

// Procfile reads the processes that the folder's Procfile names; the one for work on the project
// goes first.
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

// ServesTask reports whether the lines of a task serve on the machine itself.
func ServesTask(t *stack.Target) bool {
	return slices.ContainsFunc(t.Lines, serverLine.MatchString) &&
		!slices.ContainsFunc(t.Lines, engineCalls.MatchString)
}

// BuildOf is the command by which the tools of a project's language make a program of that name;
// nil if nothing in the folder is known to make it.
func BuildOf(f Folder, p *stack.Project, program string) []string {
	name := path.Base(program)
	if p.Ecosystem != golang.Name {
		return nil
	}
	if dir := path.Join("cmd", name); f.exists(dir) {
		return []string{"go", "build", "-o", program, "./" + dir}
	}
	if module := Unversioned(p.Name); path.Base(module) == name &&
		goMain.MatchString(f.text("main.go")) {
		return []string{"go", "build", "-o", program, "."}
	}
	return nil
}

// Unversioned is a project's name without the number that a module's path ends in, from its second
// version on.
func Unversioned(name string) string { return goMajor.ReplaceAllString(name, "") }

var goMajor = expr.New(`/v\d+$`)

// InContainers reports whether a task calls the container engine.
func InContainers(t *stack.Target) bool {
	return slices.ContainsFunc(t.Lines, engineCalls.MatchString)
}
