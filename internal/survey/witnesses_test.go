package survey

import (
	"slices"
	"testing"
	"testing/fstest"

	"nimbleharbor/internal/claim"
	"nimbleharbor/internal/stack"
)

// TestWitnessAt tells from a place who speaks there.
func TestWitnessAt(t *testing.T) {
	t.Parallel()
	s := newSurveyor(fstest.MapFS{"README.md": {Data: []byte("on 4001")},
		"package.json": {Data: []byte("vite")}}, Options{Root: "/ws"})
	s.Instructions = []string{"README.md"}
	s.Stack.EnvFiles = []stack.EnvFile{{Path: "api/.env", Template: "api/env.sample"}}
	for file, want := range map[string]stack.Witness{"nharbor.toml": claim.Correction,
		"compose.yaml":         claim.Compose,
		"a/docker-compose.yml": claim.Compose, "Procfile.dev": claim.Procfile,
		"x/Dockerfile":                    claim.Dockerfile,
		"README.md":                       claim.Readme,
		".devcontainer/devcontainer.json": claim.Develop,
		".github/workflows/ci.yml":        claim.Workflow,
		"api/env.sample":                  claim.Setting,
		".env.local":                      claim.Setting, "Makefile": claim.Task,
		"package.json": claim.Manifest, "go.mod": claim.Manifest,
		"pnpm-lock.yaml": claim.Lock, "src/main.py": claim.Code, "vite.config.ts": claim.Framework,
		"config/application.yml": claim.Framework, "": claim.Usage} {
		if got := witnessAt(s.Facts, stack.Place{File: file, Line: 1}, 0); got != want {
			t.Errorf("%s is %q, want %q", file, got, want)
		}
	}
	if got := witnessAt(s.Facts, stack.Place{File: "README.md", Line: 1},
		4001); got != claim.Readme {
		t.Errorf("a line that names the port is %q", got)
	}
	if got := witnessAt(s.Facts, stack.Place{File: "package.json", Line: 1},
		5173); got != claim.Usage {
		t.Errorf("a line that doesn't name the port is %q", got)
	}
}

// TestTellPort puts a concluded port into the command that would take the usual one.
func TestTellPort(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		command, words, want []string
	}{
		"a word of its own": {[]string{"flask", "--port", "5000"}, nil,
			[]string{"flask", "--port", "4001"}},
		"behind a host": {[]string{"php", "-S", "127.0.0.1:5000"}, nil,
			[]string{"php", "-S", "127.0.0.1:4001"}},
		"behind an option": {[]string{"x", "--port=5000"}, nil, []string{"x", "--port=4001"}},
		"by the server's word": {[]string{"npm", "run", "dev"}, []string{"--", "--port", "{port}"},
			[]string{"npm", "run", "dev", "--", "--port", "4001"}},
		"no way to tell it": {[]string{"node", "x.js"}, nil, []string{"node", "x.js"}},
		"another number": {[]string{"x", "--workers", "50001"}, nil,
			[]string{"x", "--workers", "50001"}},
	} {
		v := &stack.Service{Command: c.command,
			NativeWay: stack.NativeWay{PortBy: stack.PortBy{Words: c.words}}}
		if tellPort(v, 5000, 4001); !slices.Equal(v.Command, c.want) ||
			!slices.Equal(v.NativeCommand, c.want) {
			t.Errorf("%s: %v, want %v", name, v.Command, c.want)
		}
	}
}
