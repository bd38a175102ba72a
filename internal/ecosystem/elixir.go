package ecosystem

import (
	"path"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

var (
	elixirVersion = expr.New(`elixir:\s*"([^"]+)"`)
	elixirDep     = expr.New(`\{\s*:(\w+)\s*,`)
	phoenixPort   = expr.New(
		`http:\s*\[[^\]]*?port:\s*(?:String\.to_integer\(System\.get_env\("PORT"\)\s*\|\|\s*")?(\d{2,5})`)
	elixirAlias = expr.New(`(?m)^\s*"?([\w.]+)"?:\s*\[(\s*"[^\]]*)\]`)
	elixirText  = expr.New(`"([^"]+)"`)
	elixirApp   = expr.New(`app:\s*:(\w+)`)
)

// elixir is Elixir, with Mix.
var elixir = &Ecosystem{
	Name:     "elixir",
	Managers: []*Manager{mix},
	ByDriver: true,
	Frameworks: []*Framework{{Name: "phoenix",
		Secrets: []Secret{{Key: "SECRET_KEY_BASE", Command: "phx.gen.secret",
			Form: Form{Size: 48, As: AsBase64}}}}},
	Manifests:  []string{"mix.exs"},
	MadeBeside: []string{"deps", "_build"},
	Endings:    []string{".ex", ".exs"},
	Language:   elixirCode,
	Given:      []string{"MIX_ENV"},
	Tools: []Tool{{Name: "elixir", Ask: []string{"--short-version"}, Called: []string{"elixir"},
		Images: []string{"elixir"},
		Packages: map[string]string{"pacman": "elixir", "apt": "elixir", "dnf": "elixir",
			"brew": "elixir", "apk": "elixir"}}},
	Verbs: []Verb{
		{SetsUp, []string{"mix local*|archive*"}},
		{MakesKey, []string{"mix phx.gen.secret"}},
		{stack.Test, []string{"mix test"}},
		{Serves, []string{"mix phx.server"}},
	},
}

var elixirCode = &Language{
	Comments: hash,
	Quotes: []Quote{{Open: `"`, Close: `"`, Code: "#{"}, single,
		{Open: `"""`, Close: `"""`, Code: "#{", Lines: true}},
	Accesses: append(callsFor(true, "System.fetch_env!"),
		callsFor(false, "System.get_env", "System.fetch_env")...),
	Else: usualElse,
}

var mix = &Manager{
	Name:   "mix",
	Locks:  []string{"mix.lock"},
	Weight: &Weight{expr.New(`(?m)^  "`), 1_500_000, []string{"deps"}},
	Obeys:  []string{"mix.exs", "config/*.exs"},
	Tools: []Tool{{Name: "mix", Packages: map[string]string{"pacman": "elixir", "apt": "elixir",
		"dnf": "elixir", "brew": "elixir", "apk": "elixir"}}},
	Verbs: []Verb{{stack.Install, []string{"mix deps.get|setup"}}},
}

func readMix(f Folder) (*Finding, error) {
	const manifest = "mix.exs"
	if !f.Has(manifest) {
		return nil, nil
	}
	data, err := f.Read(manifest)
	if err != nil {
		return nil, err
	}
	text := string(data)
	out := f.finding("elixir", "mix", manifest, manifest)
	p := &out.Project
	if m := elixirApp.FindStringSubmatch(text); m != nil {
		p.Name = m[1]
	}
	if f.exists("apps") {
		out.Members = []string{"apps/*"}
	}
	deps := map[string]stack.Place{}
	for _, m := range elixirDep.FindAllStringSubmatchIndex(text, -1) {
		line, _ := position(data, int64(m[2]))
		deps[text[m[2]:m[3]]] = f.At(manifest, line)
	}
	out.uses(p.Name, deps)
	out.scripts(mixAliases(text))
	if out.Within == nil {
		if m := elixirVersion.FindStringSubmatchIndex(text); m != nil {
			line, _ := position(data, int64(m[2]))
			out.wants("elixir", pessimistic(text[m[2]:m[3]]), f.At(manifest, line))
		} else {
			out.wants("elixir", "*", f.At(manifest, 1))
		}
		out.wants("mix", "*", f.At(manifest, 1))
		install := f.step(stack.Install, f.At(manifest, 1), "mix", "deps.get")
		if f.Has("mix.lock") {
			install = f.step(stack.Install, f.At("mix.lock", 1), "mix", "deps.get",
				"--check-locked")
			out.names("mix", f.At("mix.lock", 1), "lock file of mix")
		}
		install.Inputs, install.Outputs = f.locked("mix.lock",
			manifest), []string{path.Join(f.Path, "deps")}
		out.step(install)
	}
	if at, ok := deps["ecto_sql"]; ok {
		out.step(f.step(stack.Create, at, "mix", "ecto.create", "--quiet"))
		s := f.step(stack.Migrate, at, "mix", "ecto.migrate")
		s.Inputs = f.folders("priv/repo/migrations")
		out.step(s)
		if codeLine.MatchString(f.text("priv/repo/seeds.exs")) {
			out.step(f.step(stack.Seed, f.At("priv/repo/seeds.exs", 1), "mix", "run",
				"priv/repo/seeds.exs"))
		}
	}
	if at, ok := deps["phoenix"]; ok {
		p.Framework = "phoenix"
		port, portAt := f.PortSetting()
		if port == 0 {
			port, portAt = f.portByCode(phoenixPort, "config/dev.exs", "config/runtime.exs")
		}
		if port == 0 {
			port, portAt = 4000, at
		}
		p.Serve = &stack.Serve{Command: []string{"mix", "phx.server"}, At: at,
			Ports:  httpPort(port, portAt),
			PortBy: stack.PortBy{Env: "PORT"}, Source: stack.FromFramework}
	}
	if out.Within == nil {
		out.step(f.step(stack.Test, f.At(manifest, 1), "mix", "test"))
	}
	return out, nil
}

// mixAliases are the commands behind the names that the manifest gives to lists of them.
func mixAliases(text string) map[string][]string {
	out := map[string][]string{}
	for _, m := range elixirAlias.FindAllStringSubmatch(text, -1) {
		for _, q := range elixirText.FindAllStringSubmatch(m[2], -1) {
			out[m[1]] = append(out[m[1]], "mix "+q[1])
		}
	}
	return out
}
