package facts

import (
	"testing"
	"testing/fstest"

	"nimbleharbor/internal/claim"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/readme"
	"nimbleharbor/internal/stack"
)

// TestWitness tells from a place who speaks there.
func TestWitness(t *testing.T) {
	t.Parallel()
	s := &Facts{Files: reading.Of(fstest.MapFS{"README.md": {Data: []byte("on 4001")},
		"package.json": {Data: []byte("vite")}}), Documents: map[string]*readme.Document{},
		Stack: &stack.Stack{}}
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
		if got := s.Witness(stack.Place{File: file, Line: 1}, 0); got != want {
			t.Errorf("%s is %q, want %q", file, got, want)
		}
	}
	if got := s.Witness(stack.Place{File: "README.md", Line: 1},
		4001); got != claim.Readme {
		t.Errorf("a line that names the port is %q", got)
	}
	if got := s.Witness(stack.Place{File: "package.json", Line: 1},
		5173); got != claim.Usage {
		t.Errorf("a line that doesn't name the port is %q", got)
	}
}
