package ecosystem

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

type packageJSON struct {
	Name            string            `json:"name"`
	Main            string            `json:"main"`
	Bin             any               `json:"bin"`
	Types           string            `json:"types"`
	PackageManager  string            `json:"packageManager"`
	Scripts         map[string]string `json:"scripts"`
	Engines         anyMap            `json:"engines"`
	Dependencies    anyMap            `json:"dependencies"`
	DevDependencies anyMap            `json:"devDependencies"`
	Optional        anyMap            `json:"optionalDependencies"`
	Workspaces      workspaces        `json:"workspaces"`
	OS              []string          `json:"os"`
	Prisma          anyMap            `json:"prisma"`
}

func (p *packageJSON) uses(name string) bool {
	return p.Dependencies[name] != "" || p.DevDependencies[name] != ""
}

// node is JavaScript and TypeScript on Node.js and its like.
var node = &Ecosystem{
	Name:       "node",
	Managers:   []*Manager{bun, pnpm, yarn, npm},
	Frameworks: frameworksOfNode(),
	Manifests:  []string{"package.json"},
	Made: []string{"node_modules", "bower_components", "dist", ".next", ".nuxt", ".svelte-kit",
		".turbo", ".yarn"},
	Endings: []string{".js", ".mjs", ".cjs", ".ts", ".mts", ".jsx", ".tsx", ".vue", ".svelte",
		".astro"},
	Language: ecmaScript,
	Given:    []string{"NODE_ENV", "MODE", "DEV", "PROD", "SSR", "BASE_URL", "NEXT_RUNTIME"},
	Tools: []Tool{{Name: "node", Called: []string{"nodejs", "node"}, Images: []string{"node"},
		Packages: map[string]string{"pacman": "nodejs npm", "apt": "nodejs npm", "dnf": "nodejs",
			"brew": "node", "apk": "nodejs npm"}}},
	VersionManagers: []string{"nvm", "fnm", "corepack", "volta"},
	Logins:          []string{".npmrc", ".yarnrc.yml"},
	Public:          []string{"registry.npmjs.org", "registry.yarnpkg.com"},
	Verbs: []Verb{
		{stack.Test, []string{"script test|t", "jest", "vitest"}},
		{
			Serves,
			[]string{"script start*|dev*|develop*|serve*|preview*|server*", "node * $", "nodemon",
				"http-server", "live-server", "serve"},
		},
		{stack.Build, []string{"script build*", "ng build", "vite build"}},
	},
	Proxies: proxiesOfNode(),
}

// inNodeEnv are the ways in which code names the environment as a whole.
var inNodeEnv = []string{"process.env", "import.meta.env", "Bun.env"}

var ecmaScript = &Language{
	Comments: slashes,
	Blocks:   [][2]string{{"/*", "*/"}, {"<!--", "-->"}},
	Quotes:   []Quote{doubled, single, {Open: "`", Close: "`", Code: "${", Lines: true}},
	Patterns: true,
	Accesses: slices.Concat(holds(false, inNodeEnv...), callsFor(false, "Deno.env.get"), []Access{
		{Path: "*configService.get", With: imported("@nestjs/config")},
		{Path: "*configService.getOrThrow", With: imported("@nestjs/config"), Must: true},
		{Path: "env.get", With: imported("env-var"), Default: []string{"default"},
			Required: []string{"required"}},
	}),
	Else:      append([]string{"===", "!==", "?", "||=", "??="}, usualElse...),
	MustCalls: endsWithout,
	Schemas: []Schema{
		{With: inNodeEnv, Library: imported("zod"), Roots: []string{"z", "zod"},
			Open: []string{"optional", "default", "catch", "nullish", "prefault"}},
		{With: inNodeEnv, Library: imported("joi", "@hapi/joi", "yup"),
			Roots: []string{"joi", "Joi", "yup", "Yup"},
			Open:  []string{"optional", "default", "notRequired"}, Needed: []string{"required"}},
		{With: inNodeEnv, Library: imported("envalid"),
			Roots: []string{"str", "num", "bool", "port", "host", "url", "email", "json"},
			Open:  []string{"default", "devDefault"}},
		// Adonis has a schema of its own, and reads the environment behind it.
		{With: []string{"Env.schema"},
			Library: imported("@ioc:Adonis/Core/Env", "@adonisjs/core/env"),
			Roots:   []string{"Env.schema"}, Open: []string{"optional", "optionalWhen"}},
	},
}

