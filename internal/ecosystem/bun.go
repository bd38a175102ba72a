package ecosystem

import "nimbleharbor/internal/stack"

var bun = &Manager{
	Name:  "bun",
	Locks: []string{"bun.lock", "bun.lockb"},
	Obeys: []string{".npmrc", "bunfig.toml", "binding.gyp"},
	Hooks: nodeHooks,
	Tools: []Tool{{Name: "bun", Called: []string{"bun"}, Images: []string{"oven/bun"},
		By: "npm install --global bun"}},
	Verbs:    []Verb{{stack.Install, []string{"bun install|i"}}},
	Wrappers: []string{"bunx"},
	Scripts: &Scripts{Run: "run", Bare: true, Own: nodeOwnVerbs,
		Member: []string{"--filter", "-F", "--cwd"}},
	node: &nodeManager{
		runs: true,
		ways: func(_ *nodeProject, lock string) nodeWays {
			return nodeWays{words: []string{"bun"}, install: frozenBy("--frozen-lockfile", lock), run: []string{"run"},
				exec: []string{"x"}}
		},
	},
}
