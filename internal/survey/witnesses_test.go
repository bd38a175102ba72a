package survey

import (
	"slices"
	"testing"
	"testing/fstest"

	"nimbleharbor/internal/stack"
)

// TestEveryWitnessHasAPlace holds the lists of witnesses to name each of them once, and none that speaks of nothing.
func TestEveryWitnessHasAPlace(t *testing.T) {
	t.Parallel()
	all := map[stack.Witness]bool{byCorrection: false, bySight: false, byCompose: false, byProcfile: false,
		bySetting: false, byTask: false, byManifest: false, byLock: false, byFramework: false, byCode: false,
		byReadme: false, byDockerfile: false, byDevelop: false, byWorkflow: false, byUsage: false}
	for of, list := range order {
		for i, w := range list {
			if _, known := all[w]; !known {
				t.Errorf("%s counts %q, which is no witness", of, w)
			}
			if all[w] = true; slices.Contains(list[:i], w) {
				t.Errorf("%s counts %q twice", of, w)
			}
		}
		if i := slices.Index(list, byCorrection); i > 0 {
			t.Errorf("%s counts something before what a person has corrected", of)
		}
		if i := slices.Index(list, byUsage); i >= 0 && i != len(list)-1 {
			t.Errorf("%s counts what is usual before something that is said", of)
		}
	}
	for w, heard := range all {
		if !heard {
			t.Errorf("nobody hears %q", w)
		}
	}
}

// TestSorted puts claims in the order of their witnesses, and drops those of whom nobody asks.
func TestSorted(t *testing.T) {
	t.Parallel()
	claims := sorted("port", []stack.Claim{{Says: "usual", Witness: byUsage}, {Says: "lock", Witness: byLock},
		{Says: "readme", Witness: byReadme}, {Says: "seen", Witness: bySight}, {Says: "config", Witness: byFramework}})
	var got []string
	for i, c := range claims {
		got = append(got, c.Says)
		if c.Counts != (i == 0) || c.Of != "port" {
			t.Errorf("%+v", c)
		}
	}
	if want := []string{"seen", "config", "readme", "usual"}; !slices.Equal(got, want) {
		t.Errorf("%v, want %v", got, want)
	}
}

// TestWitnessAt tells from a place who speaks there.
func TestWitnessAt(t *testing.T) {
	t.Parallel()
	s := newSurveyor(fstest.MapFS{"README.md": {Data: []byte("on 4001")}, "package.json": {Data: []byte("vite")}},
		Options{Root: "/ws"})
	s.instructions = []string{"README.md"}
	s.stack.EnvFiles = []stack.EnvFile{{Path: "api/.env", Template: "api/env.sample"}}
	for file, want := range map[string]stack.Witness{"nharbor.toml": byCorrection, "compose.yaml": byCompose,
		"a/docker-compose.yml": byCompose, "Procfile.dev": byProcfile, "x/Dockerfile": byDockerfile,
		"README.md":                       byReadme,
		".devcontainer/devcontainer.json": byDevelop, ".github/workflows/ci.yml": byWorkflow,
		"api/env.sample": bySetting,
		".env.local":     bySetting, "Makefile": byTask, "package.json": byManifest, "go.mod": byManifest,
		"pnpm-lock.yaml": byLock, "src/main.py": byCode, "vite.config.ts": byFramework,
		"config/application.yml": byFramework,
		"":                       byUsage} {
		if got := s.witnessAt(stack.Place{File: file, Line: 1}, 0); got != want {
			t.Errorf("%s is %q, want %q", file, got, want)
		}
	}
	if got := s.witnessAt(stack.Place{File: "README.md", Line: 1}, 4001); got != byReadme {
		t.Errorf("a line that names the port is %q", got)
	}
	if got := s.witnessAt(stack.Place{File: "package.json", Line: 1}, 5173); got != byUsage {
		t.Errorf("a line that doesn't name the port is %q", got)
	}
}

// TestTellPort puts a concluded port into the command that would take the usual one.
func TestTellPort(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		command, words, want []string
	}{
		"a word of its own": {[]string{"flask", "--port", "5000"}, nil, []string{"flask", "--port", "4001"}},
		"behind a host":     {[]string{"php", "-S", "127.0.0.1:5000"}, nil, []string{"php", "-S", "127.0.0.1:4001"}},
		"behind an option":  {[]string{"x", "--port=5000"}, nil, []string{"x", "--port=4001"}},
		"by the server's word": {[]string{"npm", "run", "dev"}, []string{"--", "--port", "{port}"}, []string{"npm",
			"run", "dev", "--", "--port", "4001"}},
		"no way to tell it": {[]string{"node", "x.js"}, nil, []string{"node", "x.js"}},
		"another number":    {[]string{"x", "--workers", "50001"}, nil, []string{"x", "--workers", "50001"}},
	} {
		v := &stack.Service{Command: c.command, NativeWay: stack.NativeWay{PortBy: stack.PortBy{Words: c.words}}}
		if tellPort(v, 5000, 4001); !slices.Equal(v.Command, c.want) || !slices.Equal(v.NativeCommand, c.want) {
			t.Errorf("%s: %v, want %v", name, v.Command, c.want)
		}
	}
}

func TestEvidenceNamesTheManager(t *testing.T) {
	for says, want := range map[string]bool{
		"lock file of npm": true, "packageManager npm@10.2.4": true, "the README installs with npm": true,
		"package.json": false, "members: apps/npm-tools, packages/*": false, "lock file of pnpm": false,
	} {
		if got := namesManager(says, "npm"); got != want {
			t.Errorf("%q names npm: %t, want %t", says, got, want)
		}
	}
}
