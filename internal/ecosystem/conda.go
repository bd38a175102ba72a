package ecosystem

import "nimbleharbor/internal/stack"

var conda = &Manager{
	Name:     "conda",
	Obeys:    []string{".condarc", "setup.py"},
	Tools:    []Tool{{Name: "conda"}},
	Verbs:    []Verb{{stack.Install, []string{"conda env|create"}}},
	Wrappers: []string{"conda run"},
	python: &pythonManager{
		brings: true,
		claims: func(p *pythonProject) string { return p.first(condaFiles...) },
		ways: func(p *pythonProject) pythonWays {
			return pythonWays{install: []string{"conda", "env", "update", "--quiet", "--prefix",
				".venv", "--file", p.manifest},
				run: []string{"conda", "run", "--prefix", ".venv", "--no-capture-output"}}
		},
	},
}

var condaFiles = []string{"environment.yml", "environment.yaml"}
