package ecosystem

import (
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

var (
	gemLine    = expr.New(`(?m)^\s*gem\s*\(?\s*["']([^"']+)["']`)
	rubyLine   = expr.New(`(?m)^\s*ruby\s*\(?\s*["']([^"']+)["']`)
	gemSource  = expr.New(`(?m)^\s*source\s*\(?\s*["']([^"']+)["']`)
	rubyCode   = expr.New(`(?m)^\s*[^#\s]`)
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
	{"bcrypt", []string{"gcc", "make", "ruby headers"}}, {"puma", []string{"gcc", "make", "ruby headers"}},
	{"bootsnap", []string{"gcc", "make", "ruby headers"}},
	{"nio4r", []string{"gcc", "make", "ruby headers"}}, {"unf_ext", []string{"g++", "make", "ruby headers"}},
	{"rmagick", []string{"gcc", "make", "ruby headers", "pkg-config"}},
	{"charlock_holmes", []string{"g++", "make", "ruby headers"}},
}

// ruby is Ruby, with Bundler.
var ruby = &Ecosystem{
	Name:      "ruby",
	Managers:  []*Manager{bundler},
	Manifests: []string{"Gemfile"},
	Made:      []string{"vendor", ".bundle"},
	Endings:   []string{".rb", ".ru"},
	Reads: slices.Concat(
		readsBy(true, `\(?\s*['"]`+envName+`['"]\s*(,|\)\s*(?:\{|do\b))?`, "ENV.fetch"),
		readsBy(false, `['"]`+envName+`['"]\]\s*(\|\|)?`, "ENV[")),
	Given: []string{"RAILS_ENV", "RACK_ENV", "RAILS_LOG_TO_STDOUT", "RAILS_SERVE_STATIC_FILES", "RAILS_MAX_THREADS",
		"BUNDLE_GEMFILE"},
	Frameworks: []*Framework{
		{Name: "rails",
			Layers: []string{".env", ".env.local", ".env.development", ".env.dev", ".env.development.local",
				".env.dev.local"},
			Secrets: []Secret{
				{Key: "SECRET_KEY_BASE", Command: "rails secret", Form: Form{Size: 64, As: AsHex}},
				{Key: "ACTIVE_RECORD_ENCRYPTION*", Form: Form{Size: 32, As: AsLetters}},
				{Key: "RAILS_MASTER_KEY", Form: Form{Size: 16, As: AsHex}},
			}},
		{Name: "sinatra"},
	},
	Tools: []Tool{
		{Name: "ruby", Called: []string{"ruby"}, Images: []string{"ruby"},
			Packages: map[string]string{"apt": "ruby-full", "dnf": "ruby", "brew": "ruby", "apk": "ruby"}},
		{Name: "ruby headers",
			Headers: []string{"/usr/include/ruby-*/ruby.h", "/usr/lib/ruby/*/ruby.h",
				"/usr/local/include/ruby-*/ruby.h",
				"/opt/homebrew/opt/ruby/include/ruby-*/ruby.h"},
			Packages: map[string]string{"apt": "ruby-dev", "dnf": "ruby-devel", "brew": "ruby", "apk": "ruby-dev"}},
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
	Aliases: map[string]string{"bin/rails": "rails", "./bin/rails": "rails", "rake": "rails", "bin/rake": "rails"},
}

var bundler = &Manager{
	Name:  "bundler",
	Locks: []string{"Gemfile.lock"},
	Tools: []Tool{{Name: "bundle",
		Packages: map[string]string{"apt": "ruby-bundler", "dnf": "rubygem-bundler", "brew": "ruby",
			"apk": "ruby-bundler"}}},
	Verbs:    []Verb{{stack.Install, []string{"bundle $", "bundle install", "bundler"}}},
	Wrappers: []string{"bundle exec"},
}

func readRuby(f Folder) (*Finding, error) {
	const manifest = "Gemfile"
	if !f.Has(manifest) {
		return nil, nil
	}
	data, err := f.Read(manifest)
	if err != nil {
		return nil, err
	}
	out := f.finding("ruby", "bundler", manifest, "Gemfile")
	p := &out.Project
	gems := map[string]stack.Place{}
	for _, m := range gemLine.FindAllSubmatchIndex(data, -1) {
		line, _ := position(data, int64(m[2]))
		gems[string(data[m[2]:m[3]])] = f.At(manifest, line)
	}
	if m := rubyLine.FindSubmatchIndex(data); m != nil {
		line, _ := position(data, int64(m[2]))
		c := string(data[m[2]:m[3]])
		if c[0] >= '0' && c[0] <= '9' {
			c = pinned(c)
		}
		out.wants("ruby", strings.ReplaceAll(strings.Replace(c, "~>", "~", 1), "~ ", "~"), f.At(manifest, line))
	}
	f.versionFile(out, "ruby", ".ruby-version")
	if len(p.Runtimes) == 0 {
		out.wants("ruby", "*", f.At(manifest, 1))
	}
	out.wants("bundle", "*", f.At(manifest, 1))
	for _, m := range gemSource.FindAllSubmatchIndex(data, -1) {
		address := string(data[m[2]:m[3]])
		if host := hostOf(address); host != "" && !slices.Contains(ruby.Public, host) {
			line, _ := position(data, int64(m[2]))
			out.source(address, false, "", f.At(manifest, line))
		}
	}

	at := f.At(manifest, 1)
	install := f.step(stack.Install, at, "bundle", "install")
	if f.Has("Gemfile.lock") {
		install.At, install.Env["BUNDLE_FROZEN"] = f.At("Gemfile.lock", 1), "true"
		out.evidence(install.At, "lock file of bundler")
	} else {
		out.remark(stack.Warning, stack.CodeLockMissing, at,
			"there is no Gemfile.lock, so each machine may get other versions",
			"Commit the Gemfile.lock that the install makes.")
	}
	// Where the gems go is the person's own setting of bundler; it is left as it is.
	install.Inputs = f.locked("Gemfile.lock", manifest, ".ruby-version")
	out.step(install)
	for _, c := range gemCompiles {
		if at, ok := gems[c.name]; ok {
			for _, t := range c.takes {
				p.Compiles = append(p.Compiles, stack.Compile{Package: c.name, Takes: t, Certain: c.name != "sqlite3" &&
					c.name != "nokogiri", At: at})
			}
		}
	}
	step := func(role stack.Role, at stack.Place, words ...string) *stack.Step {
		s := f.step(role, at, append([]string{"bundle", "exec"}, words...)...)
		out.step(s)
		return &p.Steps[len(p.Steps)-1]
	}
	serve := func(at stack.Place, ports []stack.Port, by stack.PortBy, words ...string) stack.Serve {
		return stack.Serve{Command: append([]string{"bundle", "exec"}, words...), At: at, Ports: ports, PortBy: by,
			Source: stack.FromFramework}
	}
	port, portAt := f.PortSetting()
	switch {
	case !gems["rails"].IsZero() || f.exists("config/application.rb") && f.exists("bin/rails"):
		p.Framework = "rails"
		at := gems["rails"]
		if at.IsZero() {
			at = f.At("config/application.rb", 1)
		}
		if f.exists("config/database.yml") || f.exists("config/database.yml.example") || f.exists("db") {
			step(stack.Create, at, "rails", "db:create")
			s := step(stack.Migrate, at, "rails", "db:migrate")
			if f.exists("db/migrate") {
				s.Inputs = []string{path.Join(f.Path, "db/migrate")}
			}
			if text := f.text("db/seeds.rb"); rubyCode.MatchString(text) {
				step(stack.Seed, f.At("db/seeds.rb", 1), "rails", "db:seed")
			}
		}
		if port == 0 {
			port, portAt = f.portByCode(pumaPort, "config/puma.rb")
		}
		if port == 0 {
			port, portAt = 3000, at
		}
		v := serve(at, httpPort(port, portAt), stack.PortBy{}, "rails", "server", "--binding", "127.0.0.1", "--port",
			itoa(port))
		p.Serve = &v
		if f.exists("spec") && !gems["rspec-rails"].IsZero() {
			step(stack.Test, gems["rspec-rails"], "rspec")
		} else if f.exists("test") {
			step(stack.Test, at, "rails", "test")
		}
	case f.Has("config.ru"):
		if !gems["sinatra"].IsZero() {
			p.Framework = "sinatra"
		}
		if port == 0 {
			port, portAt = 9292, f.At("config.ru", 1)
		}
		v := serve(f.At("config.ru", 1), httpPort(port, portAt), stack.PortBy{}, "rackup", "--host", "127.0.0.1",
			"--port", itoa(port))
		p.Serve = &v
	case !gems["sinatra"].IsZero():
		p.Framework = "sinatra"
		if script := f.first("app.rb", "server.rb", "main.rb", "web.rb"); script != "" {
			if n, at := f.portByCode(sinatraSet, script); n > 0 {
				port, portAt = n, at
			} else if port == 0 {
				port, portAt = 4567, gems["sinatra"]
			}
			v := serve(f.At(script, 1), httpPort(port, portAt), stack.PortBy{Words: []string{"-p", "{port}"}}, "ruby",
				script)
			p.Serve = &v
		}
	}
	if at := gems["rspec"]; !at.IsZero() {
		step(stack.Test, at, "rspec")
	}
	if at := gems["sidekiq"]; !at.IsZero() {
		v := serve(at, nil, stack.PortBy{}, "sidekiq")
		v.Name = "sidekiq"
		p.Also = append(p.Also, v)
	}
	return out, nil
}
