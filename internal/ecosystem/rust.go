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
			`\(\s*\[[\d, ]+\]\s*,\s*(\d{2,5})\s*\)|unwrap_or(?:_else)?\([^)]*?(\d{4,5}))`)
	rocketPort   = expr.New(`(?m)^port\s*=\s*(\d+)`)
	rustChannel  = expr.New(`(?m)^\s*(?:channel\s*=\s*)?["']?(\d+\.\d+(?:\.\d+)?)["']?\s*$`)
	sysCrate     = expr.New(`(?m)^name = "([a-z0-9_]+-sys)"`)
	rustServers  = []string{"axum", "actix-web", "rocket", "warp", "poem", "tide", "salvo", "hyper", "tiny_http"}
	sysLibraries = map[string][]string{"openssl-sys": {"gcc", "pkg-config", "openssl headers"},
		"pq-sys": {"gcc", "pg_config"}, "mysqlclient-sys": {"gcc", "mysql_config"},
		"libsqlite3-sys": {"gcc"}, "libz-sys": {"gcc"}, "zstd-sys": {"gcc"}, "rdkafka-sys": {"gcc", "make"},
		"libgit2-sys": {"gcc", "pkg-config"}, "ring-sys": {"gcc"}}
)

// rust is Rust, with Cargo.
var rust = &Ecosystem{
	Name:       "rust",
	Managers:   []*Manager{cargo},
	Frameworks: frameworksOfRust(),
	Manifests:  []string{"Cargo.toml"},
	Made:       []string{"target"},
	Endings:    []string{".rs"},
	Reads:      readsBy(false, `(?:_os)?\("`+envName+`"\)\s*(\.unwrap_or|\.ok\(\)|\.unwrap_or_else)?`, "env::var"),
	Tools: []Tool{
		{Name: "diesel", By: "cargo install diesel_cli"},
		{Name: "sqlx", By: "cargo install sqlx-cli"},
	},
	VersionManagers: []string{"rustup"},
	Logins:          []string{".cargo/credentials.toml"},
}

var cargo = &Manager{
	Name:  "cargo",
	Locks: []string{"Cargo.lock"},
	Tools: []Tool{{Name: "cargo", Called: []string{"rust"}, Images: []string{"rust"},
		Packages: map[string]string{"apt": "cargo", "dnf": "cargo", "brew": "rust", "apk": "cargo"}}},
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

func readCargo(f Folder) (*Finding, error) {
	const manifest = "Cargo.toml"
	if !f.Has(manifest) {
		return nil, nil
	}
	data, err := f.Read(manifest)
	if err != nil {
		return nil, err
	}
	var c cargoToml
	if err := parseTOML(f, manifest, data, &c); err != nil {
		return nil, err
	}
	out := f.finding("rust", "cargo", manifest, manifest)
	p := &out.Project
	if c.Workspace != nil {
		out.Members = c.Workspace.Members
		for _, e := range c.Workspace.Exclude {
			out.Members = append(out.Members, "!"+e)
		}
	}
	if c.Package != nil {
		p.Name = c.Package.Name
		if v, ok := c.Package.RustVersion.(string); ok {
			out.wants("cargo", ">="+v, f.lineWith(manifest, "rust-version"))
		}
	}
	for _, name := range []string{"rust-toolchain.toml", "rust-toolchain"} {
		if m := rustChannel.FindStringSubmatch(f.text(name)); m != nil {
			out.wants("cargo", "~"+m[1], f.lineWith(name, m[1]))
		}
	}
	if len(p.Runtimes) == 0 && out.Within == nil {
		out.wants("cargo", "*", f.At(manifest, 1))
	}
	locked := []string{}
	if out.Within == nil {
		fetch := f.step(stack.Install, f.At(manifest, 1), "cargo", "fetch")
		if f.Has("Cargo.lock") {
			locked = []string{"--locked"}
			fetch = f.step(stack.Install, f.At("Cargo.lock", 1), "cargo", "fetch", "--locked")
			out.evidence(f.At("Cargo.lock", 1), "lock file of cargo")
		} else {
			out.remark(stack.Warning, stack.CodeLockMissing, f.At(manifest, 1),
				"there is no Cargo.lock, so each machine may get other versions",
				"Commit the Cargo.lock that the install makes.")
		}
		fetch.Inputs = f.locked("Cargo.lock", manifest, "rust-toolchain.toml", "rust-toolchain")
		out.step(fetch)
		build := f.step(stack.Build, f.At(manifest, 1), append([]string{"cargo", "build"}, locked...)...)
		if c.Workspace != nil {
			build.Command = append(build.Command, "--workspace")
		}
		build.Inputs = append(f.in(manifest, "Cargo.lock"), f.folders("src", "crates")...)
		build.Outputs = []string{path.Join(f.Path, "target")}
		out.step(build)
		for _, m := range sysCrate.FindAllStringSubmatch(f.text("Cargo.lock"), -1) {
			for _, t := range sysLibraries[m[1]] {
				p.Compiles = append(p.Compiles, stack.Compile{Package: m[1], Takes: t, Certain: true,
					At: f.lineWith("Cargo.lock", m[0])})
			}
		}
	} else if len(out.Within.Project.Steps) > 0 && slices.Contains(out.Within.Project.Steps[0].Command, "--locked") {
		locked = []string{"--locked"}
	}
	if f.Has("diesel.toml") {
		s := f.step(stack.Migrate, f.At("diesel.toml", 1), "diesel", "migration", "run")
		s.Inputs = f.folders("migrations")
		out.step(s)
		out.wants("diesel", "*", f.At("diesel.toml", 1))
	} else if c.Dependencies["sqlx"] != nil && f.exists("migrations") &&
		!strings.Contains(f.text("src/main.rs")+f.text("src/lib.rs")+f.text("src/db.rs"), "migrate!") {
		s := f.step(stack.Migrate, f.lineWith(manifest, "sqlx"), "sqlx", "migrate", "run")
		s.Inputs = f.folders("migrations")
		out.step(s)
		out.wants("sqlx", "*", f.lineWith(manifest, "sqlx"))
	}
	for _, name := range rustServers {
		if c.Dependencies[name] == nil || c.Package == nil || !f.exists("src/main.rs") && len(c.Bin) == 0 {
			continue
		}
		p.Framework = strings.TrimSuffix(name, "-web")
		port, at := f.PortSetting()
		var sources []string
		for _, b := range c.Bin {
			sources = append(sources, b.Path)
		}
		for _, n := range []string{"src/main.rs", "src/server.rs", "src/lib.rs", "src/config.rs"} {
			if f.exists(n) {
				sources = append(sources, n)
			}
		}
		if port == 0 {
			port, at = f.portByCode(rustListens, sources...)
		}
		if port == 0 && name == "rocket" {
			if port, at = f.portByCode(rocketPort, "Rocket.toml"); port == 0 {
				port, at = 8000, f.lineWith(manifest, "rocket")
			}
		}
		by := stack.PortBy{Env: "PORT"}
		if name == "rocket" {
			by.Env = "ROCKET_PORT"
		}
		command := append([]string{"cargo", "run"}, locked...)
		if len(c.Bin) > 1 && c.Package.DefaultRun == "" {
			command = append(command, "--bin", c.Bin[0].Name)
		}
		p.Serve = &stack.Serve{Command: command, At: f.lineWith(manifest, name), Ports: httpPort(port, at), PortBy: by,
			Source: stack.FromFramework}
		break
	}
	if out.Within == nil {
		out.step(f.step(stack.Test, f.At(manifest, 1), append([]string{"cargo", "test"}, locked...)...))
	}
	return out, nil
}