// nodeManager is what of a manager matters for the reading of a manifest.
type nodeManager struct {
	// signs are files other than lock files that tell the manager.
	signs []string
	// ways tells how it does things for a project with that lock file, which may be missing.
	ways func(n *nodeProject, lock string) nodeWays
	// forward are words between a script's name and what is meant for the script.
	forward []string
	// runs is true for a manager that runs the project itself, without node.
	runs bool
}

// nodeWays are how a manager does things for one project.
type nodeWays struct {
	words              []string // how it is called
	install, run, exec []string
	usual              string // the versions that the project's files fit; empty for any
	noModules          bool   // what is installed does not lie in node_modules
}

// nodeTool is the manager of a project.
type nodeTool struct {
	*Manager
	nodeWays
	lock string // the lock file that is there; empty for none
}

// frozenBy is an install that keeps to the lock file, where there is one.
func frozenBy(flag, lock string) []string {
	if lock == "" {
		return []string{"install"}
	}
	return []string{"install", flag}
}

// nodeOwnVerbs are words behind a manager's name that are never a script's.
var nodeOwnVerbs = []string{"install", "i", "ci", "add", "exec", "dlx", "x", "link", "init",
	"create", "workspaces", "upgrade", "update", "global"}

// nodeLock is a lock file, and whose it is.
type nodeLock struct{ file, manager string }

// nodeLocks lists the lock files, the one first whose manager is taken when there are several.
func nodeLocks() (out []nodeLock) {
	for _, m := range node.Managers {
		for _, file := range m.Locks {
			out = append(out, nodeLock{file, m.Name})
		}
	}
	return out
}

// lockFile is the lock file that is there, or the one that the manager will make.
func (n *nodeProject) lockFile() string {
	if n.tool.lock != "" {
		return n.tool.lock
	}
	return n.tool.Locks[0]
}

func readNode(f Folder) (*Finding, error) {
	const manifest = "package.json"
	if !f.Has(manifest) {
		return nil, nil
	}
	data, err := f.Read(manifest)
	if err != nil {
		return nil, err
	}
	var pkg packageJSON
	lines, err := parseJSON(f, manifest, data, &pkg)
	if err != nil {
		return nil, err
	}
	out := f.finding("node", "npm", manifest, "package.json")
	n := &nodeProject{Folder: f, pkg: &pkg, lines: lines, out: out}
	n.out.Project.Name = pkg.Name
	n.choosing().choose()
	n.runtimes()
	n.members()
	n.sources()
	n.install()
	n.framework()
	n.serving().serve()
	out.node, out.settle = n, n.prepare
	out.uses(pkg.Name, n.dependencies())
	scripts := map[string][]string{}
	for name, line := range pkg.Scripts {
		scripts[name] = []string{line}
	}
	out.scripts(scripts)
	out.Asks = append(sortedKeys(pkg.Dependencies), sortedKeys(pkg.DevDependencies)...)
	if len(pkg.OS) > 0 && !slices.Contains(pkg.OS, f.system()) {
		out.Project.NotHere = fmt.Sprintf("its manifest allows only: %s",
			strings.Join(pkg.OS, ", "))
	}
	return out, nil
}

func (f Folder) system() string {
	if f.System == "" {
		return "linux"
	}
	return f.System
}

type nodeProject struct {
	Folder
	pkg   *packageJSON
	lines map[string]int
	out   *Finding
	tool  nodeTool
	known nodeFramework
}

// dependencies are the packages that a program asks for when it runs, and where.
func (n *nodeProject) dependencies() map[string]stack.Place {
	out := map[string]stack.Place{}
	for name := range n.pkg.Dependencies {
		out[name] = n.at("dependencies." + name)
	}
	return out
}

func (n *nodeProject) at(key string) stack.Place { return n.At("package.json", n.lines[key]) }

// top is the folder of the manager's workspace that the project belongs to: mostly its own.
func (n *nodeProject) top() string {
	if n.out.Within != nil {
		return n.out.Within.Project.Path
	}
	return n.Path
}

