package ecosystem

import (
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// pip installs into an environment of the project's own, which the step makes.
var pip = &Manager{
	Name:  "pip",
	Obeys: []string{"setup.py", "setup.cfg", "pyproject.toml"},
	Verbs: []Verb{
		{stack.Install, []string{"pip install", "pipx install",
			"python setup.py develop|install"}},
		{SetsUp, []string{"pip install pip|pipenv|poetry|uv|virtualenv|setuptools|wheel"}},
	},
	Aliases: map[string]string{"pip3": "pip"},
	python: &pythonManager{
		claims: func(p *pythonProject) string {
			switch {
			case len(p.requirementsFrom) > 0:
				return p.requirementsFrom[0]
			case p.isPackage():
				return "pyproject.toml"
			case p.first(condaFiles...) != "":
				return "" // then nothing but that tells what is needed
			}
			if p.setsUp() || !p.djangoManages() {
				if p.setsUp() {
					return "setup.py"
				}
				return ""
			}
			return "manage.py"
		},
		ways: func(p *pythonProject) pythonWays {
			from := "-r " + strings.Join(p.requirementsFrom, " -r ")
			if len(p.requirementsFrom) == 0 {
				from = "-e ."
			}
			if p.manifest == "manage.py" {
				from = "django"
			}
			if p.manifest == "manage.py" && p.out.Within == nil {
				p.out.remark(stack.Warning, stack.CodeRequirementsMissing, p.At("manage.py", 1),
					"no file says what the project needs; its manage.py needs Django, so the "+
						"newest is installed", "Write a requirements.txt.")
			}
			line := "python3 -m venv .venv && .venv/bin/python -m pip install " +
				"--disable-pip-version-check " + from
			w := pythonWays{install: []string{"sh", "-c", line}, python: ".venv/bin/python",
				bin:    ".venv/bin/",
				inputs: []string{"constraints.txt", ".python-version", "setup.py", "setup.cfg"}}
			if p.manifest == "setup.py" {
				for _, name := range []string{"default", "base", "main"} {
					r := "requirements/" + name + ".txt"
					if p.exists(r) {
						w.read = append(w.read, p.requirements(r, map[string]bool{})...)
					}
				}
			}
			for _, r := range p.requirementsFrom {
				w.read = append(w.read, p.requirements(r, map[string]bool{})...)
			}
			return w
		},
	},
}

// InstallsItself makes pip's install of a project bring the project's own programs too. Other
// managers do so anyway.
func InstallsItself(p *stack.Project) {
	for i := range p.Steps {
		st := &p.Steps[i]
		last := len(st.Command) - 1
		if p.Manager != pip.Name || st.Role != stack.Install ||
			strings.Contains(st.Command[last], " -e ") {
			continue
		}
		line := st.Command[last]
		call, _, listed := strings.Cut(line[strings.LastIndex(line, "&& ")+1:], " -r ")
		if listed { // a list with sums takes nothing beside it
			line += " &&" + strings.TrimPrefix(call, "&")
		}
		st.Command = append(slices.Clone(st.Command[:last]), line+" -e .")
	}
}

// setsUp reports whether the folder's setup.py describes a package, and is not only a program of
// that name.
func (f Folder) setsUp() bool {
	return f.Has("setup.py") && setupTools.MatchString(f.text("setup.py"))
}

var setupTools = expr.New(`(?m)\b(setuptools|distutils|skbuild)\b|^setup\s*\(`)

// requirementFiles lists the files that pip is to install from: the plain one, or those for work on
// the project.
func (f Folder) requirementFiles() []string {
	if f.Has("requirements.txt") {
		return []string{"requirements.txt"}
	}
	if f.setsUp() {
		return nil // it says itself what it needs
	}
	for _, name := range []string{"requirements/dev.txt", "requirements/local.txt",
		"requirements/development.txt", "requirements/base.txt", "requirements/requirements.txt",
		"requirements-dev.txt", "requirements_dev.txt", "requirements-local.txt",
		"requirements.in"} {
		if f.exists(name) {
			return []string{name}
		}
	}
	if list := f.named("requirements*.txt"); len(list) > 0 &&
		f.first("manage.py", "app.py", "main.py") != "" {
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
	if name = path.Clean(name); seen[name] || strings.HasPrefix(name, "../..") && p.Path == "." ||
		len(seen) > 50 {
		return nil
	}
	seen[name] = true
	data, err := p.Read(name)
	if err != nil {
		p.out.remark(stack.Warning, stack.CodeRequirementsNotIncluded, p.At(name, 0),
			"an included requirements file can't be read", "Bring it in, or remove the line "+
				"that includes it.")
		return nil
	}
	files = []string{path.Join(p.Path, name)}
	for i, line := range strings.Split(string(data), "\n") {
		at := p.At(name, i+1)
		switch {
		case includes.MatchString(line):
			files = append(files, p.requirements(path.Join(path.Dir(name),
				includes.FindStringSubmatch(line)[1]), seen)...)
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
