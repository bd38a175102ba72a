package ecosystem

import (
	"regexp"
	"slices"
	"strings"

	"nimbleharbor/internal/stack"
)

type packageJSON struct {
	Name            string            `json:"name"`
	Main            string            `json:"main"`
	Scripts         map[string]string `json:"scripts"`
	Engines         map[string]string `json:"engines"`
	Dependencies    map[string]string `json:"dependencies"`
	DevDependencies map[string]string `json:"devDependencies"`
}

func (p *packageJSON) uses(name string) bool {
	_, a := p.Dependencies[name]
	_, b := p.DevDependencies[name]
	return a || b
}

// nodeFrameworks lists packages that tell the framework, with the port that its server takes by itself.
var nodeFrameworks = []struct {
	pkg, name string
	port      int
}{
	{"next", "next", 3000}, {"nuxt", "nuxt", 3000}, {"astro", "astro", 4321}, {"@angular/core", "angular", 4200},
	{"vite", "vite", 5173}, {"@nestjs/core", "nest", 3000}, {"fastify", "fastify", 0}, {"express", "express", 0}, {"koa", "koa", 0},
}

var nodeListens = regexp.MustCompile(`(?:listen\(\s*|PORT\s*(?:\|\||\?\?)\s*["']?|\bport\s*[:=]\s*["']?)(\d{2,5})`)

func readNpm(f Folder) (*Finding, error) {
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
	at := func(key string) stack.Place { return f.At(manifest, lines[key]) }
	out := &Finding{Project: stack.Project{Path: f.Path, Ecosystem: "node", Manager: "npm", Name: pkg.Name,
		Evidence: []stack.Evidence{{File: f.At(manifest, 0).File, Line: 1, Says: "package.json"}}}}
	p := &out.Project

	for _, other := range []string{"yarn.lock", "pnpm-lock.yaml", "bun.lock", "bun.lockb"} {
		if f.Has(other) {
			out.Remarks = append(out.Remarks, stack.Remark{Level: stack.Warning, Code: "manager-not-supported", At: f.At(other, 0),
				Text: other + " belongs to a package manager that is not supported yet; npm is used", Remedy: "Expect other versions than the lock file names."})
		}
	}
	nodeRuntime(f, &pkg, at, p)

	switch {
	case f.Has("package-lock.json"):
		p.Evidence = append(p.Evidence, stack.Evidence{File: f.At("package-lock.json", 0).File, Line: 1, Says: "lock file of npm"})
		s := f.step(stack.Install, f.At("package-lock.json", 1), "npm", "ci")
		s.Inputs, s.Outputs = f.in(manifest, "package-lock.json", ".npmrc"), []string{f.At("node_modules", 0).File}
		s.Expands = installScripts(&pkg)
		p.Steps = append(p.Steps, s)
	case len(pkg.Dependencies)+len(pkg.DevDependencies) > 0:
		where := at("dependencies")
		if where.Line == 0 {
			where = at("devDependencies")
		}
		s := f.step(stack.Install, where, "npm", "install")
		s.Inputs, s.Outputs = f.in(manifest, ".npmrc"), []string{f.At("node_modules", 0).File}
		s.Expands = installScripts(&pkg)
		p.Steps = append(p.Steps, s)
		out.Remarks = append(out.Remarks, stack.Remark{Level: stack.Warning, Code: "lock-missing", At: where,
			Text: "there is no package-lock.json, so each machine may get other versions", Remedy: "Commit the package-lock.json that the install makes."})
	}

	frameworkPort := 0
	for _, fw := range nodeFrameworks {
		if pkg.uses(fw.pkg) {
			p.Framework, frameworkPort = fw.name, fw.port
			break
		}
	}
	script := firstScript(pkg.Scripts, "dev", "start:dev", "serve", "start")
	if script == "start" && pkg.Scripts["build"] != "" {
		p.Steps = append(p.Steps, f.script(stack.Build, &pkg, "build", at))
	}
	for _, s := range []struct {
		role  stack.Role
		names []string
	}{
		{stack.Generate, []string{"generate", "codegen"}},
		{stack.Migrate, []string{"migrate", "db:migrate", "migrate:up"}},
		{stack.Seed, []string{"seed", "db:seed"}},
		{stack.Test, []string{"test"}},
	} {
		if name := firstScript(pkg.Scripts, s.names...); name != "" {
			p.Steps = append(p.Steps, f.script(s.role, &pkg, name, at))
		}
	}
	if script != "" {
		serve := &stack.Serve{Command: []string{"npm", "run", script}, At: at("scripts." + script), Expands: scriptLines(&pkg, script)}
		serve.Ports = nodePorts(f, pkg.Scripts[script], serve.At, frameworkPort)
		p.Serve = serve
	}
	return out, nil
}