func (t nodeTool) call(words ...string) []string { return slices.Concat(t.words, words) }

func (n *nodeProject) runtimes() {
	before := len(n.out.Project.Runtimes)
	if c := n.pkg.Engines["node"]; c != "" {
		n.out.wants("node", c, n.at("engines.node"))
	}
	n.versionFile(n.out, "node", ".nvmrc")
	n.versionFile(n.out, "node", ".node-version")
	if n.out.Within != nil {
		return
	}
	if len(n.out.Project.Runtimes) == before && !n.tool.node.runs {
		n.out.wants("node", "*", n.At("package.json", 1))
	}
	if n.tool.words[0] == "node" {
		return
	}
	constraint, at := "*", n.At("package.json", 1)
	if n.tool.lock != "" {
		at = n.At(n.tool.lock, 1)
	}
	if named, version, _ := strings.Cut(n.pkg.PackageManager, "@"); named == n.tool.Name &&
		version != "" {
		version, _, _ = strings.Cut(version, "+")
		major, _, _ := strings.Cut(version, ".")
		constraint, at = "^"+major, n.at("packageManager")
	} else if c := n.pkg.Engines[n.tool.Name]; c != "" {
		constraint, at = c, n.at("engines."+n.tool.Name)
	} else if n.tool.usual != "" && n.tool.lock != "" {
		constraint = n.tool.usual
	}
	n.out.wants(n.tool.Name, constraint, at)
}

func (n *nodeProject) members() {
	n.out.Members = n.pkg.Workspaces
	if text := n.text("pnpm-workspace.yaml"); text != "" {
		var y struct {
			Packages []string `yaml:"packages"`
		}
		if err := parseYAML([]byte(text), &y); err != nil {
			n.out.remark(stack.Warning, stack.CodeWorkspaceFileUnreadable,
				n.At("pnpm-workspace.yaml", 1),
				"the workspace's members can't be read: "+err.Error(), "Correct the file.")
		}
		n.out.Members = append(n.out.Members, y.Packages...)
	}
	if len(n.out.Members) > 0 {
		n.out.evidence(n.at("workspaces"), "members: "+strings.Join(n.out.Members, ", "))
	}
}

func (n *nodeProject) install() {
	pkg := n.pkg
	packages := len(pkg.Dependencies) + len(pkg.DevDependencies) + len(pkg.Optional) +
		len(n.out.Members)
	hook := firstScript(pkg.Scripts, nodeHooks...)
	if n.out.Within != nil || n.tool.lock == "" && packages == 0 && hook == "" {
		return
	}
	where := n.at("scripts." + hook)
	for _, key := range []string{"workspaces", "optionalDependencies", "devDependencies",
		"dependencies"} {
		if n.lines[key] > 0 && packages > 0 {
			where = n.at(key)
		}
	}
	if n.tool.lock != "" {
		where = n.At(n.tool.lock, 1)
	} else if packages > 0 {
		n.out.remark(stack.Warning, stack.CodeLockMissing, where,
			"there is no "+n.tool.Locks[0]+", so each machine may get other versions",
			"Commit the lock file that the install makes.")
	}
	s := n.step(stack.Install, where, n.tool.call(n.tool.install...)...)
	if n.tool.lock != "" {
		s.As = n.tool.call(n.tool.node.ways(n, "").install...)
	}
	s.Inputs = n.locked(n.lockFile(), "package.json", ".npmrc", ".yarnrc.yml", ".yarnrc",
		"pnpm-workspace.yaml", "bunfig.toml")
	if !n.tool.noModules && packages > 0 {
		s.Outputs = []string{n.At("node_modules", 0).File}
	}
	s.Expands = append(n.scriptLines("install", "prepare"),
		"and whatever install scripts the packages bring along")
	n.out.step(s)
	n.out.Project.Bin = []string{path.Join(n.Path, "node_modules/.bin")}
	for name, takes := range nodeCompiles {
		if pkg.uses(name) {
			line := n.lines["dependencies."+name] + n.lines["devDependencies."+name]
			n.compiles(name, takes, false, n.At("package.json", line))
		}
	}
	if n.Has("binding.gyp") {
		n.compiles("this project", []string{"gcc", "make", "python3"}, true, n.At("binding.gyp", 1))
	}
	slices.SortFunc(n.out.Project.Compiles, func(a, b stack.Compile) int {
		return strings.Compare(a.Package+a.Takes, b.Package+b.Takes)
	})
}

