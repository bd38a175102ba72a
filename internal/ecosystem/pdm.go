package ecosystem

import (
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

var pdm = &Manager{
	Name:   "pdm",
	Locks:  []string{"pdm.lock"},
	Weight: &Weight{expr.New(`(?m)^\[\[package\]\]`), 3_000_000, []string{".venv"}},
	Obeys:  []string{"pyproject.toml", "pdm.toml", "setup.py"},
	Tools: []Tool{{Name: "pdm", By: []string{"pipx install pdm", "pip install --user pdm"},
		Packages: map[string]string{"pacman": "python-pdm", "brew": "pdm"}}},
	Verbs:    []Verb{{stack.Install, []string{"pdm install|sync"}}},
	Wrappers: []string{"pdm run"},
	Scripts: &Scripts{Run: "run", Bare: true, Programs: true, Member: []string{"--project", "-p"},
		Own: []string{"add", "build", "cache", "completion", "config", "export", "fix", "import",
			"info", "init", "install", "list", "lock", "new", "outdated", "plugin", "publish",
			"python", "py", "remove", "run", "search", "self", "show", "sync", "update", "use",
			"venv"}},
	python: &pythonManager{
		claims: func(p *pythonProject) string {
			// Its table alone says that some makers use it; others install with what they have.
			if p.Has("pdm.lock") || p.py.Tool.PDM != nil && p.callsFor("pdm") {
				return "pyproject.toml"
			}
			return ""
		},
		ways: func(p *pythonProject) pythonWays {
			w := pythonWays{install: []string{"pdm", "install"}, run: []string{"pdm", "run"},
				inputs: []string{"pdm.lock", "pdm.toml"}, elsewhere: true}
			if p.Has("pdm.lock") {
				w.install, w.as = append(w.install, "--frozen-lockfile"), w.install
			}
			return w
		},
	},
}

// pdmScripts are the scripts of the table that pdm runs by their names, each as the lines that it
// comes to. An entry is a line, or a table with one: cmd, shell, call (MODULE:FUNCTION), or a list
// of others (composite), which may give the first of them words.
func (p *pythonProject) pdmScripts() map[string][]string {
	if p.py.Tool.PDM == nil {
		return nil
	}
	line := func(entry any) string {
		if table, ok := entry.(map[string]any); ok {
			for _, kind := range []string{"cmd", "shell", "call"} {
				if table[kind] != nil {
					entry = table[kind]
				}
			}
		}
		if words, ok := entry.([]any); ok {
			var out []string
			for _, w := range words {
				if s, ok := w.(string); ok {
					out = append(out, s)
				}
			}
			return strings.Join(out, " ")
		}
		s, _ := entry.(string)
		return s
	}
	out := map[string][]string{}
	for name, entry := range p.py.Tool.PDM.Scripts {
		table, _ := entry.(map[string]any)
		several, isList := table["composite"].([]any)
		if !isList {
			if l := line(entry); l != "" && name != "_" {
				out[name] = []string{l}
			}
			continue
		}
		for _, one := range several {
			called, _ := one.(string)
			first, words, _ := strings.Cut(called, " ")
			if l := line(p.py.Tool.PDM.Scripts[first]); l != "" {
				called = strings.TrimSpace(l + " " + words)
			}
			out[name] = append(out[name], called)
		}
	}
	return out
}
