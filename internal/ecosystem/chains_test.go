package ecosystem

import (
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"nimbleharbor/internal/stack"
)

// TestScriptsCalled follows names of scripts as each manager and runner reads them.
func TestScriptsCalled(t *testing.T) {
	t.Parallel()
	part := func(folder, name string, scripts ...string) stack.Part {
		p := stack.Part{Folder: folder, Name: name, Scripts: map[string][]string{}}
		for _, s := range scripts {
			p.Scripts[s] = []string{"line of " + s}
		}
		return p
	}
	projects := []stack.Project{{Path: ".", Parts: []stack.Part{
		part(".", "ferry", "dev", "predev", "dev:css", "dev:api", "postinstall", "prepare", "test"),
		part("apps/desk", "@ferry/desk", "dev", "build", "prebuild", "postbuild"),
		part("apps/office", "@ferry/office", "build")}},
		{Path: "php", Parts: []stack.Part{part("php", "php", "post-autoload-dump", "tide",
			"post-install-cmd")}}}
	for line, want := range map[string]string{
		"npm run dev":              ".:predev .:dev",
		"npm run dev --if-present": ".:predev .:dev",
		"npm test":                 ".:test",
		"pnpm dev":                 ".:predev .:dev",
		"yarn dev":                 ".:predev .:dev",
		"npm ci":                   ".:postinstall .:prepare",
		"yarn":                     ".:postinstall .:prepare",
		"npm run absent":           "",
		"node server.js":           "",
		"run-p dev:*":              ".:dev:api .:dev:css",
		"concurrently npm:dev:*":   ".:dev:api .:dev:css",
		"turbo run build": "apps/desk:prebuild apps/desk:build apps/desk:postbuild " +
			"apps/office:build",
		"turbo build --filter=@ferry/office": "apps/office:build",
		"nx run @ferry/desk:build": "apps/desk:prebuild apps/desk:build " +
			"apps/desk:postbuild",
		"npx turbo run build -F @ferry/office": "apps/office:build",
	} {
		var got []string
		for _, c := range ScriptsCalled(projects, strings.Fields(line), ".") {
			got = append(got, c.Folder+":"+c.Name)
			if len(c.Lines) != 1 || c.Lines[0] != "line of "+c.Name {
				t.Errorf("%s has the lines %q", c.Name, c.Lines)
			}
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s calls %q, want %q", line, got, want)
		}
	}
	for line, want := range map[string]string{"composer install": "post-autoload-dump " +
		"post-install-cmd",
		"composer tide": "tide", "composer run tide": "tide", "composer show": ""} {
		var got []string
		for _, c := range ScriptsCalled(projects, strings.Fields(line), "php") {
			got = append(got, c.Name)
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s calls %q, want %q", line, got, want)
		}
	}
}

// TestInMember goes where a manager is told to work.
func TestInMember(t *testing.T) {
	t.Parallel()
	projects := []stack.Project{{Parts: []stack.Part{{Folder: "apps/desk", Name: "@ferry/desk"}}}}
	there := func(dir string) bool { return dir == "apps/desk" || dir == "tools" }
	for line, want := range map[string]string{
		"npm run build":                         "npm run build in .",
		"npm run build -w @ferry/desk":          "npm run build in apps/desk",
		"npm --prefix apps/desk run build":      "npm run build in apps/desk",
		"npm run build --workspace=@ferry/desk": "npm run build in apps/desk",
		"pnpm -C tools start":                   "pnpm start in tools",
		"pnpm --filter @ferry/desk dev":         "pnpm dev in apps/desk",
		"yarn workspace @ferry/desk dev":        "yarn dev in apps/desk",
		"pnpm --filter absent dev":              "pnpm --filter absent dev in .",
		"npm run build -w":                      "npm run build -w in .",
		"make -C tools":                         "make -C tools in .",
	} {
		words, cwd := InMember(projects, strings.Fields(line), ".", there)
		if got := strings.Join(words, " ") + " in " + cwd; got != want {
			t.Errorf("%s is %s, want %s", line, got, want)
		}
	}
}

// TestObeyed lists the files by which a manager can be told to run something, in the folder and
// above it.
func TestObeyed(t *testing.T) {
	t.Parallel()
	fsys := fstest.MapFS{}
	for _, name := range []string{".npmrc", "web/.npmrc", "web/app/.npmrc", "web/app/package.json",
		"web/.yarnrc.yml", "web/.yarn/releases/yarn-4.cjs", "mill/build.gradle.kts",
		"mill/gradle/wrapper/gradle-wrapper.jar", "mill/pom.xml",
		"mill/.mvn/jvm.config", "office/setup.py", "office/pyproject.toml", "quay/Cargo.toml",
		"quay/build.rs",
		"quay/.cargo/config.toml", "rota/Gemfile", "rota/rota.gemspec", "desk/Desk.csproj",
		"Directory.Build.props"} {
		fsys[name] = &fstest.MapFile{}
	}
	for _, c := range []struct{ dir, line, want string }{
		{"web/app", "npm ci", "web/app/.npmrc web/.npmrc .npmrc"},
		{"web", "yarn install", "web/.npmrc web/.yarnrc.yml web/.yarn/releases/yarn-4.cjs .npmrc"},
		{"web", "npx vite", "web/.npmrc .npmrc"},
		{"mill", "./gradlew build", "mill/build.gradle.kts mill/gradle/wrapper/gradle-wrapper.jar"},
		{"mill", "mvn package", "mill/pom.xml mill/.mvn/jvm.config"},
		{"office", "pip install .", "office/setup.py office/pyproject.toml"},
		{"office", "poetry run pytest", "office/pyproject.toml"},
		{"quay", "cargo run", "quay/build.rs quay/.cargo/config.toml"},
		{"rota", "bundle exec rails server", "rota/Gemfile rota/rota.gemspec"},
		{"desk", "dotnet run", "desk/Desk.csproj Directory.Build.props"},
		{"web", "echo npm", ""},
		{".", "", ""},
	} {
		if got := strings.Join(Obeyed(fsys, c.dir, strings.Fields(c.line)), " "); got != c.want {
			t.Errorf("%s in %s goes by %q, want %q", c.line, c.dir, got, c.want)
		}
	}
}

