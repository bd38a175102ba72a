package ecosystem

import (
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

var (
	gemLine    = expr.New(`(?m)^\s*gem\s*\(?\s*["']([^"']+)["']`)
	rubyLine   = expr.New(`(?m)^\s*ruby\s*\(?\s*((?:["'][^"'\n]+["'][,\s]*)+)`)
	gemSource  = expr.New(`(?m)^\s*source\s*\(?\s*["']([^"']+)["']`)
	codeLine   = expr.New(`(?m)^\s*[^#\s]`)
	sinatraSet = expr.New(
		`set\s+:port,\s*(?:ENV(?:\.fetch\(|\[)["']PORT["'](?:,\s*|\]\s*\|\|\s*))?["']?(\d{2,5})`)
	pumaPort = expr.New(`(?m)^\s*port\s+.*?(\d{2,5})`)
)

// gemCompiles are gems with C parts that are compiled while they are installed.
var gemCompiles = []struct {
	name  string
	takes []string
}{
	{"pg", []string{"gcc", "make", "ruby headers", "pg_config"}},
	{"mysql2", []string{"gcc", "make", "ruby headers", "mysql_config"}},
	{"sqlite3", []string{"gcc", "make", "ruby headers"}},
	{"bcrypt", []string{"gcc", "make", "ruby headers"}}, {"puma",
		[]string{"gcc", "make", "ruby headers"}},
	{"bootsnap", []string{"gcc", "make", "ruby headers"}},
	{"nio4r", []string{"gcc", "make", "ruby headers"}}, {"unf_ext",
		[]string{"g++", "make", "ruby headers"}},
	{"rmagick", []string{"gcc", "make", "ruby headers", "pkg-config", library + "MagickWand"}},
	{"charlock_holmes", []string{"g++", "make", "ruby headers", library + "icu-uc"}},
	{"psych", []string{"gcc", "make", "ruby headers", library + "yaml-0.1"}},
}

// ruby is Ruby, with Bundler.
var ruby = &Ecosystem{
	Name:      "ruby",
	Managers:  []*Manager{bundler},
	Manifests: []string{"Gemfile"},
	Made:      []string{"vendor", ".bundle"},
	Endings:   []string{".rb", ".ru"},
	Language:  rubyCode,
	Given: []string{"RAILS_ENV", "RACK_ENV", "RAILS_LOG_TO_STDOUT", "RAILS_SERVE_STATIC_FILES",
		"RAILS_MAX_THREADS", "BUNDLE_GEMFILE"},
	Frameworks: []*Framework{
		{Name: "rails", Config: []string{"config/database.yml", "config/cable.yml",
			"config/redis.yml"},
			Layers: []string{".env", ".env.local", ".env.development", ".env.dev",
				".env.development.local", ".env.dev.local"}, Secrets: []Secret{
				{Key: "SECRET_KEY_BASE", Command: "rails secret", Form: Form{Size: 64, As: AsHex}},
				{Key: "ACTIVE_RECORD_ENCRYPTION*", Form: Form{Size: 32, As: AsLetters}},
				{Key: "RAILS_MASTER_KEY", Form: Form{Size: 16, As: AsHex}},
			}},
		{Name: "sinatra"},
	},
	Tools: []Tool{
		{Name: "ruby", Called: []string{"ruby"}, Images: []string{"ruby"},
			Packages: map[string]string{"pacman": "ruby", "apt": "ruby-full", "dnf": "ruby",
				"brew": "ruby", "apk": "ruby"}},
		{Name: "ruby headers",
			Headers: []string{"/usr/include/ruby-*/ruby.h", "/usr/lib/ruby/*/ruby.h",
				"/usr/local/include/ruby-*/ruby.h", "/opt/homebrew/opt/ruby/include/ruby-*/ruby.h"},
			Packages: map[string]string{"pacman": "ruby", "apt": "ruby-dev", "dnf": "ruby-devel",
				"brew": "ruby", "apk": "ruby-dev"}},
	},
	VersionManagers: []string{"rbenv", "rvm"},
	Logins:          []string{".bundle/config"},
	Public:          []string{"rubygems.org"},
	Verbs: []Verb{
		{SetsUp, []string{"gem install"}},
		{MakesKey, []string{"rails secret*|credentials*"}},
		{stack.Install, []string{"bin/setup", "./bin/setup"}},
		{stack.Test, []string{"rspec", "rails test*|spec*"}},
		{Serves, []string{"rails s|server", "bin/dev", "./bin/dev", "rackup", "ruby *.rb $"}},
	},
	Aliases: map[string]string{"bin/rails": "rails", "./bin/rails": "rails", "rake": "rails",
		"bin/rake": "rails"},
}

var rubyCode = &Language{
	Comments: hash,
	Blocks:   [][2]string{{"\n=begin", "\n=end"}},
	Quotes: []Quote{{Open: `"`, Close: `"`, Code: "#{"}, single,
		{Open: "`", Close: "`", Code: "#{"}},
	Patterns: true,
	Accesses: slices.Concat(callsFor(true, "ENV.fetch"), holds(false, "ENV")),
	Else:     append([]string{"||=", "?"}, usualElse...),
}

var bundler = &Manager{
	Name:   "bundler",
	Locks:  []string{"Gemfile.lock"},
	Weight: &Weight{expr.New(`(?m)^    [A-Za-z][^ \n]* \(`), 1_000_000, []string{"vendor/bundle"}},
	Obeys:  []string{gemfile, "gems.rb", "*.gemspec", ".bundle/config"},
	Tools: []Tool{{Name: "bundle",
		Packages: map[string]string{"pacman": "ruby-bundler", "apt": "ruby-bundler",
			"dnf": "rubygem-bundler", "brew": "ruby", "apk": "ruby-bundler"}}},
	Verbs:    []Verb{{stack.Install, []string{"bundle $", "bundle install", "bundler"}}},
	Wrappers: []string{"bundle exec"},
}

// rubyProject is a Ruby project while it is read.
type rubyProject struct {
	Folder
	out    *Finding
	data   []byte
	gems   map[string]stack.Place
	port   int // that a setting names; 0 for none
	portAt stack.Place
}

const gemfile = "Gemfile"

func readRuby(f Folder) (*Finding, error) {
	if !f.Has(gemfile) {
		return nil, nil
	}
	data, err := f.Read(gemfile)
	if err != nil {
		return nil, err
	}
	r := &rubyProject{Folder: f, data: data, gems: map[string]stack.Place{}}
	r.out = f.finding("ruby", "bundler", gemfile, gemfile)
	for _, m := range gemLine.FindAllSubmatchIndex(data, -1) {
		if when := whenAround(string(data[:m[0]])); when != "" && !r.adapts(when) {
			continue // for another database than the settings name
		}
		r.gems[string(data[m[2]:m[3]])] = r.line(m[2])
	}
	r.out.uses("", r.gems)
	r.runtimes()
	r.install()
	r.port, r.portAt = f.PortSetting()
	decide(rubyServers, r)
	if at := r.gems["rspec"]; !at.IsZero() {
		r.exec(stack.Test, at, "rspec")
	}
	if at := r.gems["sidekiq"]; !at.IsZero() {
		r.out.Project.Also = append(r.out.Project.Also,
			stack.Serve{Name: "sidekiq", Command: []string{"bundle", "exec", "sidekiq"},
				At: at, Source: stack.FromFramework})
	}
	return r.out, nil
}

// line is the place of an offset in the Gemfile.
func (r *rubyProject) line(offset int) stack.Place {
	line, _ := position(r.data, int64(offset))
	return r.At(gemfile, line)
}

// runtimes finds the version that is wanted, and package sources other than the public one.
func (r *rubyProject) runtimes() {
	if m := rubyLine.FindSubmatchIndex(r.data); m != nil {
		var parts []string
		for _, q := range quoted.FindAllStringSubmatch(string(r.data[m[2]:m[3]]), -1) {
			c := pessimistic(q[1])
			if c[0] >= '0' && c[0] <= '9' {
				c = "=" + c // bundler takes no other
			}
			parts = append(parts, c)
		}
		r.out.wants("ruby", strings.Join(parts, ", "), r.line(m[2]))
	}
	r.versionFile(r.out, "ruby", ".ruby-version")
	if len(r.out.Project.Runtimes) == 0 {
		r.out.wants("ruby", "*", r.At(gemfile, 1))
	}
	r.out.wants("bundle", "*", r.At(gemfile, 1))
	for _, m := range gemSource.FindAllSubmatchIndex(r.data, -1) {
		address := string(r.data[m[2]:m[3]])
		if host := hostOf(address); host != "" && !slices.Contains(ruby.Public, host) {
			r.out.source(address, false, "", r.line(m[2]))
		}
	}
}

// install adds the install. Where the gems go is the person's own setting of bundler; it is left as
// it is.
func (r *rubyProject) install() {
	at := r.At(gemfile, 1)
	install := r.step(stack.Install, at, "bundle", "install")
	if r.Has("Gemfile.lock") {
		install.At, install.Env["BUNDLE_FROZEN"] = r.At("Gemfile.lock", 1), "true"
		r.out.names("bundler", install.At, "lock file of bundler")
	} else {
		r.out.lockMissing("Gemfile.lock", at)
	}
	install.Inputs = r.locked("Gemfile.lock", gemfile, ".ruby-version")
	r.out.step(install)
	for _, c := range gemCompiles {
		if at, ok := r.gems[c.name]; ok {
			r.out.compiles(c.name, c.takes, c.name != "sqlite3" && c.name != "nokogiri", at)
		}
	}
}

// exec adds a step by a program of the bundle.
func (r *rubyProject) exec(role stack.Role, at stack.Place, words ...string) *stack.Step {
	r.out.step(r.step(role, at, append([]string{"bundle", "exec"}, words...)...))
	return &r.out.Project.Steps[len(r.out.Project.Steps)-1]
}

// serve sets how the project is served, by a program of the bundle, on the port of its settings or
// else on this one. In the words {port} stands for it.
func (r *rubyProject) serve(at stack.Place, port int, portAt stack.Place, by stack.PortBy,
	words ...string) {
	if r.port > 0 {
		port, portAt = r.port, r.portAt
	}
	command := []string{"bundle", "exec"}
	for _, w := range words {
		command = append(command, strings.ReplaceAll(w, "{port}", itoa(port)))
	}
	r.out.Project.Serve = &stack.Serve{Command: command, At: at, Ports: httpPort(port, portAt),
		PortBy: by, Source: stack.FromFramework}
}

func (r *rubyProject) has(gem string) bool { return !r.gems[gem].IsZero() }

// rubyServers are the ways in which a Ruby project is served.
var rubyServers = []rule[*rubyProject]{
	{"rails", func(r *rubyProject) bool {
		return r.has("rails") || r.exists("config/application.rb") && r.exists("bin/rails")
	}, (*rubyProject).rails},
	{"rack", func(r *rubyProject) bool { return r.Has("config.ru") }, func(r *rubyProject) {
		if r.has("sinatra") {
			r.out.Project.Framework = "sinatra"
		}
		at := r.At("config.ru", 1)
		r.serve(at, 9292, at, stack.PortBy{}, "rackup", "--host", "127.0.0.1", "--port", "{port}")
	}},
	{"sinatra", func(r *rubyProject) bool { return r.has("sinatra") }, func(r *rubyProject) {
		r.out.Project.Framework = "sinatra"
		script := r.first("app.rb", "server.rb", "main.rb", "web.rb")
		if script == "" {
			return
		}
		if n, at := r.portByCode(sinatraSet, script); n > 0 { // goes before a setting
			r.port, r.portAt = n, at
		}
		r.serve(r.At(script, 1), 4567, r.gems["sinatra"],
			stack.PortBy{Words: []string{"-p", "{port}"}}, "ruby", script)
	}},
}

func (r *rubyProject) rails() {
	r.out.Project.Framework = "rails"
	at := r.gems["rails"]
	if at.IsZero() {
		at = r.At("config/application.rb", 1)
	}
	if r.first("config/database.yml", "config/database.yml.example", "db") != "" {
		r.exec(stack.Create, at, "rails", "db:create")
		r.exec(stack.Migrate, at, "rails", "db:migrate").Inputs = r.folders("db/migrate")
		if codeLine.MatchString(r.text("db/seeds.rb")) {
			r.exec(stack.Seed, r.At("db/seeds.rb", 1), "rails", "db:seed")
		}
	}
	port, portAt := r.portByCode(pumaPort, "config/puma.rb")
	if port == 0 {
		port, portAt = 3000, at
	}
	r.serve(at, port, portAt, stack.PortBy{}, "rails", "server", "--binding", "127.0.0.1",
		"--port", "{port}")
	if r.exists("spec") && r.has("rspec-rails") {
		r.exec(stack.Test, r.gems["rspec-rails"], "rspec")
	} else if r.exists("test") {
		r.exec(stack.Test, at, "rails", "test")
	}
}

var pessimism = expr.New(`~>\s*(\d+(?:\.\d+)*)`)

// pessimistic writes a constraint in the notation of semantic versions. ~> lets the last number of
// the version grow.
func pessimistic(constraint string) string {
	return pessimism.ReplaceAllStringFunc(constraint, func(c string) string {
		version := strings.TrimSpace(strings.TrimPrefix(c, "~>"))
		switch strings.Count(version, ".") {
		case 0:
			return ">=" + version
		case 1:
			return "^" + version
		}
		return "~" + version
	})
}

var (
	whenLine    = expr.New(`^(\s*)when\s+(.+?)\s*$`)
	leavesWhen  = expr.New(`^(\s*)(else|end)\b`)
	adapterLine = expr.New(`(?m)^\s+adapter:\s*["']?(\w+)`)
)

// whenAround is the condition of the branch of a case that a text ends in; empty if it ends in
// none.
func whenAround(before string) string {
	lines := strings.Split(before, "\n")
	for _, line := range slices.Backward(lines) {
		if m := whenLine.FindStringSubmatch(line); m != nil {
			return strings.Trim(m[2], `"'/:`)
		}
		if leavesWhen.MatchString(line) {
			return ""
		}
	}
	return ""
}

// adapts reports whether the settings of the database, or their template, name an adapter of that
// name.
func (r *rubyProject) adapts(name string) bool {
	for _, file := range []string{"config/database.yml", "config/database.yml.example",
		"config/database.example.yml", "config/database.yml.sample"} {
		if m := adapterLine.FindAllStringSubmatch(r.text(file), -1); m != nil {
			return slices.ContainsFunc(m,
				func(m []string) bool { return strings.Contains(m[1], name) })
		}
	}
	return false
}
