package ecosystem

import (
	"path"
	"strings"

	"nimbleharbor/internal/stack"
)

type composerJSON struct {
	Name         string `json:"name"`
	Require      anyMap `json:"require"`
	RequireDev   anyMap `json:"require-dev"`
	Scripts      anyMap `json:"scripts"`
	Repositories any    `json:"repositories"`
}

func readComposer(f Folder) (*Finding, error) {
	const manifest = "composer.json"
	if !f.Has(manifest) {
		return nil, nil
	}
	data, err := f.Read(manifest)
	if err != nil {
		return nil, err
	}
	var c composerJSON
	lines, err := parseJSON(f, manifest, data, &c)
	if err != nil {
		return nil, err
	}
	at := func(key string) stack.Place { return f.At(manifest, max(1, lines[key])) }
	out := f.finding("php", "composer", manifest, "composer.json")
	p := &out.Project
	p.Name = c.Name
	constraint := c.Require["php"]
	out.wants("php", strings.ReplaceAll(constraint, "|", " || "), at("require.php"))
	out.wants("composer", "*", f.At(manifest, 1))
	for _, name := range sortedKeys(c.Require) {
		if ext, ok := strings.CutPrefix(name, "ext-"); ok {
			out.wants("php extension "+ext, "*", at("require."+name))
		}
	}
	composerSources(f, out, c.Repositories, at("repositories"))
	install := f.step(stack.Install, f.At(manifest, 1), "composer", "install", "--no-interaction")
	if f.Has("composer.lock") {
		install.At = f.At("composer.lock", 1)
		out.evidence(install.At, "lock file of composer")
	} else if len(c.Require)+len(c.RequireDev) > 0 {
		out.remark(stack.Warning, "lock-missing", f.At(manifest, 1),
			"there is no composer.lock, so each machine may get other versions",
			"Commit the composer.lock that the install makes.")
	}
	install.Inputs, install.Outputs = f.locked("composer.lock", manifest), []string{path.Join(f.Path, "vendor")}
	out.step(install)
	p.Bin = []string{path.Join(f.Path, "vendor/bin")}

	step := func(role stack.Role, at stack.Place, words ...string) *stack.Step {
		out.step(f.step(role, at, words...))
		return &p.Steps[len(p.Steps)-1]
	}
	port, portAt := f.portSetting()
	number := func(usual int, at stack.Place) []stack.Port {
		if port > 0 {
			return httpPort(port, portAt)
		}
		return httpPort(usual, at)
	}
	switch {
	case c.Require["laravel/framework"] != "" && f.Has("artisan"):
		p.Framework = "laravel"
		at := at("require.laravel/framework")
		if f.exists("database/migrations") {
			step(stack.Migrate, at, "php", "artisan", "migrate", "--force",
				"--no-interaction").Inputs = []string{path.Join(f.Path, "database/migrations")}
			if f.exists("database/seeders/DatabaseSeeder.php") {
				step(stack.Seed, f.At("database/seeders/DatabaseSeeder.php", 1), "php", "artisan", "db:seed", "--force",
					"--no-interaction")
			}
		}
		ports := number(8000, at)
		p.Serve = &stack.Serve{Command: []string{"php", "artisan", "serve", "--port", itoa(ports[0].Host)}, At: at,
			Ports: ports, Source: stack.FromFramework}
		step(stack.Test, at, "php", "artisan", "test")
	case c.Require["symfony/framework-bundle"] != "":
		p.Framework = "symfony"
		at := at("require.symfony/framework-bundle")
		if c.Require["doctrine/doctrine-migrations-bundle"] != "" {
			step(stack.Create, at, "php", "bin/console", "doctrine:database:create", "--if-not-exists",
				"--no-interaction")
			step(stack.Migrate, at, "php", "bin/console", "doctrine:migrations:migrate", "--no-interaction",
				"--allow-no-migration").Inputs = f.folders("migrations")
		}
		if c.RequireDev["doctrine/doctrine-fixtures-bundle"] != "" {
			step(stack.Seed, at, "php", "bin/console", "doctrine:fixtures:load", "--no-interaction")
		}
		ports := number(8000, at)
		p.Serve = &stack.Serve{Command: []string{"php", "-S", "127.0.0.1:" + itoa(ports[0].Host), "-t", "public"},
			At: at, Ports: ports, Source: stack.FromFramework}
	default:
		if index := f.first("public/index.php", "web/index.php", "index.php"); index != "" {
			if c.Require["slim/slim"] != "" {
				p.Framework = "slim"
			}
			ports := number(8000, f.At(index, 1))
			command := []string{"php", "-S", "127.0.0.1:" + itoa(ports[0].Host)}
			if dir := path.Dir(index); dir != "." {
				command = append(command, "-t", dir)
			}
			p.Serve = &stack.Serve{Command: command, At: f.At(index, 1), Ports: ports, Source: stack.FromFramework}
		}
	}
	if c.RequireDev["phpunit/phpunit"] != "" && p.Framework != "laravel" {
		step(stack.Test, at("require-dev.phpunit/phpunit"), "vendor/bin/phpunit")
	}
	return out, nil
}

// folders lists those of the names that are folders here, relative to the workspace.
func (f Folder) folders(names ...string) []string {
	var out []string
	for _, n := range names {
		if f.exists(n) {
			out = append(out, path.Join(f.Path, n))
		}
	}
	return out
}

// composerSources reads the repositories, which are a list or an object.
func composerSources(f Folder, out *Finding, repositories any, at stack.Place) {
	var list []any
	switch r := repositories.(type) {
	case []any:
		list = r
	case map[string]any:
		for _, k := range sortedKeys(r) {
			list = append(list, r[k])
		}
	}
	for _, e := range list {
		m, _ := e.(map[string]any)
		address, _ := m["url"].(string)
		kind, _ := m["type"].(string)
		if kind == "path" || hostOf(address) == "" || hostOf(address) == "repo.packagist.org" {
			continue
		}
		out.source(address, f.Has("auth.json") || f.Has("auth.json.example"), "$COMPOSER_AUTH",
			f.lineWith("composer.json", address))
	}
}
