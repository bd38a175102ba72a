package ecosystem

import (
	"maps"
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
		Scripts        map[string]string
	}
	BuildSystem struct {
		Backend string `toml:"build-backend"`
	} `toml:"build-system"`
	Groups map[string][]any `toml:"dependency-groups"`
	Tool   struct {
		Poetry *struct {
			Name         string
			Dependencies map[string]any
			Scripts      map[string]any
			Group        map[string]struct{ Dependencies map[string]any }
			Source       []pySource
		}
		PDM *struct{ Scripts map[string]any } `toml:"pdm"`
		UV  *struct {
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

// python is Python. The one of its managers counts whose files a project has first in this order.
var python = &Ecosystem{
	Name:       "python",
	Managers:   []*Manager{uv, poetry, pdm, pipenv, pip, conda},
	Frameworks: frameworksOfPython(),
	Manifests: []string{"requirements*.txt", "pyproject.toml", "Pipfile", "setup.py", "manage.py",
		"environment.yml", "environment.yaml"},
	Made:     []string{".venv", "venv", "__pycache__", ".tox", ".mypy_cache", ".pytest_cache"},
	Endings:  []string{".py"},
	Language: pythonCode,
	Given:    []string{"FLASK_ENV", "DJANGO_SETTINGS_MODULE"},
	Tools: []Tool{{Name: "python3", Called: []string{"python"}, Images: []string{"python"},
		Packages: map[string]string{"pacman": "python", "apt": "python3 python3-venv",
			"dnf": "python3", "brew": "python", "apk": "python3"}},
		{Name: pythonHeaders, Program: "python3", Ask: whereHeaders,
			Find: func(said, _ string) string { return said },
			Packages: map[string]string{"apt": "python3-dev", "dnf": "python3-devel",
				"apk": "python3-dev", "brew": "python", "pacman": "python"}}},
	VersionManagers: []string{"pyenv"},
	Logins: []string{".config/pip/pip.conf", ".pip/pip.conf",
		".config/pypoetry/auth.toml"},
	Public: pypi,
	Verbs: []Verb{
		{stack.Install, []string{"python venv", "venv", "virtualenv", "source|. *activate"}},
		{stack.Test, []string{"pytest", "python manage.py test"}},
		{
			Serves,
			[]string{"python manage.py runserver", "python *.py $", "flask run|app", "flask $",
				"http.server", "uvicorn *", "gunicorn *", "streamlit *"},
		},
	},
	Aliases: map[string]string{"python3": "python", "py": "python", ".venv/bin/python": "python",
		"./manage.py": "python manage.py", "manage.py": "python manage.py"},
	Wrappers: []string{"python3 -m", "python -m", ".venv/bin/python -m", "py -m"},
}

var pythonCode = &Language{
	Comments: hash,
	Quotes:   pythonQuotes(),
	Accesses: slices.Concat(
		holds(true, "os.environ"), callsFor(false, "os.environ.get", "os.getenv"), []Access{
			{Path: "environ", Holds: true, Must: true, With: []string{"import environ"}},
			{Path: "environ.get", With: []string{"import environ"}},
			{Path: "getenv", With: []string{"import getenv"}},
			{Path: "os.environ.setdefault", Sets: true},
			// Of libraries that read files of settings, too.
			{Path: "env", Methods: true, Must: true, Default: []string{"default"},
				With: []string{"import environ", "from environ"}},
			{Path: "env", Methods: true, Default: []string{"default"}},
			{Path: "config", Must: true, Default: []string{"default"}, With: []string{"decouple"}},
		}),
	Else: usualElse,
	Schemas: []Schema{{Library: []string{"pydantic"}, With: []string{"BaseSettings"},
		Class: "BaseSettings", Prefix: "env_prefix",
		Named: []string{"validation_alias", "alias", "env"},
		Open:  []string{"None", "default", "default_factory"}}},
}

// pythonQuotes are those of Python, also formatted and raw ones (The Python Language Reference,
// 2.4.1).
func pythonQuotes() (out []Quote) {
	for _, mark := range []string{`"`, `'`, `"""`, `'''`} {
		for _, prefix := range []string{"", "f", "F", "r", "R", "b", "rb"} {
			q := Quote{Open: prefix + mark, Close: mark, Lines: len(mark) > 1}
			if q.Raw = strings.HasPrefix(prefix, "r"); prefix == "f" || prefix == "F" {
				q.Code = "{"
			}
			out = append(out, q)
		}
	}
	return out
}

// pythonManager is what of a manager matters for the reading of a project.
type pythonManager struct {
	// claims gives the manifest by which the project is the manager's; empty if it isn't.
	claims func(p *pythonProject) string
	// ways tells how it does things for the project. It may add remarks.
	ways func(p *pythonProject) pythonWays
	// brings is true where the manager brings Python along.
	brings bool
}

// pythonWays are how a manager does things for one project: always in an environment of its own, so
// that nothing gets into the machine's own Python.
type pythonWays struct {
	install []string
	// the install by which it is remembered, where that is another one; nil for none
	as     []string
	env    map[string]string
	run    []string // what stands before a command of the project
	python string   // how the project's own python is called; empty for python
	bin    string   // the folder of its programs; empty if run finds them
	// files, relative to the project, that the install depends on besides the manifest, if they are
	// there
	inputs []string
	read   []string // the same, relative to the workspace, and known to be there
	// elsewhere is true where an environment that is there already may lie anywhere.
	elsewhere bool
}

type pythonProject struct {
	Folder
	pythonWays
	out              *Finding
	manifest         string
	py               pyproject
	pipfile          pipfile
	requirementsFrom []string
	uses             map[string]stack.Place // packages, in lower case, and where they are asked for
	extra            map[string]bool        // those of them that only the package's extras ask for
	theirs           map[string]stack.Place // those of them that the project around has
	sources          []string               // see modules; nil until it was called
}

// isPackage reports whether the pyproject.toml describes a package that can be installed.
func (p *pythonProject) isPackage() bool {
	return p.py.Project.Name != "" || p.py.BuildSystem.Backend != ""
}

func readPython(f Folder) (*Finding, error) {
	p := &pythonProject{Folder: f, uses: map[string]stack.Place{},
		requirementsFrom: f.requirementFiles()}
	for _, file := range []struct {
		name string
		into any
	}{{"pyproject.toml", &p.py}, {"Pipfile", &p.pipfile}} {
		if !f.Has(file.name) {
			continue
		}
		data, err := f.Read(file.name)
		if err != nil {
			return nil, err
		}
		if err := parseTOML(f, file.name, data, file.into); err != nil {
			return nil, err
		}
	}
	manager, toldAt := p.manager()
	if manager == nil {
		return nil, nil
	}
	if _, err := f.Read(p.manifest); f.exists(p.manifest) && err != nil {
		return nil, err
	}
	p.out = f.finding("python", manager.Name, p.manifest, p.manifest+", for "+manager.Name)
	if toldAt.File != "" {
		p.out.names(manager.Name, toldAt, "the README's install")
	}
	if p.joins(); p.out.Within != nil && p.manifest == "manage.py" &&
		p.out.Within.Project.Framework == "django" {
		return nil, nil // another way to call the application around it
	}
	p.out.Project.Name = p.py.Project.Name
	manager = python.manager(p.out.Project.Manager)
	p.collect()
	p.runtimes(manager)
	p.install(manager)
	p.prepareAndServe()
	p.out.uses(p.out.Project.Name, p.uses)
	p.out.Project.Parts[len(p.out.Project.Parts)-1].Programs = sortedKeys(p.programs())
	p.out.scripts(p.pdmScripts())
	return p.out, nil
}

// manager is the first whose the project is by its files; a manifest of which every manager can
// install is of the one that instructions install with, at a place.
func (p *pythonProject) manager() (m *Manager, toldAt stack.Place) {
	for _, m = range python.Managers {
		if p.manifest = m.python.claims(p); p.manifest != "" {
			break
		}
	}
	if p.manifest == "" {
		return nil, toldAt
	}
	if m == pip && p.manifest == "pyproject.toml" {
		if told, at := p.toldManager(python); told != "" && told != pip.Name {
			return python.manager(told), at
		}
	}
	return m, toldAt
}

// joins makes a program without any list of packages a part of the Python project around it, which
// has one.
func (p *pythonProject) joins() {
	around := p.around("python")
	if p.manifest != "manage.py" || p.out.Within != nil || around == nil {
		return
	}
	if around.Within != nil {
		around = around.Within
	}
	p.out.Within, p.out.Project.Manager = around, around.Project.Manager
	for _, part := range around.Project.Parts {
		maps.Copy(p.uses, part.Uses)
	}
	p.theirs = maps.Clone(p.uses)
}

// index adds a package index that is not the public one.
func (p *pythonProject) index(address string, at stack.Place) {
	if host := hostOf(address); host != "" && !slices.Contains(pypi, host) {
		p.out.source(address, false, "", at)
	}
}

var (
	setupName       = expr.New(`\bname\s*=\s*["']([\w.-]+)["']`)
	setupConfigName = expr.New(`(?m)^name\s*=\s*([\w.-]+)\s*$`)
)

var consoleScript = expr.New(`["'\n]\s*([A-Za-z][\w.-]*)\s*=\s*([\w.]+:\w+)`)

// programs are the programs that the package brings, by their names, and what each calls:
// MODULE:FUNCTION.
func (p *pythonProject) programs() map[string]string {
	out := map[string]string{}
	maps.Copy(out, p.py.Project.Scripts)
	if poetry := p.py.Tool.Poetry; poetry != nil {
		for name, calls := range poetry.Scripts {
			out[name], _ = calls.(string)
		}
	}
	for _, name := range []string{"setup.py", "setup.cfg"} {
		if _, after, ok := strings.Cut(p.text(name), "console_scripts"); ok {
			for _, m := range consoleScript.FindAllStringSubmatch(after, -1) {
				out[m[1]] = m[2]
			}
		}
	}
	maps.DeleteFunc(out, func(_, calls string) bool { return p.lacksModule(calls) })
	return out
}

// lacksModule reports whether the module that a program starts in, MODULE:FUNCTION, isn't in the
// checkout, though its package, or a folder of that name, is.
func (p *pythonProject) lacksModule(calls string) bool {
	module, _, _ := strings.Cut(calls, ":")
	file := strings.ReplaceAll(module, ".", "/")
	top, _, _ := strings.Cut(file, "/")
	for _, root := range []string{"", "src/"} {
		if p.exists(root + top) {
			return p.first(root+file, root+file+".py") == ""
		}
	}
	return false
}

func (p *pythonProject) collect() {
	py := &p.py
	p.adds(py.Project.Dependencies)
	p.nameItself("setup.py", setupName)
	p.nameItself("setup.cfg", setupConfigName)
	p.ofSetup()
	for _, name := range sortedKeys(py.Groups) {
		for _, v := range py.Groups[name] {
			if s, ok := v.(string); ok {
				p.adds([]string{s})
			}
		}
	}
	p.ofPoetry()
	p.ofUV()
	p.ofPip()
	p.ofConda()
	// what only an extra brings comes last: an install leaves it out
	always := maps.Clone(p.uses)
	for _, name := range sortedKeys(py.Project.Optional) {
		p.adds(py.Project.Optional[name])
	}
	p.extra = map[string]bool{}
	for name := range p.uses {
		if _, ok := always[name]; !ok {
			p.extra[name] = true
		}
	}
}

// ofSetup keeps the packages that setup.py or setup.cfg lists as they stand; those that a program
// puts together are not seen.
func (p *pythonProject) ofSetup() {
	for file, form := range map[string]*expr.Expr{"setup.py": setupRequires,
		"setup.cfg": setupConfigRequires} {
		text := p.text(file)
		m := form.FindStringSubmatchIndex(text)
		if m == nil {
			continue
		}
		before, _ := position([]byte(text), int64(m[2]))
		for i, line := range strings.Split(text[m[2]:m[3]], "\n") {
			for _, one := range strings.FieldsFunc(line,
				func(r rune) bool { return r == '"' || r == '\'' }) {
				p.package_(one, p.At(file, before+i))
			}
		}
	}
}

var (
	setupRequires       = expr.New(`install_requires\s*=\s*\[([^\]]*)\]`)
	setupConfigRequires = expr.New(`(?m)^install_requires\s*=([^\n]*(?:\n[ \t]+[^\n]*)*)`)
)

// adds keeps packages that pyproject.toml names.
func (p *pythonProject) adds(list []string) {
	for _, line := range list {
		p.package_(line, p.lineWith("pyproject.toml", line))
	}
}

// nameItself takes the project's name out of a file, if it has none yet.
func (p *pythonProject) nameItself(file string, form *expr.Expr) {
	if m := form.FindStringSubmatch(p.text(file)); m != nil && p.out.Project.Name == "" {
		p.out.Project.Name = m[1]
	}
}

func (p *pythonProject) ofPoetry() {
	poetry := p.py.Tool.Poetry
	if poetry == nil {
		return
	}
	p.adds(sortedKeys(poetry.Dependencies))
	for _, g := range sortedKeys(poetry.Group) {
		p.adds(sortedKeys(poetry.Group[g].Dependencies))
	}
	for _, s := range poetry.Source {
		p.index(s.URL, p.lineWith("pyproject.toml", s.URL))
	}
	if p.out.Project.Name == "" {
		p.out.Project.Name = poetry.Name
	}
}

func (p *pythonProject) ofUV() {
	uv := p.py.Tool.UV
	if uv == nil {
		return
	}
	for _, s := range uv.Index {
		p.index(s.URL, p.lineWith("pyproject.toml", s.URL))
	}
	if uv.Workspace != nil {
		p.out.Members = uv.Workspace.Members
		for _, e := range uv.Workspace.Exclude {
			p.out.Members = append(p.out.Members, "!"+e)
		}
	}
}

// ofPip keeps what a Pipfile names, and the sources that pip is told of.
func (p *pythonProject) ofPip() {
	pip := &p.pipfile
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
}

// ofConda keeps the packages of an environment file: texts, and a list below the key pip.
func (p *pythonProject) ofConda() {
	conda := p.first(condaFiles...)
	if conda == "" {
		return
	}
	var y struct{ Dependencies []any }
	if err := parseYAML([]byte(p.text(conda)), &y); err != nil {
		p.out.remark(stack.Warning, stack.CodeEnvironmentUnreadable, p.At(conda, 1),
			"the environment file can't be read: "+err.Error(), "Correct the file.")
	}
	all := y.Dependencies
	for _, d := range y.Dependencies {
		if below, ok := d.(map[string]any); ok {
			list, _ := below["pip"].([]any)
			all = append(slices.Clip(all), list...)
		}
	}
	for _, d := range all {
		if s, ok := d.(string); ok {
			p.package_(s, p.lineWith(conda, s))
		}
	}
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

// pypi are the hosts of the public package index.
var pypi = []string{"pypi.org", "pypi.python.org"}