// TestTasksOf reads files of tasks with what they bring in and what they run by being read.
func TestTasksOf(t *testing.T) {
	t.Parallel()
	file := func(text string) *fstest.MapFile { return &fstest.MapFile{Data: []byte(text)} }
	fsys := fstest.MapFS{
		"Makefile": file("A := $(shell tide (x) y)\nB != date\n-include make/*.mk " +
			"absent.mk\ninclude $(C)/d.mk\nall: a\na:\n\t@x\n"),
		"make/1.mk": file("include make/2.mk\nZ = $(shell one)\n"), "make/2.mk": file("include " +
			"make/1.mk\n"),
		"own.mk": file("b:\n\ty\n"), "sub/Makefile": file("include " +
			"sub.mk\n"), "sub/sub.mk": file(""),
		"justfile": file("import? 'a.just'\nmod tools 'tools/mod.just'\nset shell := ['sh']\nv := `git " +
			"describe`\nx:\n  y\n"),
		"a.just": file("w := `whoami`\n"), "tools/mod.just": file(""),
		"Taskfile.yml": file("includes:\n  docs: ./docs/Taskfile.yml\n  web:\n    taskfile: " +
			"web.yml\nvars:\n  V:\n    sh: date\ntasks:\n  a: b\n"),
		"docs/Taskfile.yml": file("tasks:\n  x:\n    status:\n      - sh: test -f " +
			"y\n"), "web.yml": file(""),
	}
	for _, c := range []struct{ dir, program, file, files, runs, unknown, targets string }{
		{".", "make", "", "Makefile make/1.mk make/2.mk", "tide (x) y, date, one", "$(C)/d.mk",
			"all a"},
		{".", "make", "own.mk", "own.mk", "", "", "b"},
		{"sub", "make", "", "sub/Makefile sub/sub.mk", "", "", ""},
		{".", "just", "", "justfile a.just tools/mod.just", "git describe, whoami", "", "x"},
		{".", "task", "", "Taskfile.yml docs/Taskfile.yml web.yml", "date, test -f y", "", "a"},
		{"docs", "make", "", "", "", "", ""},
		{".", "make", "absent.mk", "", "", "", ""},
	} {
		got := TasksOf(fsys, c.dir, c.program, c.file)
		var targets []string
		for _, target := range got.Targets {
			targets = append(targets, target.Name)
		}
		if strings.Join(got.Files, " ") != c.files || strings.Join(got.Runs, ", ") != c.runs ||
			strings.Join(got.Unknown, " ") != c.unknown || strings.Join(targets, " ") != c.targets {
			t.Errorf("%s %s in %s: files %q, runs %q, unknown %q, targets %q", c.program, c.file,
				c.dir, got.Files, got.Runs, got.Unknown, targets)
		}
	}
}

// TestAssetScripts tells the scripts that make what another server hands out from those for other
// ends.
func TestAssetScripts(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		scripts map[string]string
		builds  string
		watch   string
	}{
		"one": {map[string]string{"build": "vite build", "watch": "vite build --watch"}, "build",
			"watch"},
		"by kind": {map[string]string{"build:css": "sass a b", "build:js": "esbuild a"},
			"build:css build:js", ""},
		"one that calls them": {map[string]string{"build": "npm run build:css",
			"build:css": "sass a b"}, "build", ""},
		"for other ends": {map[string]string{"build:docker": "docker build .",
			"build:prod": "vite build"}, "", ""},
		"of all members": {map[string]string{"build": "turbo run build"}, "", ""},
		"in a container": {map[string]string{"build": "docker build ."}, "", ""},
		"a look at the code": {map[string]string{"watch": "tsc --noEmit --watch",
			"lint:watch": "eslint --watch"}, "", ""},
		"a builder that stays": {map[string]string{"build": "webpack --watch"}, "", ""},
		"nothing":              {nil, "", ""},
	} {
		scripts := map[string][]string{}
		for script, line := range c.scripts {
			scripts[script] = []string{line}
		}
		builds, watch := AssetScripts(scripts)
		if strings.Join(builds, " ") != c.builds || watch != c.watch {
			t.Errorf("%s: %q and %q, want %q and %q", name, builds, watch, c.builds, c.watch)
		}
	}
}

// TestRunsHelper tells programs that prepare or test something from those that serve, by their
// names.
func TestRunsHelper(t *testing.T) {
	t.Parallel()
	for line, want := range map[string]bool{"go run ./cmd/gencharts": true,
		"go run ./tools/seed": true, "go run .": false,
		"go run ./cmd/office": false, "go run main.go": false, "cargo run --bin " +
			"migrate-tides": true, "cargo run": false,
		"go test ./...": false, "node seed.js": false} {
		if got := RunsHelper(strings.Fields(line)); got != want {
			t.Errorf("%s: %v", line, got)
		}
	}
}

// TestFolderAt lists a folder as the survey would.
func TestFolderAt(t *testing.T) {
	t.Parallel()
	f := FolderAt(fstest.MapFS{"a/b": {}, "a/c/d": {}}, "a")
	if !f.Has("b") || f.Has("c") || !slices.Equal(f.Folders, []string{"c"}) ||
		len(FolderAt(f.FS, "absent").Files) > 0 {
		t.Errorf("got %+v", f)
	}
}
