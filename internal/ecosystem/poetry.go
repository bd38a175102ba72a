package ecosystem

import (
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

var poetry = &Manager{
	Name:   "poetry",
	Locks:  []string{"poetry.lock"},
	Weight: &Weight{expr.New(`(?m)^\[\[package\]\]`), 3_000_000, []string{".venv"}},
	Obeys:  []string{"pyproject.toml", "poetry.toml", "build.py"},
	Tools: []Tool{{Name: "poetry", Called: []string{"poetry"},
		Packages: map[string]string{"pacman": "python-poetry", "apt": "python3-poetry",
			"dnf": "poetry", "brew": "poetry", "apk": "poetry"}}},
	Verbs:    []Verb{{stack.Install, []string{"poetry install|sync"}}},
	Wrappers: []string{"poetry run"},
	python: &pythonManager{
		claims: func(p *pythonProject) string {
			if p.Has("poetry.lock") || p.py.Tool.Poetry != nil {
				return "pyproject.toml"
			}
			return ""
		},
		ways: func(p *pythonProject) pythonWays {
			w := pythonWays{install: []string{"poetry", "install", "--no-interaction"},
				run:    []string{"poetry", "run"},
				env:    map[string]string{"POETRY_VIRTUALENVS_IN_PROJECT": "true"},
				inputs: []string{"poetry.lock", "poetry.toml"}, elsewhere: true}
			if !p.installsItself() {
				w.install = append(w.install, "--no-root")
			}
			return w
		},
	},
}

// installsItself reports whether poetry has a package of the project to install.
func (p *pythonProject) installsItself() bool {
	name := p.out.Project.Name
	folder := strings.ReplaceAll(name, "-", "_")
	return name != "" && (p.exists(folder) || p.exists("src/"+folder) || p.Has(folder+".py"))
}
