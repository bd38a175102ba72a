package survey

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"nimbleharbor/internal/stack"
)

// TestReads finds the variables that code of each language reads: with a value of its own, without,
// or failing without.
func TestReads(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ code, want string }{
		"a.js": {"const a = process.env.PLAIN\nconst b = process.env.BACKED || 'x'\nconst c = " +
			"process.env['QUOTED'] " +
			"?? 1\nif (process.env.ASKED) { use() }\nif (!process.env.NEEDED) throw new " +
			"Error('no')\nprocess.env.NODE_ENV\nmyprocess.env.lower",
			"PLAIN, BACKED default, QUOTED default, ASKED default, NEEDED must"},
		"a.ts": {"import.meta.env.VITE_API_URL\nBun.env.BUN_KEY\nDeno.env.get('DENO_KEY')\nconst x " +
			"= process.env.TERNARY ? 1 : 2", "VITE_API_URL, BUN_KEY, DENO_KEY, TERNARY default"},
		"checked.ts": {"import { z } from 'zod'\nimport Joi from 'joi'\nexport const env = " +
			"check({\n  BERTH_URL: z.string().url(),\n  BERTH_PORT: z.coerce.number()" +
			".default(4310),\n  TIDE_KEY: z\n    .string()\n    .optional(),\n" +
			"  MODE_OF_SEA: z.enum(['calm', 'rough']),\n  // UNUSED_KEY: z.string(),\n" +
			"  PIER_ID: Joi.string().required(),\n  PIER_NOTE: Joi.string(),\n}, process.env)",
			"BERTH_URL must, BERTH_PORT default, TIDE_KEY default, MODE_OF_SEA must, PIER_ID " +
				"must, PIER_NOTE"},
		// not of the environment
		"fares.ts": {"import { z } from 'zod'\nconst fare = z.object({\n  ADULT_FARE: " +
			"z.number(),\n})", ""},
		"a.vue": {"<script>const u = import.meta.env.VITE_URL</script>", "VITE_URL"},
		"a.py": {"import os\nimport environ\nA = os.environ['MUST_PY']\n" +
			"B = os.environ.get('GET_PY')\nC " +
			"= os.getenv(\"GETENV_PY\", 'x')\nD = env.int('DJ_PORT', default=1)\nE = " +
			"env('DJ_KEY')\nos.environ.setdefault('SET_PY', 'v')\n",
			"MUST_PY must, GET_PY, GETENV_PY default, DJ_PORT default, DJ_KEY must"},
		"a.rb": {"a = ENV['PLAIN_RB']\nb = ENV.fetch('MUST_RB')\nc = ENV.fetch('BACKED_RB', " +
			"'x')\nd = ENV.fetch('BLOCK_RB') { 1 }\ne = ENV['OR_RB'] || 2\n",
			"PLAIN_RB, MUST_RB must, BACKED_RB default, BLOCK_RB default, OR_RB default"},
		"a.php": {"<?php\n$a = env('PLAIN_PHP');\n$b = env('BACKED_PHP', 'x');\n$c = " +
			"getenv('GETENV_PHP') ?: " +
			"'y';\n$d = $_ENV['ENV_PHP'];\n", "PLAIN_PHP, BACKED_PHP default, GETENV_PHP " +
			"default, ENV_PHP"},
		"a.go": {"package a\nimport \"os\"\nvar a = os.Getenv(\"PLAIN_GO\")\nvar b, ok " +
			"= os.LookupEnv(\"LOOKED_GO\")\n", "PLAIN_GO, LOOKED_GO"},
		"A.java": {"String a = System.getenv(\"PLAIN_JAVA\");", "PLAIN_JAVA"},
		"a.rs": {"let a = env::var(\"PLAIN_RS\")?;\nlet b = " +
			"std::env::var(\"BACKED_RS\").unwrap_or_default();",
			"PLAIN_RS must, BACKED_RS default"},
		"A.cs": {"var a = Environment.GetEnvironmentVariable(\"PLAIN_CS\");\nvar b " +
			"= Environment.GetEnvironmentVariable(\"BACKED_CS\") ?? \"x\";", "PLAIN_CS, " +
			"BACKED_CS default"},
		"a.exs": {"a = System.get_env(\"PLAIN_EX\")\nb = System.fetch_env!(\"MUST_EX\")\nc = " +
			"System.get_env(\"BACKED_EX\", \"x\")", "PLAIN_EX, MUST_EX must, BACKED_EX default"},
		"guards.py": {"import os\ntry:\n    a = os.environ['TRIED']\nexcept KeyError:\n    " +
			"pass\nif 'ASKED_ABOVE' in " +
			"os.environ:\n    b = os.environ['ASKED_ABOVE']\nos.environ['GIVEN'] = 'x'\ndel " +
			"os.environ['GONE']\nc = os.environ['HTTP_USER_AGENT'] + os.environ['SYSTEMROOT'] + " +
			"os.environ['KUBERNETES_PORT']\nd = os.environ['INSISTED']",
			"TRIED default, ASKED_ABOVE default, INSISTED must"},
		"cases.py": {"import os\nif os.getenv('STORE', 'file') == 'postgres':\n    store = {\n" +
			"        'user': os.environ['STORE_USER'],\n    }\n# MAIL = os.environ['MAIL_HOST']\n" +
			"def first():\n    if not os.getenv('FIRST_USER', ''):\n        return\n\n    raise " +
			"ValueError()\nif __name__ == '__main__':\n    serve(os.environ['QUAY'])\n",
			"STORE default, STORE_USER, FIRST_USER default, QUAY must"},
		"classes.py": {"from pydantic import BaseModel, BaseSettings\n\nclass " +
			"Plain(BaseModel):\n    note: str\n\n" +
			"class Quays(BaseModel):\n    quay_name: str\n    quay_kind: Literal[\n        " +
			"'deep', 'flat'\n    ] = " +
			"Field(default='deep')\n\nclass Tides(Quays):\n    tide_key: str = Field(\n        " +
			"default=''\n    )\n\n" +
			"class Settings(\n    Tides,\n    BaseSettings,\n):\n    pier: str\n",
			"QUAY_NAME must, QUAY_KIND default, TIDE_KEY default, PIER must"},
		"conftest.py": {"import os\na = os.environ['OF_TESTS']", ""},
		"a.test.js":   {"process.env.IN_A_TEST", ""},
		"a.txt":       {"process.env.NO_CODE", ""},
	} {
		s, err := Survey(fstest.MapFS{"compose.yaml": {Data: []byte("services: {web: {image: x}}")},
			"src/" + name: {Data: []byte(c.code)}}, Options{Root: "/w", ReadCode: true})
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, r := range s.Reads {
			text := r.Name
			if r.Default {
				text += " default"
			}
			if r.Must {
				text += " must"
			}
			got = append(got, text)
		}
		if strings.Join(got, ", ") != c.want {
			t.Errorf("%s reads %v, want %s", name, got, c.want)
		}
	}
}

