package ecosystem

import (
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// pyproject is what matters of a pyproject.toml: the standard's own table, and those of managers.
type pyproject struct {
	Project struct {
		Name           string
		RequiresPython string              `toml:"requires-python"`
		Dependencies   []string            `toml:"dependencies"`
		Optional       map[string][]string `toml:"optional-dependencies"`
	}
	BuildSystem struct {
		Backend string `toml:"build-backend"`
	} `toml:"build-system"`
	Groups map[string][]any `toml:"dependency-groups"`
	Tool   struct {
		Poetry *struct {
			Name         string
			Dependencies map[string]any
			Group        map[string]struct{ Dependencies map[string]any }
			Source       []pySource
		}
		UV *struct {
			Workspace *struct{ Members, Exclude []string }
			Index     []pySource
		} `toml:"uv"`
	}
}

type pySource struct{ Name, URL string }

type pipfile struct {
	Source   []pySource
	Packages map[string]any
	Dev      map[string]any `toml:"dev-packages"`
	Requires struct {
		Python string `toml:"python_version"`
	}
	Scripts map[string]any
}

type pythonProject struct {
	Folder
	out      *Finding
	manifest string
	uses     map[string]stack.Place // packages, in lower case, and where they are asked for
	run      []string               // what stands before a command of the project
	python   string                 // how the project's own python is called
	bin      string                 // the folder of its programs; empty if run finds them
	sources  []string               // see modules; nil until it was called
}

func readPython(f Folder) (*Finding, error) {
	requirements := f.requirementFiles()
	p := &pythonProject{Folder: f, uses: map[string]stack.Place{}}
	var py pyproject
	var pip pipfile
	if f.Has("pyproject.toml") {
		data, err := f.Read("pyproject.toml")
		if err != nil {
			return nil, err
		}
		if err := parseTOML(f, "pyproject.toml", data, &py); err != nil {
			return nil, err
		}
	}
	if f.Has("Pipfile") {
		data, err := f.Read("Pipfile")
		if err != nil {
			return nil, err
		}
		if err := parseTOML(f, "Pipfile", data, &pip); err != nil {
			return nil, err
		}
	}
	isPackage := py.Project.Name != "" || py.BuildSystem.Backend != ""
	conda := f.first("environment.yml", "environment.yaml")
	manager := ""
	switch {
	case f.Has("uv.lock") || py.Tool.UV != nil && (isPackage || py.Tool.UV.Workspace != nil):
		manager, p.manifest = "uv", "pyproject.toml"
	case f.Has("poetry.lock") || py.Tool.Poetry != nil:
		manager, p.manifest = "poetry", "pyproject.toml"
	case f.Has("Pipfile"):
		manager, p.manifest = "pipenv", "Pipfile"
	case len(requirements) > 0:
		manager, p.manifest = "pip", requirements[0]
	case isPackage:
		manager, p.manifest = "pip", "pyproject.toml"
	case conda != "":
		manager, p.manifest = "conda", conda
	case f.Has("setup.py") || f.Has("manage.py"):
		manager, p.manifest = "pip", f.first("setup.py", "manage.py")
	default:
		return nil, nil
	}
	if _, err := f.Read(p.manifest); f.exists(p.manifest) && err != nil {
		return nil, err
	}
	p.out = f.finding("python", manager, p.manifest, p.manifest+", for "+manager)
	p.out.Project.Name = py.Project.Name
	manager = p.out.Project.Manager
	p.collect(&py, &pip, requirements, conda)
	p.runtimes(&py, &pip, manager)
	p.manager(manager, &py, requirements, conda)
	p.prepareAndServe()
	return p.out, nil
}

// requirementFiles lists the files that pip is to install from: the plain one, or those for work on the project.
func (f Folder) requirementFiles() []string {
	if f.Has("requirements.txt") {
		return []string{"requirements.txt"}
	}
	for _, name := range []string{"requirements/dev.txt", "requirements/local.txt", "requirements/development.txt",
		"requirements/base.txt", "requirements/requirements.txt",
		"requirements-dev.txt", "requirements_dev.txt", "requirements-local.txt", "requirements.in"} {
		if f.exists(name) {
			return []string{name}
		}
	}
	if list := f.named("requirements*.txt"); len(list) > 0 &&
		(f.Has("manage.py") || f.first("app.py", "main.py") != "") {
		return list[:1]
	}
	return nil
}

var (
	requirement = expr.New(`^\s*([A-Za-z0-9][A-Za-z0-9._-]*)`)
	indexOption = expr.New(`^\s*(?:-i|--index-url|--extra-index-url)[\s=]+(\S+)`)
	includes    = expr.New(`^\s*(?:-r|-c|--requirement|--constraint)[\s=]*(\S+)`)
)

// requirements reads a requirements file and those that it includes.
func (p *pythonProject) requirements(name string, seen map[string]bool) (files []string) {
	if name = path.Clean(name); seen[name] || strings.HasPrefix(name, "../..") && p.Path == "." || len(seen) > 50 {
		return nil
	}
	seen[name] = true
	data, err := p.Read(name)
	if err != nil {
		p.out.remark(stack.Warning, "requirements-not-included", p.At(name, 0),
			"an included requirements file can't be read", "Bring it in, or remove the line that includes it.")
		return nil
	}
	files = []string{path.Join(p.Path, name)}
	for i, line := range strings.Split(string(data), "\n") {
		at := p.At(name, i+1)
		switch {
		case includes.MatchString(line):
			files = append(files, p.requirements(path.Join(path.Dir(name), includes.FindStringSubmatch(line)[1]),
				seen)...)
		case indexOption.MatchString(line):
			p.index(indexOption.FindStringSubmatch(line)[1], at)
		default:
			p.package_(line, at)
		}
	}
	return files
}

func (p *pythonProject) package_(line string, at stack.Place) {
	m := requirement.FindStringSubmatch(line)
	if m == nil {
		return
	}
	name := strings.ToLower(strings.NewReplacer("_", "-", ".", "-").Replace(m[1]))
	if _, known := p.uses[name]; !known {
		p.uses[name] = at
	}
}

// index adds a package index that is not the public one.
func (p *pythonProject) index(address string, at stack.Place) {
	if host := hostOf(address); host != "" && host != "pypi.org" && host != "pypi.python.org" {
		p.out.source(address, false, "", at)
	}
}

func (p *pythonProject) collect(py *pyproject, pip *pipfile, requirements []string, conda string) {
	place := func(name string) stack.Place { return p.lineWith("pyproject.toml", name) }
	add := func(list []string) {
		for _, line := range list {
			p.package_(line, place(line))
		}
	}
	add(py.Project.Dependencies)
	for _, name := range sortedKeys(py.Project.Optional) {
		add(py.Project.Optional[name])
	}
	for _, name := range sortedKeys(py.Groups) {
		for _, v := range py.Groups[name] {
			if s, ok := v.(string); ok {
				add([]string{s})
			}
		}
	}
	if poetry := py.Tool.Poetry; poetry != nil {
		add(sortedKeys(poetry.Dependencies))
		for _, g := range sortedKeys(poetry.Group) {
			add(sortedKeys(poetry.Group[g].Dependencies))
		}
		for _, s := range poetry.Source {
			p.index(s.URL, place(s.URL))
		}
		if p.out.Project.Name == "" {
			p.out.Project.Name = poetry.Name
		}
	}
	if uv := py.Tool.UV; uv != nil {
		for _, s := range uv.Index {
			p.index(s.URL, place(s.URL))
		}
		if uv.Workspace != nil {
			p.out.Members = uv.Workspace.Members
			for _, e := range uv.Workspace.Exclude {
				p.out.Members = append(p.out.Members, "!"+e)
			}
		}
	}
	for _, name := range slices.Concat(sortedKeys(pip.Packages), sortedKeys(pip.Dev)) {
		p.package_(name, p.lineWith("Pipfile", name))
	}
	for _, s := range pip.Source {
		p.index(s.URL, p.lineWith("Pipfile", s.URL))
	}
	for _, file := range []string{"pip.conf", "pip.ini"} {
		for i, line := range strings.Split(p.text(file), "\n") {
			if key, value, ok := strings.Cut(line, "="); ok && strings.Contains(key, "index-url") {
				p.index(strings.TrimSpace(value), p.At(file, i+1))
			}
		}
	}
	if conda != "" {
		var y struct{ Dependencies []any }
		if err := parseYAML([]byte(p.text(conda)), &y); err != nil {
			p.out.remark(stack.Warning, "environment-unreadable", p.At(conda, 1),
				"the environment file can't be read: "+err.Error(), "Correct the file.")
		}
		for _, d := range y.Dependencies {
			switch d := d.(type) {
			case string:
				p.package_(d, p.lineWith(conda, d))
			case map[string]any:
				if list, ok := d["pip"].([]any); ok {
					for _, e := range list {
						if s, ok := e.(string); ok {
							p.package_(s, p.lineWith(conda, s))
						}
					}
				}
			}
		}
	}
}

var pythonCaret = expr.New(`^[\^~]?\d`)

func (p *pythonProject) runtimes(py *pyproject, pip *pipfile, manager string) {
	want := func(c string, at stack.Place) {
		if c = strings.ReplaceAll(c, "==", "="); c != "" && c != "*" {
			if strings.HasPrefix(c, "~=") {
				c = "^" + strings.TrimPrefix(c, "~=")
			}
			p.out.wants("python3", c, at)
		}
	}
	want(py.Project.RequiresPython, p.lineWith("pyproject.toml", "requires-python"))
	if py.Tool.Poetry != nil {
		if c, ok := py.Tool.Poetry.Dependencies["python"].(string); ok && pythonCaret.MatchString(c) ||
			strings.HasPrefix(c, ">") || strings.HasPrefix(c, "<") {
			want(c, p.lineWith("pyproject.toml", "python ="))
		}
	}
	if v := pip.Requires.Python; v != "" {
		want(pinned(v), p.lineWith("Pipfile", "python_version"))
	}
	p.versionFile(p.out, "python3", ".python-version")
	if v := strings.TrimSpace(p.text("runtime.txt")); strings.HasPrefix(v, "python-") {
		want(pinned(strings.TrimPrefix(v, "python-")), p.At("runtime.txt", 1))
	}
	delete(p.uses, "python")
	if p.out.Within != nil {
		return
	}
	if len(p.out.Project.Runtimes) == 0 && manager != "uv" && manager != "conda" {
		p.out.wants("python3", "*", p.At(p.manifest, 1))
	}
	if manager != "pip" {
		p.out.wants(manager, "*", p.At(p.manifest, 1))
	}
}

// manager sets how the project is installed and its programs are called: always in an environment of its own,
// so that nothing gets into the machine's own Python.
func (p *pythonProject) manager(name string, py *pyproject, requirements []string, conda string) {
	var s stack.Step
	inputs := []string{p.manifest}
	env := map[string]string{}
	venv := path.Join(p.Path, ".venv")
	switch name {
	case "uv":
		s = p.step(stack.Install, p.At(p.manifest, 1), "uv", "sync")
		if p.Has("uv.lock") {
			s = p.step(stack.Install, p.At("uv.lock", 1), "uv", "sync", "--frozen")
		}
		p.run, p.python = []string{"uv", "run", "--no-sync"}, "python"
		inputs = append(inputs, "uv.lock")
	case "poetry":
		s = p.step(stack.Install, p.At(p.manifest, 1), "poetry", "install", "--no-interaction")
		if !p.installsItself(py) {
			s.Command = append(s.Command, "--no-root")
		}
		if p.Has("poetry.lock") {
			s.At = p.At("poetry.lock", 1)
		}
		env["POETRY_VIRTUALENVS_IN_PROJECT"] = "true"
		p.run, p.python = []string{"poetry", "run"}, "python"
		inputs = append(inputs, "poetry.lock", "poetry.toml")
	case "pipenv":
		s = p.step(stack.Install, p.At(p.manifest, 1), "pipenv", "install", "--dev")
		if p.Has("Pipfile.lock") {
			s = p.step(stack.Install, p.At("Pipfile.lock", 1), "pipenv", "sync", "--dev")
		}
		env["PIPENV_VENV_IN_PROJECT"], env["PIPENV_IGNORE_VIRTUALENVS"] = "1", "1"
		p.run, p.python = []string{"pipenv", "run"}, "python"
		inputs = append(inputs, "Pipfile.lock")
	case "conda":
		s = p.step(stack.Install, p.At(conda, 1), "conda", "env", "update", "--quiet", "--prefix", ".venv", "--file",
			conda)
		p.run, p.python = []string{"conda", "run", "--prefix", ".venv", "--no-capture-output"}, "python"
	default:
		from := "-r " + strings.Join(requirements, " -r ")
		if len(requirements) == 0 {
			from = "-e ."
		}
		if p.manifest == "manage.py" {
			from = "django"
			p.out.remark(stack.Warning, "requirements-missing", p.At("manage.py", 1),
				"no file says what the project needs; its manage.py needs Django, so the newest is installed",
				"Write a requirements.txt.")
		}
		line := "python3 -m venv .venv && .venv/bin/python -m pip install --disable-pip-version-check " + from
		s = p.step(stack.Install, p.At(p.manifest, 1), "sh", "-c", line)
		p.python, p.bin = ".venv/bin/python", ".venv/bin/"
		inputs = append(inputs, "constraints.txt", ".python-version", "setup.py", "setup.cfg")
	}
	if lock := lockNames[name]; lock != "" && !p.Has(lock) {
		s.Inputs = append(s.Inputs, path.Join(p.Path, lock))
	}
	if p.Has(".python-version") {
		inputs = append(inputs, ".python-version")
	}
	s.Outputs, s.Env = []string{venv}, env
	if name == "poetry" || name == "pipenv" {
		s.Outputs = nil // an environment of theirs that is there already may lie anywhere
	}
	for _, r := range requirements {
		if name == "pip" {
			s.Inputs = append(s.Inputs, p.requirements(r, map[string]bool{})...)
		}
	}
	for _, in := range inputs {
		if full := path.Join(p.Path, in); p.exists(in) && !slices.Contains(s.Inputs, full) {
			s.Inputs = append(s.Inputs, full)
		}
	}
	if lock := lockNames[name]; lock != "" && p.out.Within == nil {
		if p.Has(lock) {
			p.out.evidence(p.At(lock, 1), "lock file of "+name)
		} else {
			p.out.remark(stack.Warning, "lock-missing", p.At(p.manifest, 1),
				"there is no "+lock+", so each machine may get other versions",
				"Commit the "+lock+" that the install makes.")
		}
	}
	var locks []string
	for _, lock := range []string{"uv.lock", "poetry.lock", "Pipfile.lock"} {
		if p.Has(lock) {
			locks = append(locks, lock)
		}
	}
	if len(locks) > 1 {
		p.out.remark(stack.Warning, "lock-files-several", p.At(locks[0], 1), "there are several lock files: "+
			strings.Join(locks, ", ")+"; "+name+" is used", "Remove those that are out of date.")
	}
	if name == "pip" {
		// What requirements files bring is known only now; the fixed part of the step says how it is installed.
		p.out.Project.Bin = []string{path.Join(venv, "bin")}
	}
	if p.out.Within == nil {
		p.out.step(s)
	}
	for _, c := range pythonCompiles {
		if at, ok := p.uses[c.name]; ok {
			for _, t := range c.takes {
				p.out.Project.Compiles = append(p.out.Project.Compiles,
					stack.Compile{Package: c.name, Takes: t, Certain: true, At: at})
			}
		}
	}
}

var lockNames = map[string]string{"uv": "uv.lock", "poetry": "poetry.lock", "pipenv": "Pipfile.lock"}

// installsItself reports whether poetry has a package of the project to install.
func (p *pythonProject) installsItself(py *pyproject) bool {
	name := p.out.Project.Name
	folder := strings.ReplaceAll(name, "-", "_")
	return name != "" && (p.exists(folder) || p.exists("src/"+folder) || p.Has(folder+".py"))
}

// pythonCompiles are packages that come as source, and what their C parts need.
var pythonCompiles = []struct {
	name  string
	takes []string
}{
	{"psycopg2", []string{"gcc", "pg_config"}}, {"mysqlclient", []string{"gcc", "pkg-config", "mysql_config"}},
	{"uwsgi", []string{"gcc"}},
	{"python-ldap", []string{"gcc", "ldap headers"}}, {"pycairo", []string{"gcc", "pkg-config"}},
	{"pygraphviz", []string{"gcc"}}, {"xmlsec", []string{"gcc", "pkg-config"}},
	{"dbus-python", []string{"gcc", "pkg-config"}}, {"pyodbc", []string{"gcc"}}, {"m2crypto", []string{"gcc", "swig"}},
	{"pygobject", []string{"gcc", "pkg-config"}},
}

// call makes a command of the project's own environment.
func (p *pythonProject) call(program string, words ...string) []string {
	if program == "python" {
		program = p.python
	} else if p.bin != "" {
		return slices.Concat(p.run, []string{p.python, "-m", program}, words)
	}
	return slices.Concat(p.run, []string{program}, words)
}

func (p *pythonProject) has(names ...string) (stack.Place, bool) {
	for _, n := range names {
		if at, ok := p.uses[n]; ok {
			return at, true
		}
	}
	return stack.Place{}, false
}
