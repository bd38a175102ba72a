package ecosystem

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
)

// TestKeptIn finds the versions that lie in a home folder, each only with its program.
func TestKeptIn(t *testing.T) {
	t.Parallel()
	program := &fstest.MapFile{Mode: 0o755}
	home := fstest.MapFS{
		".nvm/versions/node/v20.11.1/bin/node":        program,
		".nvm/versions/node/v18.0.0/bin/npm":          program, // without the program itself
		".asdf/installs/nodejs/22.1.0/bin/node":       program,
		".volta/tools/image/node/21.0.0/bin/node":     {Mode: 0o644}, // can't be run
		".pyenv/versions/3.12.4/bin/python3":          program,
		".rvm/rubies/ruby-3.2.2/bin/ruby":             program,
		".sdkman/candidates/java/17.0.1-tem/bin/java": program,
		".local/bin/uv":    program,
		".local/bin/notes": {Data: []byte("x")},
	}
	for tool, want := range map[string]string{
		"node": "20.11.1 nvm .nvm/versions/node/v20.11.1/bin; 22.1.0 asdf " +
			".asdf/installs/nodejs/22.1.0/bin",
		"python3": "3.12.4 pyenv .pyenv/versions/3.12.4/bin",
		"ruby":    "3.2.2 rvm .rvm/rubies/ruby-3.2.2/bin",
		"java":    "17.0.1 sdkman .sdkman/candidates/java/17.0.1-tem/bin",
		"uv":      "  .local/bin", "notes": "", "go": ""} {
		var got []string
		for _, k := range KeptIn(home, tool) {
			got = append(got, fmt.Sprintf("%s %s %s", k.Version, k.By, k.Bin))
		}
		if strings.Join(got, "; ") != want {
			t.Errorf("%s: %q, want %q", tool, got, want)
		}
	}
	for _, k := range keepers {
		if ToolNamed(k.tool).Called == nil && k.tool != "cargo" {
			t.Errorf("%s keeps %s, which no ecosystem has", k.by, k.tool)
		}
	}
}

// TestWeigh counts the packages of each kind of lock file.
func TestWeigh(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ manager, file, text string }{
		{"npm", "package-lock.json", `{
  "packages": {
    "": {"name": "quay"},
    "node_modules/tide": {
      "version": "1.0.0"
    },
    "node_modules/tide/node_modules/wave": {
      "version": "2.0.0"
    }
  }
}`},
		{"yarn", "yarn.lock", "tide@^1.0.0:\n  version \"1.0.0\"\n  resolved \"x\"\n\nwave@2:\n " +
			" resolved \"y\"\n"},
		{"yarn", "yarn.lock", "\"tide@npm:^1\":\n  resolution: " +
			"\"tide@npm:1\"\n\"wave@npm:2\":\n  resolution: \"w\"\n"},
		{"pnpm", "pnpm-lock.yaml", "packages:\n  tide@1.0.0:\n    resolution: {}\n  " +
			"wave@2.0.0:\n    resolution: {}\n"},
		{"uv", "uv.lock", "[[package]]\nname = \"a\"\n\n[[package]]\nname = \"b\"\n"},
		{"poetry", "poetry.lock", "[[package]]\nname = \"a\"\n\n[[package]]\nname = \"b\"\n"},
		{"pipenv", "Pipfile.lock", `{"default": {"a": {"hashes": []}, "b": {"hashes": []}}}`},
		{"composer", "composer.lock",
			`{"packages": [{"dist": {"type": "zip"}}, {"dist": {"type": "zip"}}]}`},
		{"bundler", "Gemfile.lock", "GEM\n  specs:\n    rails (7.1)\n      rack (>= 3)\n    rack " +
			"(3.0)\n\nDEPENDENCIES\n  rails\n"},
		{"cargo", "Cargo.lock", "[[package]]\nname = \"a\"\n\n[[package]]\nname = \"b\"\n"},
		{"mix", "mix.lock", "%{\n  \"a\": {:hex},\n  \"b\": {:hex},\n}\n"},
	} {
		files := fstest.MapFS{"web/" + c.file: {Data: []byte(c.text)}}
		lock, n, size, ok := Weigh(files, "web", c.manager)
		if lock != "web/"+c.file || n != 2 || size < 500_000 || !ok {
			t.Errorf("%s: %s, %d packages, %d bytes, %v", c.manager, lock, n, size, ok)
		}
		files["web/"+into(c.manager)+"/x"] = &fstest.MapFile{}
		if _, _, _, again := Weigh(files, "web", c.manager); again {
			t.Errorf("%s: what is installed is weighed", c.manager)
		}
	}
	if _, _, _, ok := Weigh(fstest.MapFS{"go.sum": {Data: []byte("x")}}, ".", "go"); ok {
		t.Error("go keeps its packages for all projects together")
	}
}

func into(manager string) string { return ManagerNamed(manager).Weight.into[0] }