func (n *nodeProject) compiles(name string, takes []string, certain bool, at stack.Place) {
	for _, t := range takes {
		n.out.Project.Compiles = append(n.out.Project.Compiles,
			stack.Compile{Package: name, Takes: t, Certain: certain, At: at})
	}
}

// nodeHooks are the scripts of the manifest that an install runs besides the packages' own.
var nodeHooks = []string{"preinstall", "install", "postinstall", "prepublish", "preprepare",
	"prepare", "postprepare"}

// script makes a step of a script of the manifest.
func (n *nodeProject) script(role stack.Role, name string) stack.Step {
	s := n.step(role, n.at("scripts."+name),
		n.tool.call(append(slices.Clone(n.tool.run), name)...)...)
	s.Expands = n.scriptLines(name)
	return s
}

// scriptLines are the lines of scripts, of those that go before and after them, and of those that
// they call.
func (n *nodeProject) scriptLines(names ...string) []string {
	var out []string
	seen := map[string]bool{}
	var add func(name string)
	add = func(name string) {
		for _, s := range []string{"pre" + name, name, "post" + name} {
			line := n.pkg.Scripts[s]
			if line == "" || seen[s] || len(seen) > maxScripts {
				continue
			}
			seen[s] = true
			out = append(out, s+": "+line)
			for _, c := range shell.Parse(line) {
				if in, called := n.called(c, nil); in == n {
					add(called)
				}
			}
		}
	}
	for _, name := range names {
		add(name)
	}
	return out
}

// configOption is how a tool is told its settings file.
var configOption = expr.New(`\s(?:--config|-c)[ =]["']?([\w./-]+\.\w+)`)

// ConfigsNamed are the settings files that lines of scripts give to their tools.
func ConfigsNamed(lines []string) (files []string) {
	for _, line := range lines {
		for _, m := range configOption.FindAllStringSubmatch(line, -1) {
			if file := path.Clean(m[1]); !slices.Contains(files, file) {
				files = append(files, file)
			}
		}
	}
	return files
}

func firstScript(scripts map[string]string, names ...string) string {
	for _, n := range names {
		if strings.TrimSpace(scripts[n]) != "" {
			return n
		}
	}
	return ""
}

var (
	builtMain   = expr.New(`(^|[ ./])(dist|build|lib|out)/`)
	emptyTest   = expr.New(`no test specified`)
	watcherName = expr.New(`(^|[:-])(watch|watcher|tailwind|css|assets)([:-]|$)`)
	// A watcher says so: by its name, or by an option of what it runs.
	watchLine = expr.New(`watch|(^|\s)-w(\s|$)|chokidar|onchange|nodemon|--poll`)
	// What only looks at the code is no part of what runs.
	otherWatch  = expr.New(`(?i)type-?check|\bcheck\b|lint|\btsc\b|test|jest|mocha|storybook|\bflow\b|docs`)
	onlyWatches = expr.New(
		`^(npx )?(chokidar|onchange|gulp|grunt|sass|postcss|rollup|tailwindcss|webpack|tsc|babel|esbuild)(\s|$)`,
	)
	workerName = expr.New(`^(start:|dev:)?(workers?|queue|jobs?|consumers?|scheduler|cron)$`)
	// runsAll are lines that start other scripts and projects side by side.
	runsAll = expr.New(
		`\b(turbo|nx|lerna|concurrently|npm-run-all|run-p|npm-run-all2)\b|--workspaces\b|(^|\s)-ws\b|\bpnpm\s+(-r|` +
			`--recursive|--parallel|--filter)\b|\byarn\s+workspaces?\b|\s&\s`)
	devBuild = expr.New(
		`\b(dev|develop|serve|watch|ts-node|tsx|nodemon|vite($|\s)|ng serve|next dev|nuxt dev|astro dev|webpack ` +
			`serve|webpack-dev-server|react-scripts start|craco start|vue-cli-service serve|expo start|remix dev)\b`)
)

