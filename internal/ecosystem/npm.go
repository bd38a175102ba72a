package ecosystem

import (
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

var npm = &Manager{
	Name:  "npm",
	Locks: []string{"package-lock.json", "npm-shrinkwrap.json"},
	Weight: &Weight{expr.New(`(?m)^    "(.*/)?node_modules/[^"]+": \{`), 350_000,
		[]string{"node_modules"}},
	Obeys: []string{".npmrc", "binding.gyp"},
	Hooks: nodeHooks,
	Tools: []Tool{{Name: "npm", Packages: map[string]string{"pacman": "npm", "apt": "npm",
		"dnf": "nodejs-npm", "brew": "node", "apk": "nodejs npm"}}},
	Verbs: []Verb{
		{stack.Install, []string{"npm install|i|ci"}},
		{SetsUp, []string{"npm install|i -g|--global", "npm -g|--global"}},
	},
	Wrappers: []string{"npx", "npm exec --", "npm exec"},
	Scripts: &Scripts{Run: "run", Short: []string{"start", "test", "t"},
		Member: []string{"--workspace", "-w", "--prefix", "-C"}},
	node: &nodeManager{
		ways: func(_ *nodeProject, lock string) nodeWays {
			w := nodeWays{words: []string{"npm"}, install: []string{"install"},
				run: []string{"run"}, exec: []string{"exec", "--"}}
			if lock != "" {
				w.install = []string{"ci"}
			}
			return w
		},
		forward: []string{"--"},
	},
}