// TestMissingNames remarks on what nobody names, and only on that.
func TestMissingNames(t *testing.T) {
	t.Parallel()
	var many strings.Builder
	for i := range 12 {
		fmt.Fprintf(&many, "process.env.MANY_%02d\n", i)
	}
	s, err := Survey(fstest.MapFS{
		"compose.yaml": {Data: []byte(
			"services: {web: {image: x, environment: {IN_COMPOSE: '1', FROM: '${VARIABLE}'}}}")},
		".env.example":     {Data: []byte("IN_TEMPLATE=1\n")},
		"api/package.json": {Data: []byte(`{"name": "api"}`)},
		"api/index.js": {Data: []byte(
			"process.env.IN_COMPOSE + process.env.IN_TEMPLATE + process.env.VARIABLE + " +
				"process.env.NOWHERE + (process.env.BACKED || 1)\n")},
		"web/package.json": {Data: []byte(`{"name": "web"}`)},
		"web/index.js":     {Data: []byte(many.String())},
		"x/.gitignore":     {Data: []byte("made/\n")},
		"x/made/a.js":      {Data: []byte("process.env.IGNORED\n")},
	}, Options{Root: "/w", ReadCode: true})
	if err != nil {
		t.Fatal(err)
	}
	var got []stack.Remark
	for _, r := range s.Remarks {
		if r.Code == "variable-in-no-template" {
			got = append(got, r)
		}
	}
	if len(got) != 2 || !strings.HasSuffix(got[0].Text, "names: NOWHERE (api/index.js:1)") ||
		got[0].At != (stack.Place{File: "api/index.js", Line: 1}) ||
		!strings.HasSuffix(got[1].Text, "and 4 more") {
		t.Errorf("the remarks are %+v", got)
	}
}

// TestEnvFilesFound lists settings files with what each is made from, and the layers that are read
// together.
func TestEnvFilesFound(t *testing.T) {
	t.Parallel()
	file := func(text string) *fstest.MapFile { return &fstest.MapFile{Data: []byte(text)} }
	s, err := Survey(fstest.MapFS{
		"package.json": file(`{"name": "web", "scripts": {"dev": "vite"}, "devDependencies": {"vite": "5"}}`),
		".gitignore":   file("*.local\n"), ".env.example": file("A=1\nB=\n"),
		".env.development": file("C=1\n"),
		"README.md": file(
			"# X\n\n    cp settings/office.example.yml config/office.yml\n    cp -n api/env.txt " +
				"api/.env\n    cp a.example ../outside.env\n    cp missing.env " +
				".env.x\n"), "settings/office.example.yml": file("a: 1\n"),
		"api/env.txt": file("D=1\n"), "a.example": file("x"),
		"compose.yaml": file(
			"services:\n  api: {image: x, env_file: [present.env, absent.env]}\n  raw: {image: " +
				"x, env_file: [{path: raw.env, format: raw}, {path: no.env, required: " +
				"false}]}\n"), "present.env": file("E=1\n"),
		"raw.env":                    file("F='"),
		"broken/config.example.toml": file("a = {{ x }}\n{% if %}\n"),
	}, Options{Root: "/w"})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, e := range s.EnvFiles {
		got = append(got,
			strings.TrimSpace(fmt.Sprintf("%s %s from %q present=%v settings=%d unfilled=%d "+
				"wanted=%v layers=%d",
				e.Path, e.Format, e.Template, e.Present, e.Settings, e.Unfilled,
				!e.WantedAt.IsZero(), len(e.Layers))))
	}
	slices.Sort(got)
	want := []string{
		`.env.development dotenv from "" present=true settings=1 unfilled=0 wanted=false layers=4`,
		`.env.local dotenv from ".env.example" present=false settings=2 unfilled=1 wanted=false layers=4`,
		`absent.env dotenv from "" present=false settings=0 unfilled=0 wanted=true layers=0`,
		`api/.env dotenv from "api/env.txt" present=false settings=1 unfilled=0 wanted=false layers=0`,
		`broken/config.toml other from "broken/config.example.toml" present=false settings=0 unfilled=0 wanted=false ` +
			`layers=0`,
		`config/office.yml yaml from "settings/office.example.yml" present=false settings=1 unfilled=0 wanted=false ` +
			`layers=0`,
		`present.env dotenv from "" present=true settings=1 unfilled=0 wanted=false layers=0`,
	}
	if !slices.Equal(got, want) {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}