// prepare adds the steps between install and serve: the project's own scripts, else what its tools
// are known to do.
func (n *nodeProject) prepare(all []*Finding) {
	if n.out.Project.NotHere != "" {
		return
	}
	if n.isUsedBuilt() {
		n.out.step(n.script(stack.Build, "build"))
	}
	if script := n.serving().serveScript(); script != "" && strings.HasPrefix(script, "start") &&
		!devBuild.MatchString(n.pkg.Scripts[script]) &&
		strings.TrimSpace(n.pkg.Scripts["build"]) != "" {
		n.out.step(n.script(stack.Build, "build"))
	}
	m := nodeMigration(n)
	for _, r := range nodeSteps {
		byScript := n.stepBy(r.role, all, r.scripts)
		tool := m.does(r.role)
		switch {
		case m == nil:
		case !byScript && tool != nil && !(r.role == stack.Generate && n.withInstall(tool, all)):
			n.out.step(n.byTool(r.role, m, tool))
		case r.role == stack.Migrate && (byScript || tool == nil):
			n.inputsOf(stack.Migrate, m.folder)
		}
	}
}

// nodeSteps are the steps of a project in their order, with the names of scripts that do each.
var nodeSteps = []struct {
	role    stack.Role
	scripts []string
}{
	{stack.Generate, []string{"generate", "codegen", "prisma:generate", "db:generate"}},
	{stack.Create, []string{"db:create", "createdb", "create-db"}},
	{stack.Migrate, []string{"migrate", "db:migrate", "migrate:up", "migrate:latest",
		"migration:run", "migrations:run", "prisma:migrate", "migrate:deploy", "db:push"}},
	{stack.Seed, []string{"seed", "db:seed", "seed:run", "prisma:seed"}},
	{stack.Test, []string{"test"}},
}

// isUsedBuilt reports whether the project is a library that others of the same workspace use as it
// is built.
func (n *nodeProject) isUsedBuilt() bool {
	scripts, script := n.pkg.Scripts, n.serving().serveScript()
	if n.out.Within == nil || scripts["build"] == "" ||
		!builtMain.MatchString(n.pkg.Main+" "+n.pkg.Types) {
		return false
	}
	return script == "" || OnlyWatches(scripts[script]) ||
		n.serving().onlyBuilds(scripts[script]) ||
		n.serving().onlyMakes(script)
}

// stepBy adds the step that the first of the scripts is which does such; it is false if none does.
func (n *nodeProject) stepBy(role stack.Role, all []*Finding, names []string) bool {
	for _, name := range names {
		if strings.TrimSpace(n.pkg.Scripts[name]) == "" || !n.prepares(role, name, all) {
			continue
		}
		s := n.script(role, name)
		for _, r := range n.runs(name, all) {
			if r.in != n && r.in.out.Within == n.out {
				r.in.out.drop(role) // the same, called from here
				s.Expands = append(s.Expands, r.in.Path+": "+strings.Join(r.words, " "))
			}
		}
		n.out.step(s)
		return true
	}
	return false
}

// withInstall reports whether an install runs the command along, by a script that belongs to it.
func (n *nodeProject) withInstall(words []string, all []*Finding) bool {
	for _, script := range []string{"preinstall", "install", "postinstall", "prepare"} {
		for _, r := range n.runs(script, all) {
			if fits(strings.Join(words, " "), r.words) {
				return true
			}
		}
	}
	return false
}

func (n *nodeProject) byTool(role stack.Role, m *migration, words []string) stack.Step {
	s := n.step(role, m.at, n.tool.call(slices.Concat(n.tool.exec, words)...)...)
	if m.folder != "" && role == stack.Migrate {
		s.Inputs = append(s.Inputs, path.Join(n.Path, m.folder))
	}
	return s
}

func (n *nodeProject) inputsOf(role stack.Role, folder string) {
	for i := range n.out.Project.Steps {
		if s := &n.out.Project.Steps[i]; s.Role == role && folder != "" {
			s.Inputs = append(s.Inputs, path.Join(n.Path, folder))
		}
	}
}