// script makes a step of a script of the manifest.
func (f Folder) script(role stack.Role, pkg *packageJSON, name string, at func(string) stack.Place) stack.Step {
	s := f.step(role, at("scripts."+name), "npm", "run", name)
	s.Expands = scriptLines(pkg, name)
	return s
}

// scriptLines are the lines that npm runs for a script: those before and after it included.
func scriptLines(pkg *packageJSON, names ...string) []string {
	var out []string
	for _, name := range names {
		for _, n := range []string{"pre" + name, name, "post" + name} {
			if line := pkg.Scripts[n]; line != "" {
				out = append(out, n+": "+line)
			}
		}
	}
	return out
}

// installScripts are the lines that npm runs when it installs.
func installScripts(pkg *packageJSON) []string {
	return append(scriptLines(pkg, "install", "prepare"), "and whatever install scripts the packages bring along")
}

func firstScript(scripts map[string]string, names ...string) string {
	for _, n := range names {
		if strings.TrimSpace(scripts[n]) != "" {
			return n
		}
	}
	return ""
}

func nodeRuntime(f Folder, pkg *packageJSON, at func(string) stack.Place, p *stack.Project) {
	if c := pkg.Engines["node"]; c != "" {
		p.Runtimes = append(p.Runtimes, stack.Runtime{Tool: "node", Constraint: c, At: at("engines.node")})
	}
	for _, file := range []string{".nvmrc", ".node-version"} {
		if data, err := f.Read(file); f.Has(file) && err == nil {
			v := strings.TrimPrefix(strings.TrimSpace(string(data)), "v")
			if len(v) > 0 && v[0] >= '0' && v[0] <= '9' {
				p.Runtimes = append(p.Runtimes, stack.Runtime{Tool: "node", Constraint: "^" + v, At: f.At(file, 1)})
			}
		}
	}
	if len(p.Runtimes) == 0 {
		p.Runtimes = append(p.Runtimes, stack.Runtime{Tool: "node", Constraint: "*", At: f.At("package.json", 1)})
	}
	npm := "*"
	npmAt := f.At("package.json", 1)
	if c := pkg.Engines["npm"]; c != "" {
		npm, npmAt = c, at("engines.npm")
	}
	p.Runtimes = append(p.Runtimes, stack.Runtime{Tool: "npm", Constraint: npm, At: npmAt})
}

// nodePorts finds where a serve script listens: what its line says, a PORT setting, its code, its framework.
func nodePorts(f Folder, line string, at stack.Place, framework int) []stack.Port {
	if port := portIn(line); port > 0 {
		return httpPort(port, at)
	}
	if port, at := f.portSetting(); port > 0 {
		return httpPort(port, at)
	}
	var files []string
	for _, word := range strings.Fields(line) {
		if strings.HasSuffix(word, ".js") || strings.HasSuffix(word, ".mjs") || strings.HasSuffix(word, ".cjs") || strings.HasSuffix(word, ".ts") {
			files = append(files, word)
		}
	}
	for _, name := range []string{"server.js", "index.js", "app.js", "main.js", "src/server.js", "src/index.js", "src/main.ts", "src/index.ts"} {
		if !slices.Contains(files, name) {
			files = append(files, name)
		}
	}
	if port, at := f.portByCode(nodeListens, files...); port > 0 {
		return httpPort(port, at)
	}
	return httpPort(framework, at)
}
