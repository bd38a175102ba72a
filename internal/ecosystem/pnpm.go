package ecosystem

import (
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

var pnpm = &Manager{
	Name:   "pnpm",
	Locks:  []string{"pnpm-lock.yaml"},
	Weight: &Weight{expr.New(`(?m)^ +resolution: `), 350_000, []string{"node_modules"}},
	Obeys:  []string{".npmrc", ".pnpmfile.*", "pnpm-workspace.yaml", "binding.gyp"},
	Hooks:  nodeHooks,
	Tools: []Tool{{Name: "pnpm", Called: []string{"pnpm"}, Fetcher: "corepack",
		By: []string{"corepack enable pnpm", "npm install --global pnpm"}}},
	Verbs:    []Verb{{stack.Install, []string{"pnpm install|i"}}},
	Wrappers: []string{"pnpm exec", "pnpm dlx"},
	Scripts: &Scripts{Run: "run", Bare: true, Own: nodeOwnVerbs,
		Member: []string{"--filter", "-F", "--dir", "-C"}},
	node: &nodeManager{
		signs: []string{"pnpm-workspace.yaml"},
		ways: func(_ *nodeProject, lock string) nodeWays {
			return nodeWays{words: []string{"pnpm"}, install: frozenBy("--frozen-lockfile", lock),
				run: []string{"run"}, exec: []string{"exec"}}
		},
	},
}
