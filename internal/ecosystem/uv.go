package ecosystem

import (
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

var uv = &Manager{
	Name:   "uv",
	Locks:  []string{"uv.lock"},
	Weight: &Weight{expr.New(`(?m)^\[\[package\]\]`), 3_000_000, []string{".venv"}},
	Obeys:  []string{"pyproject.toml", "uv.toml", "setup.py"},
	Tools: []Tool{{Name: "uv", Called: []string{"uv"},
		By:       []string{"pipx install uv", "pip install --user uv"},
		Packages: map[string]string{"pacman": "uv", "dnf": "uv", "brew": "uv", "apk": "uv"}}},
	Verbs:    []Verb{{stack.Install, []string{"uv sync|pip", "uv tool install"}}},
	Wrappers: []string{"uv run"},
	python: &pythonManager{
		brings: true,
		claims: func(p *pythonProject) string {
			uv := p.py.Tool.UV
			if p.Has("uv.lock") || uv != nil && (p.isPackage() || uv.Workspace != nil) {
				return "pyproject.toml"
			}
			return ""
		},
		ways: func(p *pythonProject) pythonWays {
			w := pythonWays{install: []string{"uv", "sync"},
				run: []string{"uv", "run", "--no-sync"}, inputs: []string{"uv.lock"}}
			if p.Has("uv.lock") {
				w.install = append(w.install, "--frozen")
			}
			return w
		},
	},
}
