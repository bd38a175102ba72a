package ecosystem

import (
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

type cargoToml struct {
	Package *struct {
		Name        string
		RustVersion any    `toml:"rust-version"`
		DefaultRun  string `toml:"default-run"`
	}
	Workspace *struct {
		Members, Exclude []string
	}
	Dependencies map[string]any
	Bin          []struct{ Name, Path string }
}

var (
	rustListens = expr.New(
		`(?:"(?:0\.0\.0\.0|127\.0\.0\.1|localhost|\[::\]|\[::1\]):(\d{2,5})"|\(\s*"[\d.]+"\s*,\s*(\d{2,5})\s*\)|` +
			`\(\s*\[[\d, ]+\]\s*,\s*(\d{2,5})\s*\)|unwrap_or(?:_else)?\([^)]*?(\d{4,5})|` +
			// an option with a default, which a variable gives too
			`default_value(?:_t)?\s*=\s*"?(\d{2,5})"?\s*,\s*env\s*=\s*"\w*PORT"|` +
			`env\s*=\s*"\w*PORT"\s*,\s*default_value(?:_t)?\s*=\s*"?(\d{2,5}))`)
	// a constant with the address that is listened on, as long as nothing says another
	rustConstant = expr.New(`\bconst\s+\w*(?:LISTEN|BIND|` +
		`SERVE)\w*\s*:\s*&(?:'static\s+)?str\s*=\s*` +
		`"[^"]*:(\d{2,5})"`)
	rocketPort  = expr.New(`(?m)^port\s*=\s*(\d+)`)
	rustChannel = expr.New(`(?m)^\s*(?:channel\s*=\s*)?["']?(\d+\.\d+(?:\.\d+)?)["']?\s*$`)
	sysCrate    = expr.New(`(?m)^name = "([a-z0-9_]+-sys)"`)
	rustServers = []string{"axum", "actix-web", "rocket", "warp", "poem", "tide", "salvo",
		"hyper", "tiny_http"}
	sysLibraries = map[string][]string{"openssl-sys": {"gcc", "pkg-config", "openssl headers"},
		"pq-sys": {"gcc", "pg_config"}, "mysqlclient-sys": {"gcc", "mysql_config"},
		"libsqlite3-sys": {"gcc"}, "libz-sys": {"gcc"}, "zstd-sys": {"gcc"}, "rdkafka-sys": {"gcc",
			"make"}, "libgit2-sys": {"gcc", "pkg-config"}, "ring-sys": {"gcc"}}
)

// rust is Rust, with Cargo.
var rust = &Ecosystem{
	Name:          "rust",
	Compiled:      true,
	SettingsAbove: true,
	Managers:      []*Manager{cargo},
	Frameworks:    frameworksOfRust(),
	Manifests:     []string{"Cargo.toml"},
	Made:          []string{"target"},
	Endings:       []string{".rs"},
	Language:      rustCode,
	Tools: []Tool{
		{Name: "diesel", By: []string{"cargo install diesel_cli"}},
		{Name: "sqlx", By: []string{"cargo install sqlx-cli"}},
	},
	VersionManagers: []string{"rustup"},
	Logins:          []string{".cargo/credentials.toml"},
}

var rustCode = &Language{
	Comments:  slashes,
	Blocks:    starred,
	Quotes:    []Quote{{Open: `"`, Close: `"`, Lines: true}, letter},
	Accesses:  callsFor(false, "env::var", "env::var_os"),
	ElseCalls: []string{"unwrap_or", "unwrap_or_else", "unwrap_or_default", "ok"},
	MustCalls: []string{"expect", "unwrap", "?"},
}

var cargo = &Manager{
	Name:   "cargo",
	Locks:  []string{"Cargo.lock"},
	Weight: &Weight{expr.New(`(?m)^\[\[package\]\]`), 10_000_000, []string{"target"}},
	Obeys: []string{"build.rs", ".cargo/config", ".cargo/config.toml", "rust-toolchain",
		"rust-toolchain.toml"},
	Tools: []Tool{{Name: "cargo", Called: []string{"rust"}, Images: []string{"rust"},
		Packages: map[string]string{"pacman": "rust", "apt": "cargo", "dnf": "cargo",
			"brew": "rust", "apk": "cargo"}}},
	Verbs: []Verb{
		{SetsUp, []string{"cargo install"}},
		{stack.Install, []string{"cargo fetch"}},
		{stack.Test, []string{"cargo test"}},
		{Serves, []string{"cargo run"}},
		{stack.Build, []string{"cargo build"}},
	},
}

func frameworksOfRust() (out []*Framework) {
	for _, name := range rustServers {
		out = append(out, &Framework{Name: strings.TrimSuffix(name, "-web")})
	}
	return out
}

// cargoProject is a Rust project while it is read.
type cargoProject struct {
	Folder
	out *Finding
	c   cargoToml
}

const cargoManifest = "Cargo.toml"

func readCargo(f Folder) (*Finding, error) {
	if !f.Has(cargoManifest) {
		return nil, nil
	}
	data, err := f.Read(cargoManifest)
	if err != nil {
		return nil, err
	}
	r := &cargoProject{Folder: f}
	if err := parseTOML(f, cargoManifest, data, &r.c); err != nil {
		return nil, err
	}
	r.out = f.finding("rust", "cargo", cargoManifest, cargoManifest)
	r.names()
	uses := map[string]stack.Place{}
	for name := range r.c.Dependencies {
		uses[name] = r.lineWith(cargoManifest, name)
	}
	r.out.uses(r.out.Project.Name, uses)
	if r.out.Within == nil {
		r.install()
	}
	decide(rustMigrations, r)
	r.serve()
	if r.out.Within == nil {
		r.out.step(f.step(stack.Test, f.At(cargoManifest, 1), "cargo", "test"))
	}
	return r.out, nil
}

// names finds what the project is called, what belongs to it, and the version that it wants.
func (r *cargoProject) names() {
	if w := r.c.Workspace; w != nil {
		r.out.Members = w.Members
		for _, e := range w.Exclude {
			r.out.Members = append(r.out.Members, "!"+e)
		}
	}
	if p := r.c.Package; p != nil {
		r.out.Project.Name = p.Name
		if v, ok := p.RustVersion.(string); ok {
			r.out.wants("cargo", ">="+v, r.lineWith(cargoManifest, "rust-version"))
		}
	}
	for _, name := range []string{"rust-toolchain.toml", "rust-toolchain"} {
		if m := rustChannel.FindStringSubmatch(r.text(name)); m != nil {
			r.out.wants("cargo", "~"+m[1], r.lineWith(name, m[1]))
		}
	}
	if len(r.out.Project.Runtimes) == 0 && r.out.Within == nil {
		r.out.wants("cargo", "*", r.At(cargoManifest, 1))
	}
}

// install fetches and builds all of the workspace.
func (r *cargoProject) install() {
	at := r.At(cargoManifest, 1)
	fetch := r.step(stack.Install, at, "cargo", "fetch")
	if r.Has("Cargo.lock") {
		fetch = r.step(stack.Install, r.At("Cargo.lock", 1), "cargo", "fetch", "--locked")
		r.out.names("cargo", r.At("Cargo.lock", 1), "lock file of cargo")
	} else {
		r.out.lockMissing("Cargo.lock", at)
	}
	fetch.Inputs = r.Folder.locked("Cargo.lock", cargoManifest, "rust-toolchain.toml",
		"rust-toolchain")
	r.out.step(fetch)
	build := r.step(stack.Build, at, "cargo", "build")
	if r.c.Workspace != nil {
		build.Command = append(build.Command, "--workspace")
	}
	build.Inputs = append(r.Folder.locked("Cargo.lock", cargoManifest),
		r.folders("src", "crates")...)
	build.Outputs = []string{path.Join(r.Path, "target")}
	r.out.step(build)
	for _, m := range sysCrate.FindAllStringSubmatch(r.text("Cargo.lock"), -1) {
		r.out.compiles(m[1], sysLibraries[m[1]], true, r.lineWith("Cargo.lock", m[0]))
	}
}

// migrateBy adds a migration by a tool of its own.
func (r *cargoProject) migrateBy(at stack.Place, words ...string) {
	s := r.step(stack.Migrate, at, words...)
	s.Inputs = r.folders("migrations")
	r.out.step(s)
	r.out.wants(words[0], "*", at)
}

var rustMigrations = []rule[*cargoProject]{
	{"diesel", func(r *cargoProject) bool { return r.Has("diesel.toml") }, func(r *cargoProject) {
		r.migrateBy(r.At("diesel.toml", 1), "diesel", "migration", "run")
	}},
	{"sqlx, unless the program migrates itself", func(r *cargoProject) bool {
		return r.c.Dependencies["sqlx"] != nil && r.exists("migrations") &&
			!strings.Contains(r.text("src/main.rs")+r.text("src/lib.rs")+r.text("src/db.rs"),
				"migrate!")
	},
		func(r *cargoProject) {
			r.migrateBy(r.lineWith(cargoManifest, "sqlx"), "sqlx", "migrate", "run")
		}},
}

// serve finds how a program that uses a server's library is run.
func (r *cargoProject) serve() {
	if r.c.Package == nil || !r.exists("src/main.rs") && len(r.c.Bin) == 0 {
		return
	}
	i := slices.IndexFunc(rustServers,
		func(name string) bool { return r.c.Dependencies[name] != nil })
	if i < 0 {
		return
	}
	name := rustServers[i]
	port, at := r.PortSetting()
	if port == 0 {
		port, at = r.portByCode(rustListens, r.mains()...)
	}
	if port == 0 && name != "rocket" {
		port, at = r.portByCode(rustConstant, r.sourcesBelow("src", ".rs")...)
	}
	by := stack.PortBy{Env: "PORT"}
	if name == "rocket" {
		by.Env = "ROCKET_PORT"
		if port == 0 {
			port, at = r.portByCode(rocketPort, "Rocket.toml")
		}
		if port == 0 {
			port, at = 8000, r.lineWith(cargoManifest, "rocket")
		}
	}
	command := []string{"cargo", "run"}
	if len(r.c.Bin) > 1 && r.c.Package.DefaultRun == "" {
		command = append(command, "--bin", r.c.Bin[0].Name)
	}
	r.out.Project.Framework = strings.TrimSuffix(name, "-web")
	r.out.Project.Serve = &stack.Serve{Command: command, At: r.lineWith(cargoManifest, name),
		Ports: httpPort(port, at), PortBy: by, Source: stack.FromFramework}
}

// mains are the files in which a port may be named.
func (r *cargoProject) mains() (out []string) {
	for _, b := range r.c.Bin {
		out = append(out, b.Path)
	}
	for _, n := range []string{"src/main.rs", "src/server.rs", "src/lib.rs", "src/config.rs",
		"src/args.rs", "src/cli.rs", "src/options.rs"} {
		if r.exists(n) {
			out = append(out, n)
		}
	}
	return out
}
