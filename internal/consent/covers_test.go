package consent

import (
	"maps"
	"strings"
	"testing"
	"testing/fstest"

	"nimbleharbor/internal/order"
	"nimbleharbor/internal/survey"
)

// TestCovers changes one thing after the other of an application and holds that what is agreed to
// has another sum then, or, for what is no business of consent, the same.
func TestCovers(t *testing.T) {
	t.Parallel()
	base := map[string]string{
		"compose.yaml": "services:\n" +
			"  pier:\n    build: pier\n    ports: [\"4901:80\"]\n    env_file: [pier/run.env, " +
			"pier/values.sh]\n  tide:\n    image: saltmarsh/tide:1\n    working_dir: /srv\n" +
			"    command: sh -c \"cd /srv/tools && ./up.sh one\"\n    volumes: " +
			"[\"./tide:/srv\"]\n    healthcheck: {test: [CMD, sh, /srv/well.sh]}\n",
		"pier/Dockerfile": "FROM saltmarsh/base:1\nWORKDIR /app\nCOPY package.json ./\nCOPY src " +
			"./src\nCOPY make.sh start.sh /usr/local/bin/\nRUN sh /usr/local/bin/make.sh\n" +
			"ENTRYPOINT [\"/usr/local/bin/start.sh\"]\nCMD [\"npm\", \"start\"]\n",
		"pier/package.json":  `{"name": "pier", "scripts": {"start": "node src/server.js && sh src/late.sh"}}`,
		"pier/src/server.js": "serve()\n", "pier/src/late.sh": "echo " +
			"late\n", "pier/src/notes.md": "x\n",
		"pier/make.sh": "echo make\n", "pier/start.sh": "exec " +
			"\"$@\"\n", "pier/run.env": "LEVEL=low\n",
		"pier/values.sh":   "LEVEL=low\n",
		"tide/tools/up.sh": "#!/bin/sh\n. ./more\n", "tide/tools/more": "echo " +
			"more\n", "tide/well.sh": "true\n",
		"tide/data.csv":       "1\n",
		"office/package.json": `{"name": "office", "scripts": {"start": "sh start.sh", "test": "node check.js"}}`,
		"office/start.sh":     ". ./.env\nnode server.js \"$A\"\n", "office/server.js": "serve()\n",
		"office/.env": "A=1\nPORT=4902\n", "office/.env.example": "A=1\nPORT=4902\n",
		"office/check.js": "check()\n",
		"office/load.js":  "load()\n",
	}
	sum := func(files map[string]string) string {
		fsys := fstest.MapFS{}
		for name, text := range files {
			fsys[name] = &fstest.MapFile{Data: []byte(text), Mode: 0o644}
			if strings.HasPrefix(text, "#!") {
				fsys[name].Mode = 0o755
			}
		}
		s, err := survey.Survey(fsys, survey.Options{Root: "/ws"})
		if err != nil {
			t.Fatal(err)
		}
		o, err := order.Build(s, order.Options{})
		if err != nil {
			t.Fatal(err)
		}
		list := Commands(fsys, s, o, nil)
		list = append(list, CommandsOf(fsys, s,
			[]Beside{{ID: "step:test:office", Command: []string{"npm", "test"},
				Expands: []string{"test: node check.js"}, Folder: "office"}}, nil)...)
		return Sum(list)
	}
	first := sum(base)
	for _, c := range []struct {
		what, file, old, new string
		same                 bool
	}{
		{what: "a file that a build copies and its entry point runs", file: "pier/start.sh",
			new: "evil\n"},
		{what: "one that a build runs", file: "pier/make.sh", new: "evil\n"},
		{what: "a script that the copied manifest names", file: "pier/package.json",
			old: "node src", new: "evil; node src"},
		{what: "a script that this calls", file: "pier/src/late.sh", new: "evil\n"},
		{what: "a program that this starts", file: "pier/src/server.js", new: "evil()\n"},
		{what: "a file that nothing names", file: "pier/src/notes.md", new: "y\n", same: true},
		{what: "a script behind a cd in a mounted folder", file: "tide/tools/up.sh",
			new: "#!/bin/sh\nevil\n"},
		{what: "what that reads as its own lines", file: "tide/tools/more", new: "evil\n"},
		{what: "a health check's script", file: "tide/well.sh", new: "evil\n"},
		{what: "mounted data", file: "tide/data.csv", new: "2\n", same: true},
		{what: "where a folder is mounted", file: "compose.yaml", old: "./tide:/srv\"",
			new: "./tide:/etc\""},
		{what: "how words are divided", file: "compose.yaml", old: "[CMD, sh, /srv/well.sh]",
			new: "[CMD, \"sh /srv/well.sh\"]"},
		{what: "a value of settings that a shell reads", file: "office/.env", old: "A=1",
			new: "A=2", same: true},
		{what: "a command in settings that a shell reads", file: "office/.env", old: "A=1",
			new: "A=$(evil)"},
		{what: "another line in them", file: "office/.env", old: "A=1", new: "A=1\nevil"},
		{what: "a variable that loads, by another case", file: "office/.env", old: "A=1",
			new: "npm_Config_script_shell=./x"},
		{what: "one of a family that nobody has listed", file: "office/.env", old: "A=1",
			new: "PNPM_SOME_HOOK=./load.js"},
		{what: "a harmless one of a family", file: "office/.env", old: "A=1",
			new: "NODE_ENV=production", same: true},
		{what: "a value that names a program", file: "office/.env", old: "A=1", new: "A=./load.js"},
		{what: "options under another name", file: "office/.env", old: "A=1",
			new: "OFFICE_JAVA_OPTS=-javaagent:x.jar"},
		{what: "a container's variables by a file", file: "pier/run.env",
			new: "LD_PRELOAD=/app/x.so\n"},
		{what: "what the tests run", file: "office/check.js", new: "evil()\n"},
	} {
		files := maps.Clone(base)
		if c.old == "" {
			files[c.file] = c.new
		} else {
			files[c.file] = strings.Replace(base[c.file], c.old, c.new, 1)
		}
		if files[c.file] == base[c.file] {
			t.Errorf("%s: nothing is changed", c.what)
		}
		if got := sum(files); (got == first) != c.same {
			t.Errorf("%s: it is %v that the sum stays the same", c.what, got == first)
		}
	}
}
