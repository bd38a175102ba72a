package ecosystem

import (
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// pythonRange are the forms of a version that poetry and Python read alike, or that are translated.
var pythonRange = expr.New(`^([\^~]?\d|[<>])`)

func (p *pythonProject) runtimes(manager *Manager) {
	py, pip := &p.py, &p.pipfile
	want := func(c string, at stack.Place) {
		if c = compatible(c); c != "" && c != "*" {
			p.out.wants("python3", c, at)
		}
	}
	want(py.Project.RequiresPython, p.lineWith("pyproject.toml", "requires-python"))
	if py.Tool.Poetry != nil {
		if c, ok := py.Tool.Poetry.Dependencies["python"].(string); ok &&
			pythonRange.MatchString(c) {
			want(c, p.lineWith("pyproject.toml", "python ="))
		}
	}
	if v := pip.Requires.Python; v != "" {
		want(pinned(v), p.lineWith("Pipfile", "python_version"))
	}
	if m := setupPython.FindStringSubmatch(p.text("setup.py") + "\n" +
		p.text("setup.cfg")); m != nil {
		want(m[1], p.lineWith(p.first("setup.py", "setup.cfg"), "python_requires"))
	}
	p.versionFile(p.out, "python3", ".python-version")
	if v := strings.TrimSpace(p.text("runtime.txt")); strings.HasPrefix(v, "python-") {
		hint := pins("python3", strings.TrimPrefix(v, "python-"), p.At("runtime.txt", 1))
		hint.Hint = true // of the host where it is deployed
		p.out.Project.Runtimes = append(p.out.Project.Runtimes, hint)
	}
	for i := range p.out.Project.Runtimes {
		r := &p.out.Project.Runtimes[i]
		r.Brought = r.Tool == "python3" && manager.python.brings
	}
	delete(p.uses, "python")
	if p.out.Within != nil {
		return
	}
	if !slices.ContainsFunc(p.out.Project.Runtimes,
		func(r stack.Runtime) bool { return !r.Hint }) && !manager.python.brings {
		p.out.wants("python3", "*", p.At(p.manifest, 1))
	}
	if len(manager.Tools) > 0 {
		p.out.wants(manager.Name, "*", p.At(p.manifest, 1))
	}
}

// compatible is a version specifier of PEP 440 in the form that all ecosystems share. With ~= all
// but the last number of the version stay as they are.
func compatible(c string) string {
	c = strings.ReplaceAll(c, "==", "=")
	last, ok := strings.CutPrefix(c, "~=")
	switch {
	case !ok:
		return c
	case strings.Count(last, ".") > 1:
		return "~" + last
	}
	return "^" + last
}

var setupPython = expr.New(`python_requires\s*=\s*["']?([^"'\n]+)`)

// install adds the install by the project's manager.
func (p *pythonProject) install(manager *Manager) {
	if p.pythonWays = manager.python.ways(p); p.python == "" {
		p.python = "python"
	}
	venv := path.Join(p.Path, ".venv")
	if w := p.out.Within; w != nil && p.bin != "" {
		// its environment is that of the project around it
		venv = path.Join(w.Project.Path, ".venv")
		if rel, err := filepath.Rel(p.Path, path.Join(venv, "bin")); err == nil {
			p.bin = filepath.ToSlash(rel) + "/"
			p.python = p.bin + "python"
		}
	}
	p.out.Project.Prefix = p.run
	p.out.Project.Bin = []string{path.Join(venv, "bin")}
	p.saysOfLocks(manager)
	if p.out.Within == nil {
		p.out.step(p.installStep(manager, venv))
	}
	for _, c := range pythonCompiles {
		at, uses := p.uses[c.name]
		if _, theirs := p.theirs[c.name]; uses && !theirs && !p.extra[c.name] {
			p.compiles(c.name, c.takes, at)
		}
	}
}

// lock is the lock file that a manager makes; empty for none.
func (m *Manager) lock() string {
	if len(m.Locks) == 0 {
		return ""
	}
	return m.Locks[0]
}

// installStep installs into an environment, by what it depends on.
func (p *pythonProject) installStep(manager *Manager, venv string) stack.Step {
	at, lock := p.At(p.manifest, 1), manager.lock()
	if lock != "" && p.Has(lock) {
		at = p.At(lock, 1)
	}
	s := p.step(stack.Install, at, p.pythonWays.install...)
	s.As = p.as
	if lock != "" && !p.Has(lock) {
		s.Inputs = append(s.Inputs, path.Join(p.Path, lock))
	}
	s.Inputs = append(s.Inputs, p.read...)
	if maps.Copy(s.Env, p.env); !p.elsewhere {
		s.Outputs = []string{venv}
	}
	inputs := append([]string{p.manifest}, p.inputs...)
	if p.Has(".python-version") {
		inputs = append(inputs, ".python-version")
	}
	for _, in := range inputs {
		if full := path.Join(p.Path, in); p.exists(in) && !slices.Contains(s.Inputs, full) {
			s.Inputs = append(s.Inputs, full)
		}
	}
	return s
}

// saysOfLocks names the lock file, or says that there is none, or that there are several.
func (p *pythonProject) saysOfLocks(manager *Manager) {
	lock := manager.lock()
	switch {
	case lock == "" || p.out.Within != nil:
	case p.Has(lock):
		p.out.names(manager.Name, p.At(lock, 1), "lock file of "+manager.Name)
	default:
		p.out.remark(stack.Warning, stack.CodeLockMissing, p.At(p.manifest, 1),
			"there is no "+lock+", so each machine may get other versions",
			"Commit the "+lock+" that the install makes.")
	}
	var locks []string
	for _, m := range python.Managers {
		locks = append(locks, slices.DeleteFunc(slices.Clone(m.Locks),
			func(l string) bool { return !p.Has(l) })...)
	}
	if len(locks) > 1 {
		p.out.remark(stack.Warning, stack.CodeLockFilesSeveral, p.At(locks[0], 1),
			"there are several lock files: "+strings.Join(locks, ", ")+"; "+manager.Name+
				" is used", "Remove those that are out of date.")
	}
}

// compiles says what a package is compiled with, and the language's headers, unless the manager
// fetches an interpreter that has them.
func (p *pythonProject) compiles(name string, takes []string, at stack.Place) {
	if m := ManagerNamed(p.out.Project.Manager); m == nil || !m.python.brings {
		takes = append(slices.Clip(takes), pythonHeaders)
	}
	for _, t := range takes {
		p.out.Project.Compiles = append(p.out.Project.Compiles,
			stack.Compile{Package: name, Takes: t, Certain: true, At: at})
	}
}

// pythonCompiles are packages that come as source, and what their C parts need.
var pythonCompiles = []struct {
	name  string
	takes []string
}{
	{"psycopg2", []string{"gcc", "pg_config"}}, {"mysqlclient",
		[]string{"gcc", "pkg-config", "mysql_config"}},
	{"uwsgi", []string{"gcc"}}, {"python-ldap", []string{"gcc", "ldap headers"}},
	{"pycairo", against([]string{"gcc", "pkg-config"}, "cairo")}, {"pygraphviz",
		against([]string{"gcc"}, "libcgraph")},
	{"xmlsec", against([]string{"gcc", "pkg-config"}, "xmlsec1")},
	{"dbus-python", against([]string{"gcc", "pkg-config"}, "dbus-1")}, {"pyodbc", []string{"gcc"}},
	{"m2crypto", []string{"gcc", "swig", "openssl headers"}},
	{"pygobject", against([]string{"gcc", "pkg-config"}, "cairo", "gobject-introspection-1.0")},
}

// pythonHeaders are what all of them take, of the very Python that they are compiled for.
const pythonHeaders = "python headers"

// whereHeaders asks a Python for its headers, and heeds no file where it is asked.
var whereHeaders = []string{"-I", "-c",
	"import os, sysconfig; d = sysconfig.get_paths()['include']; " +
		"print('found in ' + d if os.path.exists(os.path.join(d, 'Python.h')) else '')"}
