package ecosystem

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"nimbleharbor/internal/stack"
)

// folder makes a folder "app" of files; names with a slash lie below it.
func folder(files map[string]string) Folder {
	f := Folder{FS: fstest.MapFS{}, Path: "app", Files: map[string]bool{}}
	for name, text := range files {
		f.FS.(fstest.MapFS)["app/"+name] = &fstest.MapFile{Data: []byte(text)}
		if top, _, below := strings.Cut(name, "/"); !below {
			f.Files[name] = true
		} else if !slices.Contains(f.Folders, top) {
			f.Folders = append(f.Folders, top)
		}
	}
	return f
}

// found runs the reader that recognises the folder.
func found(t *testing.T, files map[string]string) *Finding {
	t.Helper()
	list, errs := Read(folder(files))
	if len(errs) > 0 {
		t.Fatal(errs)
	}
	Settle(list)
	if len(list) > 0 {
		return list[0]
	}
	t.Fatal("no manager recognises the folder")
	return nil
}

func TestPortsAreFound(t *testing.T) {
	t.Parallel()
	start := func(line string) string { return fmt.Sprintf(`{"scripts": {"start": %q}}`, line) }
	for _, c := range []struct {
		name  string
		files map[string]string
		port  int
		at    string
	}{
		{"a flag with a blank", map[string]string{"package.json": start("serve --port 4101")},
			4101, "package.json:1"},
		{"a flag with an equal sign",
			map[string]string{"package.json": start("serve --port=4102")}, 4102, "package.json:1"},
		{"a short flag", map[string]string{"package.json": start("serve -p 4103")}, 4103,
			"package.json:1"},
		{"a variable before the command",
			map[string]string{"package.json": start("PORT=4104 node x.js")}, 4104,
			"package.json:1"},
		{"an address", map[string]string{"package.json": start("serve 0.0.0.0:4105")}, 4105,
			"package.json:1"},
		{"a setting wins over the code", map[string]string{"package.json": start("node server.js"),
			".env.example": "A=1\nPORT=4106\n", "server.js": "listen(1)"}, 4106, ".env.example:2"},
		{"a real setting wins over the template",
			map[string]string{"package.json": start("node server.js"),
				".env.example": "PORT=1111\n", ".env": "PORT=4107\n"}, 4107, ".env:1"},
		{"code with a default", map[string]string{"package.json": start("node web.js"),
			"web.js": "const a = 1\napp.listen(process.env.PORT ?? 4108)"}, 4108, "web.js:2"},
		{"code with a number", map[string]string{"package.json": start("node web.js"),
			"web.js": "server.listen( 4109, () => {})"}, 4109, "web.js:1"},
		{"code in a usual place", map[string]string{"package.json": start("tsx"),
			"src/index.ts": "const port = 4110"}, 4110, "src/index.ts:1"},
		{"a framework's own",
			map[string]string{"package.json": `{"scripts": {"dev": "vite"}, "devDependencies": {"vite": "5"}}`}, 5173,
			"package.json:1"},
		{"python, keyword", map[string]string{"requirements.txt": "x",
			"app.py": "run(host='', port=4111)"}, 4111, "app.py:1"},
		{"python, environment", map[string]string{"requirements.txt": "x",
			"server.py": "run(port=int(os.environ.get('PORT', 4112)))"}, 4112, "server.py:1"},
		{"python, a pair", map[string]string{"requirements.txt": "x",
			"main.py": "S((\"0.0.0.0\", 4113), H)"}, 4113, "main.py:1"},
		{"django", map[string]string{"requirements.txt": "django", "manage.py": ""}, 8000,
			"manage.py:1"},
		{"flask", map[string]string{"requirements.txt": "a\nFlask",
			"app.py": "\nserver = Flask(__name__)"}, 5000, "app.py:2"},
		{"go, a call", map[string]string{"go.mod": "module x",
			"main.go": "package main\nimport \"net/http\"\nfunc main() { " +
				"http.ListenAndServe(\":4114\", nil) }"}, 4114, "main.go:3"},
		{"go, a field", map[string]string{"go.mod": "module x",
			"cmd/a/main.go": "package main\nimport \"net/http\"\nvar s = http.Server{Addr: " +
				"\"localhost:4115\"}"}, 4115, "cmd/a/main.go:3"},
		{"no number that is none", map[string]string{"package.json": start("serve --port 99999")},
			0, ""},
		{"nowhere", map[string]string{"package.json": start("node x.js")}, 0, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			p := found(t, c.files).Project
			if p.Serve == nil {
				t.Fatal("it does not serve")
			}
			port, at := 0, ""
			if len(p.Serve.Ports) > 0 {
				port = p.Serve.Ports[0].Host
				at = fmt.Sprintf("%s:%d", strings.TrimPrefix(p.Serve.Ports[0].At.File, "app/"),
					p.Serve.Ports[0].At.Line)
			}
			if port != c.port || at != c.at {
				t.Errorf("port %d at %s, want %d at %s", port, at, c.port, c.at)
			}
		})
	}
}

