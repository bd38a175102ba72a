package ecosystem

import (
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

var bun = &Manager{
	Name:   "bun",
	Locks:  []string{"bun.lock", "bun.lockb"},
	Weight: &Weight{expr.New(`(?m)^    "[^"]+": \[`), 350_000, []string{"node_modules"}},
	Obeys:  []string{".npmrc", "bunfig.toml", "binding.gyp"},
	Hooks:  nodeHooks,
	Tools: []Tool{{Name: "bun", Called: []string{"bun"}, Images: []string{"oven/bun"},
		By: []string{"npm install --global bun"}}},
	Verbs:    []Verb{{stack.Install, []string{"bun install|i"}}},
	Wrappers: []string{"bunx"},
	Scripts: &Scripts{Run: "run", Bare: true, Own: nodeOwnVerbs,
		Member: []string{"--filter", "-F", "--cwd"}},
	node: &nodeManager{
		runs: true,
		ways: func(_ *nodeProject, lock string) nodeWays {
			return nodeWays{words: []string{"bun"}, install: frozenBy("--frozen-lockfile", lock),
				run: []string{"run"}, exec: []string{"x"}}
		},
	},
}
