package ecosystem

import (
	"net/url"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// nodeFramework is how a framework of the ecosystem is recognised, and how its server takes a port.
type nodeFramework struct {
	pkg      string // the package that tells it
	port     int    // the one its server takes by itself
	flag     string // the option that sets another; empty where the variable PORT does
	settings string // the pattern of its own settings files, which may name a port
	ownPort  bool   // its server does not heed PORT from a settings file
	serves   bool   // a program that uses it is a server
}

// viteLayers are the settings files that vite and what is built on it read in work on a project.
var viteLayers = []string{".env", ".env.development", ".env.local", ".env.development.local"}

// frameworksOfNode are so sorted that one that is built on another comes first.
func frameworksOfNode() []*Framework {
	onVite := func(name, pkg string, public ...string) *Framework {
		return &Framework{Name: name, Browser: true, Layers: viteLayers, Public: public,
			node: &nodeFramework{pkg: pkg, port: 5173, flag: "--port", settings: "vite.config.*",
				ownPort: true}}
	}
	server := func(name, pkg string, port int) *Framework {
		return &Framework{Name: name, node: &nodeFramework{pkg: pkg, port: port, serves: true}}
	}
	auth := Form{Size: 32, As: AsBase64}
	return []*Framework{
		{Name: "next", Browser: true, API: true, Layers: viteLayers,
			Public: []string{"NEXT_PUBLIC_"},
			Secrets: []Secret{{Key: "AUTH_SECRET", Form: auth, Default: true},
				{Key: "NEXTAUTH_SECRET", Form: auth, Default: true}},
			node: &nodeFramework{pkg: "next", port: 3000}},
		{Name: "nuxt", Browser: true, Layers: viteLayers, Public: []string{"NUXT_PUBLIC_"},
			node: &nodeFramework{pkg: "nuxt", port: 3000, settings: "nuxt.config.*"}},
		onVite("remix", "@remix-run/dev"),
		onVite("react-router", "@react-router/dev"),
		{Name: "astro", Browser: true, Layers: viteLayers, Public: []string{"PUBLIC_"},
			node: &nodeFramework{pkg: "astro", port: 4321, flag: "--port",
				settings: "astro.config.*", ownPort: true}},
		{Name: "angular", Browser: true, Public: []string{"NG_APP_"},
			node: &nodeFramework{pkg: "@angular/core", port: 4200, flag: "--port",
				settings: "angular.json", ownPort: true}},
		onVite("sveltekit", "@sveltejs/kit", "PUBLIC_"),
		{Name: "create-react-app", Browser: true, Layers: viteLayers,
			Public: []string{"REACT_APP_"},
			node:   &nodeFramework{pkg: "react-scripts", port: 3000}},
		{Name: "vue-cli", Browser: true, Layers: viteLayers, Public: []string{"VUE_APP_"},
			node: &nodeFramework{pkg: "@vue/cli-service", port: 8080, flag: "--port",
				settings: "vue.config.*", ownPort: true}},
		{Name: "gatsby", Browser: true, Layers: viteLayers, Public: []string{"GATSBY_"},
			node: &nodeFramework{pkg: "gatsby", port: 8000, flag: "--port", ownPort: true}},
		{Name: "eleventy", node: &nodeFramework{pkg: "@11ty/eleventy", port: 8080, flag: "--port",
			ownPort: true}},
		server("nest", "@nestjs/core", 3000),
		server("fastify", "fastify-cli", 3000),
		server("fastify", "fastify", 0),
		server("express", "express", 0),
		server("koa", "koa", 0),
		server("hapi", "@hapi/hapi", 0),
		server("hono", "hono", 0),
		onVite("vite", "vite", "VITE_"),
		{Name: "webpack",
			node: &nodeFramework{pkg: "webpack-dev-server", port: 8080, flag: "--port",
				settings: "webpack.config.*", ownPort: true}},
		{Name: "parcel", node: &nodeFramework{pkg: "parcel", port: 1234, flag: "--port",
			ownPort: true}},
		{Name: "docusaurus", Documents: true,
			node: &nodeFramework{pkg: "@docusaurus/core", port: 3000, flag: "--port",
				ownPort: true}},
		{Name: "electron", Screen: true, node: &nodeFramework{pkg: "electron"}},
		{Name: "react-native", Screen: true, Public: []string{"EXPO_PUBLIC_"},
			node: &nodeFramework{pkg: "react-native"}},
	}
}

var (
	proxyTarget = expr.New(
		`["'` + "`" + `](https?(?:\$\{[^}]*\})?://(?:localhost|127\.0\.0\.1|[a-z0-9_-]+):\d{2,5})` +
			`[^"'` + "`" + `]*["'` + "`" + `]`)
	packageProxy = expr.New(`"proxy"\s*:\s*"(https?://[^"]+)"`)
)

// proxiesOfNode are the settings in which front ends name the server that they hand calls on to.
func proxiesOfNode() []Proxy {
	var out []Proxy
	for _, file := range []string{"vite.config.ts", "vite.config.js", "vite.config.mjs", "proxy.conf.json",
		"src/proxy.conf.json", "proxy.conf.js", "vue.config.js", "next.config.js", "next.config.mjs", "next.config.ts",
		"nuxt.config.ts", "webpack.config.js", "src/setupProxy.js", "astro.config.mjs", "svelte.config.js"} {
		out = append(out, Proxy{file, proxyTarget})
	}
	return append(out, Proxy{"package.json", packageProxy})
}

var nodeSettingsPort = expr.New(`"?\bport"?\s*:\s*(\d{2,5})`)

func (n *nodeProject) framework() {
	script := strings.Fields(n.pkg.Scripts[n.serving().serveScript()])
	for _, fw := range node.Frameworks {
		if !n.pkg.uses(fw.node.pkg) {
			continue
		}
		// A program that brings its own server beside a bundler is the server, not the bundler's.
		if fw.Name == "vite" || fw.node.serves {
			for _, dev := range node.Frameworks {
				if dev.node.flag != "" && n.pkg.uses(dev.node.pkg) && slices.Contains(script, dev.Name) {
					fw = dev
				}
			}
		}
		n.known = *fw.node
		n.out.Project.Framework = fw.Name
		line := n.lines["dependencies."+n.known.pkg] + n.lines["devDependencies."+n.known.pkg]
		n.out.evidence(n.At("package.json", line), fw.Name)
		if fw.Screen {
			n.out.Project.NotHere = "it is a program for a screen or a phone, not a service: " + fw.Name
		}
		return
	}
}

// migration is a tool that brings a database's tables up to date.
type migration struct {
	tool                    string
	at                      stack.Place
	folder                  string // of the migrations, relative to the project
	generate, migrate, seed []string
}

// does are the words with which the tool does what a step is for; nil for none.
func (m *migration) does(role stack.Role) []string {
	if m == nil {
		return nil
	}
	return map[stack.Role][]string{stack.Generate: m.generate, stack.Migrate: m.migrate,
		stack.Seed: m.seed}[role]
}

// nodeMigration finds the migration tool of a project.
func nodeMigration(n *nodeProject) *migration {
	for _, t := range nodeMigrators {
		if slices.ContainsFunc(t.packages, n.pkg.uses) && (t.config == "" ||
			len(n.named(t.config)) > 0) {
			return t.find(n)
		}
	}
	return nil
}

// nodeMigrators are the tools that migrate, by packages one of which brings them and a file that
// must be there, as a pattern; the first that is there counts. Find is nil where its migrations are
// not.
var nodeMigrators = []struct {
	packages []string
	config   string
	find     func(n *nodeProject) *migration
}{
	{[]string{"prisma", "@prisma/client"}, "", prismaMigrates},
	{[]string{"knex"}, "knexfile.*", func(n *nodeProject) *migration {
		m := &migration{tool: "knex", at: n.At(n.named("knexfile.*")[0], 1),
			migrate: []string{"knex", "migrate:latest"},
			folder:  n.first("migrations", "db/migrations", "src/migrations")}
		if n.first("seeds", "db/seeds") != "" {
			m.seed = []string{"knex", "seed:run"}
		}
		return m
	}},
	{[]string{"sequelize-cli"}, "", func(n *nodeProject) *migration {
		m := &migration{tool: "sequelize", at: n.atPackage("sequelize-cli"),
			folder: n.first("migrations", "db/migrations", "src/migrations")}
		if m.folder == "" {
			return nil
		}
		m.migrate = []string{"sequelize-cli", "db:migrate"}
		if n.first("seeders", "db/seeders", "src/seeders") != "" {
			m.seed = []string{"sequelize-cli", "db:seed:all"}
		}
		return m
	}},
	{[]string{"typeorm"}, "", typeormMigrates},
	{[]string{"drizzle-kit"}, "drizzle.config.*", func(n *nodeProject) *migration {
		config := n.named("drizzle.config.*")[0]
		m := &migration{tool: "drizzle", at: n.At(config, 1),
			migrate: []string{"drizzle-kit", "push"}}
		if m.folder = n.drizzleFolder(config); m.folder != "" {
			m.migrate = []string{"drizzle-kit", "migrate"}
		}
		return m
	}},
}

// atPackage is where the manifest names a package, among either kind of them.
func (n *nodeProject) atPackage(name string) stack.Place {
	return n.At("package.json", n.lines["dependencies."+name]+n.lines["devDependencies."+name])
}

func prismaMigrates(n *nodeProject) *migration {
	if !n.exists("prisma/schema.prisma") && !n.exists("schema.prisma") && !n.exists("prisma/schema") {
		return nil
	}
	m := &migration{tool: "prisma", at: n.atPackage("prisma"),
		generate: []string{"prisma", "generate"}}
	if m.migrate = []string{"prisma", "db", "push"}; n.exists("prisma/migrations") {
		m.folder, m.migrate = "prisma/migrations", []string{"prisma", "migrate", "deploy"}
	}
	if n.pkg.Prisma["seed"] != "" {
		m.seed = []string{"prisma", "db", "seed"}
	}
	return m
}

// typeormMigrates goes by the file that makes the data source: as it is, or by what runs
// TypeScript.
func typeormMigrates(n *nodeProject) *migration {
	program := "typeorm"
	source := n.first("data-source.js", "src/data-source.js", "dist/data-source.js")
	if source == "" && n.pkg.uses("ts-node") {
		program, source = "typeorm-ts-node-commonjs", n.first("src/data-source.ts", "data-source.ts")
	}
	if source == "" {
		return nil
	}
	return &migration{tool: "typeorm", at: n.At(source, 1),
		folder:  n.first("src/migrations", "src/migration", "migrations"),
		migrate: []string{program, "migration:run", "-d", source}}
}

// nodeCompiles are packages with parts in C or C++ that are compiled where no ready-made form fits.
var nodeCompiles = map[string][]string{
	"bcrypt": {"gcc", "make", "python3"}, "sqlite3": {"gcc", "make", "python3"},
	"better-sqlite3": {"gcc", "make", "python3"}, "argon2": {"gcc", "make", "python3"},
	"canvas":     {"gcc", "make", "python3", "pkg-config", library + "cairo", library + "pango", library + "libjpeg"},
	"node-sass":  {"gcc", "make", "python3"},
	"bufferutil": {"gcc", "make", "python3"}, "utf-8-validate": {"gcc", "make", "python3"},
	"node-rdkafka": {"gcc", "make", "python3"}, "libpq": {"gcc", "make", "python3", "pg_config"},
	"pg-native": {"gcc", "make", "python3", "pg_config"}, "re2": {"gcc", "make", "python3"},
	"zeromq": {"gcc", "make", "python3"}, "oracledb": {"gcc", "make", "python3"},
	"cpu-features": {"gcc", "make", "python3"}, "isolated-vm": {"gcc", "make", "python3"},
}

var (
	npmRegistry = expr.New(`(?m)^\s*(?:@[\w.-]+:)?registry\s*=\s*["']?(\S+?)["']?\s*$`)
	npmToken    = expr.New(
		`(?m)^\s*//([^\s:=]+)[^=\n]*:(?:_authToken|_password|_auth)\s*=\s*["']?(\S*?)["']?\s*$`)
	yarnRegistry = expr.New(`(?m)^\s*npmRegistryServer:\s*["']?([^"'\s]+)`)
	yarnToken    = expr.New(`(?m)^\s*npmAuth(?:Token|Ident):\s*["']?([^"'\s]+)`)
	variable     = expr.New(`\$\{?([A-Za-z_]\w*)`)
)

// sources finds package sources other than the public one, and whether they ask for a login.
func (n *nodeProject) sources() {
	for _, file := range []struct {
		name            string
		registry, token *expr.Expr
		value           int
	}{{".npmrc", npmRegistry, npmToken, 2}, {".yarnrc.yml", yarnRegistry, yarnToken, 1}} {
		text := n.text(file.name)
		if text == "" {
			continue
		}
		logins := map[string]string{}
		for _, m := range file.token.FindAllStringSubmatch(text, -1) {
			host := ""
			if file.value == 2 {
				host = m[1]
			}
			logins[strings.Split(host, "/")[0]] = m[file.value]
		}
		for _, m := range file.registry.FindAllStringSubmatchIndex(text, -1) {
			address := text[m[2]:m[3]]
			host := hostOf(address)
			if host == "" || slices.Contains(node.Public, host) {
				continue
			}
			line, _ := position([]byte(text), int64(m[2]))
			token, login := logins[host]
			if !login {
				token, login = logins[""]
			}
			n.out.source(address, login, token, n.At(file.name, line))
		}
	}
}

// source adds a package source; a login that stands in its address is left out.
func (f *Finding) source(address string, login bool, token string, at stack.Place) {
	if u, err := url.Parse(address); err == nil && u.User != nil {
		login, u.User = true, nil
		if m := variable.FindStringSubmatch(address); m != nil {
			token = "$" + m[1]
		}
		address = u.String()
	}
	s := stack.Source{Address: address, Login: login, At: at}
	if m := variable.FindStringSubmatch(token); m != nil {
		s.Variable = m[1]
	}
	f.Project.Sources = append(f.Project.Sources, s)
}

func hostOf(address string) string {
	u, err := url.Parse(variable.ReplaceAllString(address, "x"))
	if err != nil {
		return ""
	}
	return u.Hostname()
}