func TestNpm(t *testing.T) {
	t.Parallel()
	f := found(t, map[string]string{
		".nvmrc": "v20.1\n", "package-lock.json": "{}",
		"package.json": `{
  "name": "counter",
  "scripts": {"start": "node x.js --port 1234", "build": "tsc", "prebuild": "clean", "codegen": "gen",
              "migrate": "m", "db:seed": "s", "test": "t", "postinstall": "patch"},
  "dependencies": {"fastify": "4"}
}`})
	var steps []string
	for _, s := range f.Project.Steps {
		steps = append(steps, fmt.Sprintf("%s: %s (%s)", s.ID, strings.Join(s.Command, " "),
			strings.Join(s.Expands, "; ")))
	}
	want := []string{
		"install:app: npm ci (postinstall: patch; and whatever install scripts the packages " +
			"bring along)",
		"build:app: npm run build (prebuild: clean; build: tsc)",
		"generate:app: npm run codegen (codegen: gen)", "migrate:app: npm run migrate (migrate: m)",
		"seed:app: npm run db:seed (db:seed: s)", "test:app: npm run test (test: t)",
	}
	if strings.Join(steps, "\n") != strings.Join(want, "\n") {
		t.Errorf("the steps are\n%s\nwant\n%s", strings.Join(steps, "\n"), strings.Join(want, "\n"))
	}
	if f.Project.Framework != "fastify" || f.Project.Name != "counter" ||
		f.Project.Runtimes[0].Constraint != "^20.1" {
		t.Errorf("the project is %+v", f.Project)
	}
	install := f.Project.Steps[0]
	if strings.Join(install.Inputs, " ") != "app/package.json app/package-lock.json" ||
		install.Outputs[0] != "app/node_modules" {
		t.Errorf("the install depends on %v and makes %v", install.Inputs, install.Outputs)
	}
}

func TestLibrariesDoNotServe(t *testing.T) {
	t.Parallel()
	for name, files := range map[string]map[string]string{
		"npm without scripts": {"package.json": `{"name": "x"}`},
		"npm with a test":     {"package.json": `{"scripts": {"test": "t"}}`},
		"pip without a main":  {"requirements.txt": "requests", "lib.py": ""},
		"go without a main":   {"go.mod": "module x", "x.go": "package x\nimport \"net/http\""},
		"go without a port":   {"go.mod": "module x", "main.go": "package main\nfunc main() {}"},
		"go with a test only": {"go.mod": "module x",
			"main_test.go": "package main\nimport \"net/http\""},
	} {
		if p := found(t, files).Project; p.Serve != nil {
			t.Errorf("%s serves with %v", name, p.Serve.Command)
		}
	}
}

func TestBrokenManifests(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		files       map[string]string
		where, says string
	}{
		"a comma too many": {map[string]string{"package.json": "{\n \"a\": 1,\n}"},
			"app/package.json:3:1", "not valid JSON"},
		"a wrong kind": {map[string]string{"package.json": "{\"scripts\": [1]}"},
			"app/package.json:1:14", "scripts is array"},
		"nothing in it": {map[string]string{"package.json": ""}, "app/package.json:1:1",
			"not valid JSON"},
		"a list":    {map[string]string{"package.json": "[]"}, "app/package.json:1:2", "array"},
		"no module": {map[string]string{"go.mod": "go 1.22\n"}, "app/go.mod:1", "no module line"},
		"a huge file": {map[string]string{"package.json": strings.Repeat(" ", maxManifest+1)},
			"app/package.json", "can't be read"},
		"a file that is not": {nil, "app/package.json", "can't be read"},
	} {
		f := folder(c.files)
		if c.files == nil {
			f.Files["package.json"] = true
		}
		_, errs := Read(f)
		err := errors.Join(errs...)
		var fault *stack.Fault
		if !errors.As(err, &fault) || !strings.HasPrefix(fault.Where(), c.where) ||
			!strings.Contains(fault.Text, c.says) || fault.Remedy == "" {
			t.Errorf("%s: %v; want %s at %s", name, err, c.says, c.where)
		}
	}
}

func TestKeyLines(t *testing.T) {
	t.Parallel()
	lines := keyLines([]byte("{\n \"a\": {\n  \"b.c\": [1, {\"d\": 2}],\n  \"e\": null\n },\n " +
		"\"f\": \"x\"\n}"))
	for key, want := range map[string]int{"a": 2, "a.b.c": 3, "a.b.c.d": 3, "a.e": 4, "f": 6,
		"absent": 0} {
		if lines[key] != want {
			t.Errorf("%s stands on line %d, want %d", key, lines[key], want)
		}
	}
	for _, broken := range []string{"", "{", "{\"a\"", "[1,", "{\"a\": }"} {
		keyLines([]byte(broken)) // must come to an end
	}
}
