package ecosystem

import (
	"net/url"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// nodeFramework is a framework of the ecosystem: the package that tells it, and how its server takes a port.
type nodeFramework struct {
	pkg, name string
	port      int    // the one its server takes by itself
	flag      string // the option that sets another; empty where the variable PORT does
	settings  string // the pattern of its own settings files, which may name a port
	ownPort   bool   // its server does not heed PORT from a settings file
	serves    bool   // a program that uses it is a server
}

// nodeFrameworks are so sorted that one that is built on another comes first.
var nodeFrameworks = []nodeFramework{
	{pkg: "next", name: "next", port: 3000},
	{pkg: "nuxt", name: "nuxt", port: 3000, settings: "nuxt.config.*"},
	{pkg: "@remix-run/dev", name: "remix", port: 5173, flag: "--port", settings: "vite.config.*", ownPort: true},
	{pkg: "@react-router/dev", name: "react-router", port: 5173, flag: "--port", settings: "vite.config.*",
		ownPort: true},
	{pkg: "astro", name: "astro", port: 4321, flag: "--port", settings: "astro.config.*", ownPort: true},
	{pkg: "@angular/core", name: "angular", port: 4200, flag: "--port", settings: "angular.json", ownPort: true},
	{pkg: "@sveltejs/kit", name: "sveltekit", port: 5173, flag: "--port", settings: "vite.config.*", ownPort: true},
	{pkg: "react-scripts", name: "create-react-app", port: 3000},
	{pkg: "@vue/cli-service", name: "vue-cli", port: 8080, flag: "--port", settings: "vue.config.*", ownPort: true},
	{pkg: "gatsby", name: "gatsby", port: 8000, flag: "--port", ownPort: true},
	{pkg: "@11ty/eleventy", name: "eleventy", port: 8080, flag: "--port", ownPort: true},
	{pkg: "@nestjs/core", name: "nest", port: 3000, serves: true},
	{pkg: "fastify-cli", name: "fastify", port: 3000, serves: true},
	{pkg: "fastify", name: "fastify", serves: true},
	{pkg: "express", name: "express", serves: true},
	{pkg: "koa", name: "koa", serves: true},
	{pkg: "@hapi/hapi", name: "hapi", serves: true},
	{pkg: "hono", name: "hono", serves: true},
	{pkg: "vite", name: "vite", port: 5173, flag: "--port", settings: "vite.config.*", ownPort: true},
	{pkg: "webpack-dev-server", name: "webpack", port: 8080, flag: "--port", settings: "webpack.config.*",
		ownPort: true},
	{pkg: "parcel", name: "parcel", port: 1234, flag: "--port", ownPort: true},
	{pkg: "@docusaurus/core", name: "docusaurus", port: 3000, flag: "--port", ownPort: true},
	{pkg: "electron", name: "electron"},
	{pkg: "react-native", name: "react-native"},
}

var nodeSettingsPort = expr.New(`"?\bport"?\s*:\s*(\d{2,5})`)

func (n *nodeProject) framework() {
	for _, fw := range nodeFrameworks {
		if !n.pkg.uses(fw.pkg) {
			continue
		}
		n.known = fw
		// A program that brings its own server beside a bundler is the server, not the bundler's.
		if script := n.pkg.Scripts[n.serveScript()]; fw.name == "vite" || fw.serves {
			for _, dev := range nodeFrameworks {
				if dev.flag != "" && n.pkg.uses(dev.pkg) &&
					slices.Contains(strings.Fields(script), dev.name) {
					n.known = dev
				}
			}
		}
		n.out.Project.Framework = n.known.name
		line := n.lines["dependencies."+n.known.pkg] + n.lines["devDependencies."+n.known.pkg]
		n.out.evidence(n.At("package.json", line), n.known.name)
		if fw.name == "electron" || fw.name == "react-native" {
			n.out.Project.NotHere = "it is a program for a screen or a phone, not a service: " + fw.name
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

// nodeMigration finds the migration tool of a project.
func nodeMigration(n *nodeProject) *migration {
	at := func(pkg string) stack.Place {
		return n.At("package.json", n.lines["dependencies."+pkg]+n.lines["devDependencies."+pkg])
	}
	switch {
	case n.pkg.uses("prisma") || n.pkg.uses("@prisma/client"):
		if !n.exists("prisma/schema.prisma") && !n.exists("schema.prisma") && !n.exists("prisma/schema") {
			return nil
		}
		m := &migration{tool: "prisma", at: at("prisma"), generate: []string{"prisma", "generate"}}
		if m.migrate = []string{"prisma", "db", "push"}; n.exists("prisma/migrations") {
			m.folder, m.migrate = "prisma/migrations", []string{"prisma", "migrate", "deploy"}
		}
		if n.pkg.Prisma["seed"] != "" {
			m.seed = []string{"prisma", "db", "seed"}
		}
		return m
	case n.pkg.uses("knex") && len(n.named("knexfile.*")) > 0:
		m := &migration{tool: "knex", at: n.At(n.named("knexfile.*")[0], 1),
			migrate: []string{"knex", "migrate:latest"},
			folder:  n.first("migrations", "db/migrations", "src/migrations")}
		if n.first("seeds", "db/seeds") != "" {
			m.seed = []string{"knex", "seed:run"}
		}
		return m
	case n.pkg.uses("sequelize-cli"):
		m := &migration{tool: "sequelize", at: at("sequelize-cli"),
			folder: n.first("migrations", "db/migrations", "src/migrations")}
		if m.folder == "" {
			return nil
		}
		m.migrate = []string{"sequelize-cli", "db:migrate"}
		if n.first("seeders", "db/seeders", "src/seeders") != "" {
			m.seed = []string{"sequelize-cli", "db:seed:all"}
		}
		return m
	case n.pkg.uses("typeorm"):
		if source := n.first("data-source.js", "src/data-source.js", "dist/data-source.js"); source != "" {
			return &migration{tool: "typeorm", at: n.At(source, 1), folder: n.first("src/migrations", "src/migration",
				"migrations"), migrate: []string{"typeorm", "migration:run", "-d", source}}
		}
		if source := n.first("src/data-source.ts", "data-source.ts"); source != "" && n.pkg.uses("ts-node") {
			return &migration{tool: "typeorm", at: n.At(source, 1), folder: n.first("src/migrations", "src/migration",
				"migrations"), migrate: []string{"typeorm-ts-node-commonjs", "migration:run", "-d", source}}
		}
	case n.pkg.uses("drizzle-kit") && len(n.named("drizzle.config.*")) > 0:
		return &migration{tool: "drizzle", at: n.At(n.named("drizzle.config.*")[0], 1),
			folder: n.first("drizzle", "migrations"), migrate: []string{"drizzle-kit", "migrate"}}
	}
	return nil
}

// nodeCompiles are packages with parts in C or C++ that are compiled where no ready-made form fits.
var nodeCompiles = map[string][]string{
	"bcrypt": {"gcc", "make", "python3"}, "sqlite3": {"gcc", "make", "python3"},
	"better-sqlite3": {"gcc", "make", "python3"}, "argon2": {"gcc", "make", "python3"},
	"canvas": {"gcc", "make", "python3", "pkg-config"}, "node-sass": {"gcc", "make", "python3"},
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

// publicNode are the hosts that need no login.
var publicNode = []string{"registry.npmjs.org", "registry.yarnpkg.com"}

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
			if host == "" || slices.Contains(publicNode, host) {
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
