package ecosystem

import (
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

var pipenv = &Manager{
	Name:   "pipenv",
	Locks:  []string{"Pipfile.lock"},
	Weight: &Weight{expr.New(`"hashes":`), 3_000_000, []string{".venv"}},
	Obeys:  []string{"Pipfile", "setup.py"},
	Tools: []Tool{{Name: "pipenv",
		Packages: map[string]string{"pacman": "python-pipenv", "apt": "pipenv",
			"dnf": "pipenv", "brew": "pipenv"}}},
	Verbs:    []Verb{{stack.Install, []string{"pipenv install|sync"}}},
	Wrappers: []string{"pipenv run"},
	python: &pythonManager{
		claims: func(p *pythonProject) string { return p.first("Pipfile") },
		ways: func(p *pythonProject) pythonWays {
			w := pythonWays{install: []string{"pipenv", "install", "--dev"},
				run: []string{"pipenv", "run"},
				env: map[string]string{"PIPENV_VENV_IN_PROJECT": "1",
					"PIPENV_IGNORE_VIRTUALENVS": "1"},
				inputs: []string{"Pipfile.lock"}, elsewhere: true}
			if p.Has("Pipfile.lock") {
				w.install, w.as = []string{"pipenv", "sync", "--dev"}, w.install
			}
			return w
		},
	},
}
