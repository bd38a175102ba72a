package ecosystem

import (
	"path"
	"slices"
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

// php is PHP, with Composer.
var php = &Ecosystem{
	Name:      "php",
	Managers:  []*Manager{composer},
	Manifests: []string{"composer.json"},
	Made:      []string{"vendor"},
	Endings:   []string{".php"},
	Reads: slices.Concat(
		readsBy(false, `\(\s*['"]`+envName+`['"]\s*(,|\)\s*(?:\?\?|\?:))?`, "env", "getenv"),
		readsBy(false, `['"]`+envName+`['"]\]\s*(\?\?|\?:)?`, "$_ENV[")),
	Frameworks: []*Framework{
		{Name: "laravel", Secrets: []Secret{{Key: "APP_KEY", Command: "key:generate",
			Form: Form{Size: 32, As: AsBase64, Prefix: "base64:"}}}},
		{Name: "symfony",
			Layers: []string{".env", ".env.local", ".env.development", ".env.dev", ".env.development.local",
				".env.dev.local"},
			Secrets: []Secret{{Key: "APP_SECRET", Form: Form{Size: 16, As: AsHex}}}},
		{Name: "slim"},
	},
	Tools: []Tool{
		{Name: "php", Called: []string{"php"}, Images: []string{"php"},
			Packages: map[string]string{"apt": "php-cli", "dnf": "php-cli", "brew": "php", "apk": "php"}},
		{Name: phpExtension, Family: true, Program: "php", Ask: []string{"-m"}, Find: extensionLoaded,
			Package: func(system, name string) string {
				if system != "apt" {
					return ""
				}
				return "php-" + strings.TrimPrefix(strings.TrimPrefix(name, phpExtension), "pdo_")
			}},
	},
	Logins: []string{".composer/auth.json", ".config/composer/auth.json"},
	Public: []string{"repo.packagist.org"},
	Verbs: []Verb{
		{MakesKey, []string{"php artisan key:generate", "php bin/console secrets:*"}},
		{stack.Test, []string{"phpunit", "vendor/bin/phpunit", "php artisan test"}},
		{Serves, []string{"php artisan serve", "php -S"}},
	},
	Aliases: map[string]string{"bin/console": "php bin/console", "symfony": "php bin/console",
		"./artisan": "php artisan"},
}

var composer = &Manager{
	Name:  "composer",
	Locks: []string{"composer.lock"},
	Tools: []Tool{{Name: "composer",
		Packages: map[string]string{"apt": "composer", "dnf": "composer", "brew": "composer", "apk": "composer"}}},
	Verbs: []Verb{
		{SetsUp, []string{"composer global"}},
		{stack.Install, []string{"composer install|update"}},
	},
}

// phpExtension begins the name of each of PHP's extensions.
const phpExtension = "php extension "

// extensionLoaded tells from PHP's list of its modules whether one is there.
func extensionLoaded(said, name string) string {
	for line := range strings.Lines(said) {
		if strings.EqualFold(strings.TrimSpace(line), strings.TrimPrefix(name, phpExtension)) {
			return "loaded"
		}
	}
	return ""
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
			out.wants(phpExtension+ext, "*", at("require."+name))
		}
	}
	composerSources(f, out, c.Repositories, at("repositories"))
	install := f.step(stack.Install, f.At(manifest, 1), "composer", "install", "--no-interaction")
	if f.Has("composer.lock") {
		install.At = f.At("composer.lock", 1)
		out.evidence(install.At, "lock file of composer")
	} else if len(c.Require)+len(c.RequireDev) > 0 {
		out.remark(stack.Warning, stack.CodeLockMissing, f.At(manifest, 1),
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
	port, portAt := f.PortSetting()
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
		if kind == "path" || hostOf(address) == "" || slices.Contains(php.Public, hostOf(address)) {
			continue
		}
		out.source(address, f.Has("auth.json") || f.Has("auth.json.example"), "$COMPOSER_AUTH",
			f.lineWith("composer.json", address))
	}
}
