package ecosystem

import (
	"path"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

var yarn = &Manager{
	Name:  "yarn",
	Locks: []string{"yarn.lock"},
	Weight: &Weight{expr.New(`(?m)^  resol(ved|ution)`), 350_000,
		[]string{"node_modules", ".yarn/cache"}},
	Obeys: []string{".npmrc", ".yarnrc", ".yarnrc.yml", ".yarn/releases/*", ".yarn/plugins/*",
		"binding.gyp"},
	Hooks: nodeHooks,
	Tools: []Tool{{Name: "yarn", Called: []string{"yarn"}, Fetcher: "corepack",
		By: []string{"corepack enable yarn", "npm install --global yarn"}}},
	Verbs: []Verb{
		{stack.Install, []string{"yarn $", "yarn install|add"}},
		{SetsUp, []string{"yarn global"}},
	},
	Aliases:  map[string]string{"node .yarn/*": "yarn"},
	Wrappers: []string{"yarn exec"},
	Scripts: &Scripts{Run: "run", Bare: true, Own: nodeOwnVerbs,
		Member: []string{"workspace", "--cwd"}},
	node: &nodeManager{
		signs: []string{".yarnrc.yml"},
		ways: func(n *nodeProject, lock string) nodeWays {
			w := nodeWays{words: []string{"yarn"}, install: frozenBy("--frozen-lockfile", lock),
				run: []string{"run"}, exec: []string{"run"}, usual: "^1"}
			w.noModules = n.choosing().modernYarn(lock) &&
				!strings.Contains(n.text(".yarnrc.yml"), "nodeLinker: node-modules")
			if n.choosing().modernYarn(lock) {
				w.install, w.usual = frozenBy("--immutable", lock), ">=2"
				if own := n.choosing().ownYarn(); own != "" {
					w.words = []string{"node", own}
				}
			}
			return w
		},
	},
}

// modernYarn tells yarn from version 2 on by its lock file's form, its settings file, or the
// version that is named.
func (n choosing) modernYarn(lock string) bool {
	if lock != "" {
		return strings.Contains(n.text(lock), "\n__metadata:")
	}
	top := n.Folder
	top.Path = n.top()
	_, err := top.Read(".yarnrc.yml")
	_, version, _ := strings.Cut(n.pkg.PackageManager, "@")
	return err == nil || version != "" && !strings.HasPrefix(version, "1.")
}

var yarnPath = expr.New(`(?m)^yarnPath:\s*["']?([^"'\s]+)`)

// ownYarn is the copy of yarn that the checkout brings along, seen from the project; empty if it
// has none.
func (n choosing) ownYarn() string {
	top := n.Folder
	top.Path = n.top()
	data, err := top.Read(".yarnrc.yml")
	if err != nil {
		return ""
	}
	m := yarnPath.FindSubmatch(data)
	if m == nil || strings.Contains(string(m[1]), "..") {
		return ""
	}
	rel := strings.TrimPrefix(strings.TrimPrefix(n.Path, top.Path), "/")
	if top.Path == "." {
		rel = n.Path
	}
	up := ""
	if rel != "" && rel != "." {
		up = strings.Repeat("../", strings.Count(rel, "/")+1)
	}
	return up + path.Clean(string(m[1]))
}
