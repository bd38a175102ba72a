package ecosystem

import (
	"encoding/json"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

type composerJSON struct {
	Name         string          `json:"name"`
	Require      anyMap          `json:"require"`
	RequireDev   anyMap          `json:"require-dev"`
	Scripts      composerScripts `json:"scripts"`
	Repositories any             `json:"repositories"`
}

// php is PHP, with Composer.
var php = &Ecosystem{
	Name:      "php",
	Managers:  []*Manager{composer},
	Manifests: []string{"composer.json", "composer.json-dist", "composer.json.dist"},
	Made:      []string{"vendor"},
	Endings:   []string{".php"},
	Language:  phpCode,
	Frameworks: []*Framework{
		{Name: "laravel", Secrets: []Secret{{Key: "APP_KEY", Command: "key:generate",
			Form: Form{Size: 32, As: AsBase64, Prefix: "base64:"}}}},
		{Name: "symfony", Layers: []string{".env", ".env.local", ".env.development", ".env.dev",
			".env.development.local", ".env.dev.local"},
			Secrets: []Secret{{Key: "APP_SECRET", Form: Form{Size: 16, As: AsHex}}}},
		{Name: "slim"},
	},
	Tools: []Tool{
		{Name: "php", Called: []string{"php"}, Images: []string{"php"},
			Packages: map[string]string{"pacman": "php", "apt": "php-cli", "dnf": "php-cli",
				"brew": "php", "apk": "php"}},
		{Name: phpExtension, Family: true, Program: "php", Ask: []string{"-m"},
			Find: extensionLoaded, Package: func(system, name string) string {
				if system != "apt" {
					return ""
				}
				ext := strings.TrimPrefix(name, phpExtension)
				if other, ok := phpPackages[ext]; ok {
					return "php-" + other
				}
				return "php-" + ext
			}},
	},
	Logins: []string{".composer/auth.json", ".config/composer/auth.json"},
	Public: []string{"repo.packagist.org"},
	Verbs: []Verb{
		{MakesKey, []string{"php artisan key:generate", "php bin/console secrets:*"}},
		{stack.Test, []string{"phpunit", "vendor/bin/phpunit", "php artisan test"}},
		{Serves, []string{"php artisan serve", "php -S",
			"php bin/console serve|server:start|server:run|local:server:start"}},
	},
	Aliases: map[string]string{"bin/console": "php bin/console", "symfony": "php bin/console",
		"./artisan": "php artisan"},
}

var phpCode = &Language{
	Comments: append(slashes, hash...),
	Blocks:   append([][2]string{{"<!--", "-->"}}, starred...),
	Quotes:   []Quote{doubled, single},
	Accesses: slices.Concat(callsFor(false, "env", "getenv"), holds(false, "$_ENV")),
	Else:     append([]string{"===", "!==", "?", "??="}, usualElse...),
}

var composer = &Manager{
	Name:   "composer",
	Locks:  []string{"composer.lock"},
	Weight: &Weight{expr.New(`"dist": \{`), 600_000, []string{"vendor"}},
	Obeys:  []string{"composer.json"},
	Hooks: []string{"pre-install-cmd", "post-install-cmd", "pre-update-cmd", "post-update-cmd",
		"pre-autoload-dump",
		"post-autoload-dump", "pre-package-*", "post-package-*", "pre-operations-exec", "command"},
	Tools: []Tool{{Name: "composer",
		Packages: map[string]string{"pacman": "composer", "apt": "composer", "dnf": "composer",
			"brew": "composer", "apk": "composer"}}},
	Verbs: []Verb{
		{SetsUp, []string{"composer global"}},
		{stack.Install, []string{"composer install|update"}},
	},
	Aliases: map[string]string{"composer run": "composer run-script"},
	Scripts: &Scripts{Run: "run-script", Bare: true, Member: []string{"--working-dir", "-d"},
		Own: []string{
			"about", "archive", "audit", "browse", "bump", "check-platform-reqs", "clear-cache",
			"config", "create-project",
			"depends", "diagnose", "dump-autoload", "dumpautoload", "exec", "fund", "global",
			"help", "i", "info", "init",
			"install", "licenses", "list", "outdated", "prohibits", "reinstall", "remove",
			"require", "search",
			"self-update", "show", "status", "suggests", "u", "update", "upgrade", "validate",
			"why", "why-not"}},
}

// phpExtension begins the name of each of PHP's extensions.
const phpExtension = "php extension "

// phpPackages are Debian's packages of extensions, where they are called otherwise than the
// extension.
var phpPackages = map[string]string{"mysqli": "mysql", "mysqlnd": "mysql", "pdo_mysql": "mysql",
	"pdo_pgsql":  "pgsql",
	"pdo_sqlite": "sqlite3", "pdo_odbc": "odbc", "dom": "xml", "simplexml": "xml",
	"xmlreader": "xml", "xmlwriter": "xml", "xsl": "xml"}

// phpBuiltIn are the extensions that every PHP for the command line comes with.
var phpBuiltIn = expr.New(
	`^(core|ctype|date|fileinfo|filter|hash|iconv|json|libxml|openssl|pcntl|pcre|pdo|phar|posix|` +
		`random|readline|reflection|session|sockets|spl|standard|tokenizer|zlib)$`)

// extensionLoaded tells from PHP's list of its modules whether one is there.
func extensionLoaded(said, name string) string {
	for line := range strings.Lines(said) {
		if strings.EqualFold(strings.TrimSpace(line), strings.TrimPrefix(name, phpExtension)) {
			return "loaded"
		}
	}
	return ""
}

// composerProject is a PHP project while it is read.
type composerProject struct {
	Folder
	manifest string // that lies in the checkout
	out      *Finding
	c        composerJSON
	lines    map[string]int
	port     int // that a setting names; 0 for none
	portAt   stack.Place
}

const composerManifest = "composer.json"

// composerManifests are the manifest and, where people are to make it first, the file that they
// copy.
var composerManifests = []string{composerManifest, "composer.json-dist", "composer.json.dist"}

func readComposer(f Folder) (*Finding, error) {
	manifest := f.first(composerManifests...)
	if manifest == "" {
		return nil, nil
	}
	data, err := f.Read(manifest)
	if err != nil {
		return nil, err
	}
	p := &composerProject{Folder: f, manifest: manifest}
	if p.lines, err = parseJSON(f, manifest, data, &p.c); err != nil {
		return nil, err
	}
	p.out = f.finding("php", "composer", manifest, manifest)
	p.out.Project.Name = p.c.Name
	p.out.wants("php", composerConstraint(p.c.Require["php"]), p.at("require.php"))
	p.out.wants("composer", "*", f.At(manifest, 1))
	for _, name := range sortedKeys(p.c.Require) {
		if ext, ok := strings.CutPrefix(strings.ToLower(name), "ext-"); ok &&
			!phpBuiltIn.MatchString(ext) {
			p.out.wants(phpExtension+ext, "*", p.at("require."+name))
		}
	}
	uses := map[string]stack.Place{}
	for name := range p.c.Require {
		uses[name] = p.at("require." + name)
	}
	p.out.uses(p.c.Name, uses)
	p.out.scripts(p.c.Scripts)
	composerSources(f, p.out, p.c.Repositories, p.at("repositories"))
	p.install()
	p.port, p.portAt = f.PortSetting()
	decide(phpServers, p)
	if p.c.RequireDev["phpunit/phpunit"] != "" && p.out.Project.Framework != "laravel" {
		p.add(stack.Test, p.at("require-dev.phpunit/phpunit"), "vendor/bin/phpunit")
	}
	return p.out, nil
}

// Plain is how a folder is served that has no manifest at all; nil if it isn't known to be.
func (f Folder) Plain() *stack.Serve {
	index := f.first(phpIndexes...)
	if index == "" {
		return nil
	}
	port, at := f.PortSetting()
	if port == 0 {
		port, at = 8000, f.At(index, 1)
	}
	return &stack.Serve{Command: phpServe(index, port), At: f.At(index, 1),
		Ports: httpPort(port, at), Source: stack.FromFramework}
}

// phpServe is PHP's own server for the folder of a first page.
func phpServe(index string, port int) []string {
	words := []string{"php", "-S", "127.0.0.1:" + itoa(port)}
	if dir := path.Dir(index); dir != "." {
		words = append(words, "-t", dir)
	}
	return words
}

func (p *composerProject) at(key string) stack.Place {
	return p.At(p.manifest, max(1, p.lines[key]))
}

func (p *composerProject) install() {
	install := p.step(stack.Install, p.At(p.manifest, 1), "composer", "install", "--no-interaction")
	if p.manifest != composerManifest {
		install.Command = []string{"sh", "-c", "test -e composer.json || cp " + p.manifest +
			" composer.json; " + strings.Join(install.Command, " ")}
	}
	if p.Has("composer.lock") {
		install.At = p.At("composer.lock", 1)
		p.out.names("composer", install.At, "lock file of composer")
	} else if len(p.c.Require)+len(p.c.RequireDev) > 0 {
		p.out.lockMissing("composer.lock", install.At)
	}
	install.Inputs, install.Outputs = p.locked("composer.lock",
		p.manifest), []string{path.Join(p.Path, "vendor")}
	p.out.step(install)
	p.out.Project.Bin = []string{path.Join(p.Path, "vendor/bin")}
}

// add adds a step.
func (p *composerProject) add(role stack.Role, at stack.Place, words ...string) *stack.Step {
	p.out.step(p.step(role, at, words...))
	return &p.out.Project.Steps[len(p.out.Project.Steps)-1]
}

// serve sets how the project is served, on the port of its settings or else on 8000, for which
// {port} stands in the words.
func (p *composerProject) serve(at stack.Place, words ...string) {
	port, portAt := 8000, at
	if p.port > 0 {
		port, portAt = p.port, p.portAt
	}
	var command []string
	for _, w := range words {
		command = append(command, strings.ReplaceAll(w, "{port}", itoa(port)))
	}
	p.out.Project.Serve = &stack.Serve{Command: command, At: at, Ports: httpPort(port, portAt),
		Source: stack.FromFramework}
}

// phpServers are the ways in which a PHP project is served.
var phpServers = []rule[*composerProject]{
	{"laravel", func(p *composerProject) bool {
		return p.c.Require["laravel/framework"] != "" && p.Has("artisan")
	}, (*composerProject).laravel},
	{"symfony", func(p *composerProject) bool { return p.c.Require["symfony/framework-bundle"] != "" },
		(*composerProject).symfony},
	{"a first page", func(p *composerProject) bool { return p.first(phpIndexes...) != "" },
		func(p *composerProject) {
			if p.c.Require["slim/slim"] != "" {
				p.out.Project.Framework = "slim"
			}
			index := p.first(phpIndexes...)
			words := phpServe(index, 0)
			words[2] = "127.0.0.1:{port}"
			p.serve(p.At(index, 1), words...)
		}},
}

var phpIndexes = []string{"public/index.php", "public_html/index.php", "web/index.php",
	"htdocs/index.php", "webroot/index.php", "index.php"}

func (p *composerProject) laravel() {
	p.out.Project.Framework = "laravel"
	at := p.at("require.laravel/framework")
	if p.exists("database/migrations") {
		p.add(stack.Migrate, at, "php", "artisan", "migrate", "--force",
			"--no-interaction").Inputs = p.folders("database/migrations")
		if seeder := "database/seeders/DatabaseSeeder.php"; p.exists(seeder) {
			p.add(stack.Seed, p.At(seeder, 1), "php", "artisan", "db:seed", "--force",
				"--no-interaction")
		}
	}
	p.serve(at, "php", "artisan", "serve", "--port", "{port}")
	p.add(stack.Test, at, "php", "artisan", "test")
}

func (p *composerProject) symfony() {
	p.out.Project.Framework = "symfony"
	at := p.at("require.symfony/framework-bundle")
	if p.c.Require["doctrine/doctrine-migrations-bundle"] != "" {
		p.add(stack.Create, at, "php", "bin/console", "doctrine:database:create", "--if-not-exists",
			"--no-interaction")
		p.add(stack.Migrate, at, "php", "bin/console", "doctrine:migrations:migrate",
			"--no-interaction", "--allow-no-migration").Inputs = p.folders("migrations")
	}
	if p.c.RequireDev["doctrine/doctrine-fixtures-bundle"] != "" {
		p.add(stack.Seed, at, "php", "bin/console", "doctrine:fixtures:load", "--no-interaction")
	}
	p.serve(at, "php", "-S", "127.0.0.1:{port}", "-t", "public")
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

// composerScripts are the commands behind the names of the manifest's scripts. One that begins with
// @ calls another, or PHP or Composer themselves.
type composerScripts map[string][]string

// UnmarshalJSON takes single texts and lists of them; anything else reads as empty.
func (m *composerScripts) UnmarshalJSON(data []byte) error {
	var raw map[string]any
	if json.Unmarshal(data, &raw) != nil {
		return nil
	}
	*m = composerScripts{}
	for name, value := range raw {
		list, ok := value.([]any)
		if !ok {
			list = []any{value}
		}
		for _, entry := range list {
			line, ok := entry.(string)
			if !ok {
				continue
			}
			if rest, own := strings.CutPrefix(line, "@"); own {
				if line = rest; !strings.HasPrefix(line, "php ") &&
					!strings.HasPrefix(line, "composer ") {
					line = "composer " + line
				}
			}
			(*m)[name] = append((*m)[name], line)
		}
	}
	return nil
}

var (
	composerOr    = expr.New(`\s*\|\|?\s*`)
	composerTilde = expr.New(`~(\d+(?:\.\d+)?)([\s,|]|$)`)
)

// composerConstraint writes a constraint in the notation of semantic versions: ~8.1 allows 8.9,
// ~8.1.2 only 8.1.
func composerConstraint(c string) string {
	return composerTilde.ReplaceAllString(composerOr.ReplaceAllString(c, " || "), "^$1$2")
}
