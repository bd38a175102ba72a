package command

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// quay is a checkout with a name for everything.
func quay() *Resolver {
	part := func(folder, name string, scripts map[string][]string) stack.Part {
		return stack.Part{Folder: folder, Name: name, Scripts: scripts}
	}
	target := func(name string, lines ...string) stack.Target {
		return stack.Target{Name: name, Lines: lines}
	}
	s := &stack.Stack{Projects: []stack.Project{
		{Path: ".", Manager: "npm", Ecosystem: "node", Members: []string{"web", "api"},
			Parts: []stack.Part{
				part(".", "quay", map[string][]string{"dev": {"npm run start --workspace web"},
					"round": {"npm run round"}}),
				part("web", "@quay/web", map[string][]string{"start": {"echo starts && vite " +
					"--port 4101"}}),
				part("api", "api", map[string][]string{"start": {"PORT=4102 node api.js"}}),
			}},
		{Path: ".", Manager: "make", Ecosystem: "make", Targets: []stack.Target{target("all",
			"make deps run"),
			target("deps", "npm ci"), target("run", "cd web && npm start"), target("web",
				"sh -c 'npm run dev'"), target("nothing"), target("file", "./up.sh")}},
		{Path: "api", Manager: "make", Ecosystem: "make", Targets: []stack.Target{target("run",
			"node api.js")}},
	}}
	files := fstest.MapFS{
		"up.sh": {Data: []byte("#!/bin/sh\nset -e\ncd \"$(dirname \"$0\")/api\"\nmake " +
			"run\nprintf done\n")},
		"web/index.html": {}, "api/api.js": {}}
	return New(files, s, nil)
}

// TestLeaves follows lines to what they come to: folder and words, one after the other.
func TestLeaves(t *testing.T) {
	t.Parallel()
	for line, want := range map[string]string{
		"node x.js":                      ". node x.js",
		"npm run dev":                    "web vite --port 4101",
		"cd web && npm start":            "web vite --port 4101",
		"npm start --prefix api":         "api node api.js",
		"npm run start -w @quay/web":     "web vite --port 4101",
		"npm run nobody":                 ". npm run nobody",
		"make":                           ". npm ci|web vite --port 4101",
		"make deps run -j 4":             ". npm ci|web vite --port 4101",
		"make -C api run":                "api node api.js",
		"make --directory=api run":       "api node api.js",
		"make -C api nobody":             ". make -C api nobody",
		"make -f other.mk run":           ". make -f other.mk run",
		"make PORT=1 deps":               ". npm ci",
		"make web":                       "web vite --port 4101",
		"make nothing":                   "",
		"make file":                      "api node api.js",
		"bash up.sh":                     "api node api.js",
		"bash gone.sh":                   ". bash gone.sh",
		"npm run round":                  ". npm run round",
		"cd quay-main/web && npm start":  "web vite --port 4101",
		"cd somewhere/else && npm start": ". npm start",
	} {
		var got []string
		r := quay()
		for _, part := range shell.Parse(line) {
			if part.Words[0] == "cd" {
				continue
			}
			for _, l := range r.Leaves(part, ".") {
				got = append(got, fmt.Sprintf("%s %s", l.Cwd, strings.Join(l.Words, " ")))
			}
		}
		if strings.Join(got, "|") != want {
			t.Errorf("%s comes to %q, want %q", line, strings.Join(got, "|"), want)
		}
	}
}

// TestKey takes commands for the same that are, however they are called.
func TestKey(t *testing.T) {
	t.Parallel()
	r := quay()
	for _, same := range [][2]string{{"npm run start", "npm start"}, {"npx vite", "vite"}} {
		if a, b := r.Key(strings.Fields(same[0])), r.Key(strings.Fields(same[1])); a != b {
			t.Errorf("%s is %q, %s is %q", same[0], a, same[1], b)
		}
	}
	if r.Key([]string{"npm", "run", "dev"}) == r.Key([]string{"npm", "run", "build"}) {
		t.Error("two scripts are the same")
	}
}

// TestOption reads what is given to an option, joined or behind it.
func TestOption(t *testing.T) {
	t.Parallel()
	for line, want := range map[string]string{"a --profile x up": "x", "a --profile=y": "y",
		"a --profile": "", "a": ""} {
		if got := Option(strings.Fields(line), "--profile"); got != want {
			t.Errorf("%s: %q, want %q", line, got, want)
		}
	}
}
