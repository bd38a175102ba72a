package survey

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
)

// TestInsistedBelow tells a variable that the code gives up without, lines below the one that reads
// it, from one that it only looks at.
func TestInsistedBelow(t *testing.T) {
	t.Parallel()
	for code, must := range map[string]bool{
		"a.js\nconst key = process.env.TIDE;\nif (!key) {\n  throw new Error('no')\n}": true,
		"a.js\nlet key = process.env.TIDE\nif (key === undefined) process.exit(1)":     true,
		"a.ts\nconst key: string = process.env.TIDE\nassert(key, 'no')":                true,
		"a.ts\nconst key: string | undefined = process.env.TIDE;\nif (key == null) { throw 1 " +
			"}": true,
		"a.py\nkey = os.environ.get('TIDE')\nif not key:\n    raise ValueError()":    true,
		"a.py\nkey = os.getenv('TIDE')\nif key is None:\n    sys.exit(1)":            true,
		"a.py\nkey = os.getenv('TIDE')\nassert key":                                  true,
		"a.go\nkey := os.Getenv(\"TIDE\")\nif key == \"\" {\n\tlog.Fatal(\"no\")\n}": true,
		"a.go\nkey := os.Getenv(\"TIDE\")\nif len(key) == 0 {\n\tpanic(1)\n}":        true,
		"a.rb\nkey = ENV['TIDE']\nraise 'no' if key.nil?":                            false,
		// said in another order
		"a.rb\nkey = ENV['TIDE']\nunless key\n  abort 'no'\nend":                           true,
		"a.js\nconst key = process.env.TIDE;\nif (key) throw new Error('there')":           false,
		"a.js\nconst key = process.env.TIDE;\nif (!key) return;":                           false,
		"a.js\nconst key = process.env.TIDE;\nif (!keyOther) throw 1":                      false,
		"a.js\nconst key = process.env.TIDE || 'x';\nif (!key) throw 1":                    false,
		"a.js\nif (production) {\n  const key = process.env.TIDE;\n  if (!key) throw 1\n}": false,
		"a.js\nconst key = process.env.TIDE;\nuse(key);":                                   false,
		"a.go\nkey := os.Getenv(\"TIDE\")\nif key != \"\" {\n\tlog.Fatal(\"set\")\n}":      false,
		"a.py\nkey = os.getenv('TIDE')\nif not key:\n    key = make()":                     false,
		"a.js\nconst key = process.env.TIDE;" + strings.Repeat("\nstep();", 60) +
			"\nif (!key) throw 1": false,
	} {
		name, text, _ := strings.Cut(code, "\n")
		s, err := Survey(fstest.MapFS{"compose.yaml": {Data: []byte("services: {web: {image: x}}")},
			"src/" + name: {Data: []byte(text)}}, Options{Root: "/w", ReadCode: true})
		if err != nil {
			t.Fatal(err)
		}
		if len(s.Reads) != 1 || s.Reads[0].Name != "TIDE" || s.Reads[0].Must != must {
			t.Errorf("%s\nreads %+v, must is %v", code, s.Reads, must)
		}
	}
}

// TestUnchosenSettings insists on what the chosen module of settings reads, and what that takes in.
func TestUnchosenSettings(t *testing.T) {
	t.Parallel()
	reads := func(name string) *fstest.MapFile {
		return &fstest.MapFile{Data: []byte("import os\nx = os.environ['" + name + "']\n")}
	}
	s, err := Survey(fstest.MapFS{"requirements.txt": {Data: []byte("django")},
		"manage.py": {Data: []byte(
			`os.environ.setdefault("DJANGO_SETTINGS_MODULE", "tides.settings.work")`)},
		"tides/settings/work.py":   {Data: []byte("from .common import *\n")},
		"tides/settings/common.py": reads("COMMON"), "tides/settings/host.py": reads("STORE"),
		"tides/views.py": reads("VIEW")}, Options{Root: "/w", ReadCode: true})
	if err != nil {
		t.Fatal(err)
	}
	must := map[string]bool{}
	for _, r := range s.Reads {
		must[r.Name] = r.Must
	}
	if !must["COMMON"] || must["STORE"] || !must["VIEW"] || len(must) != 3 {
		t.Errorf("insisted on: %v", must)
	}
}

// TestSettingsAbove reads from a folder above what nothing else gives to a service, and only what
// its code insists on.
func TestSettingsAbove(t *testing.T) {
	t.Parallel()
	insists := "from flask import Flask\napp = Flask(__name__)\nkey = os.environ['TIDE']"
	for _, c := range []struct{ template, text, code, want string }{
		{".env.example", "TIDE=", insists, ".env"},
		{"quay/.env.example", "TIDE=", insists, "quay/.env"},
		{".env.example", "OTHER=", insists, "quay/crane/.env"}, // a file that is yet to be made
		{".env.example", "TIDE=", strings.Replace(insists, "['TIDE']", ".get('TIDE', 'low')", 1),
			""},
		{".env.example", "TIDE=\nPORT=4471", insists, ""}, // somebody's own
		{"quay/crane/.env.example", "TIDE=", insists, "quay/crane/.env"},
		{"office/.env.example", "TIDE=", insists, ""},
	} {
		s, err := Survey(fstest.MapFS{c.template: {Data: []byte(c.text)},
			"quay/crane/app.py":           {Data: []byte(c.code)},
			"quay/crane/requirements.txt": {Data: []byte("flask")}}, Options{Root: "/w",
			ReadCode: true})
		if err != nil || len(s.Services) != 1 {
			t.Fatalf("%v, %+v", err, s.Services)
		}
		var got []string
		for _, f := range s.Services[0].EnvFiles {
			got = append(got, f.Path)
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s with %q: reads %q, want %q", c.template, c.text, got, c.want)
		}
	}
}

// TestPortsBehindVariables follow the setting of the variable, in every language's way to read one.
func TestPortsBehindVariables(t *testing.T) {
	t.Parallel()
	for line, want := range map[string]string{
		"const p = process.env.QUAY_PORT || 3000":         "4800 by QUAY_PORT",
		"listen(process.env['QUAY_PORT'] ?? 3000)":        "4800 by QUAY_PORT",
		"listen(Number(process.env.OTHER_PORT ?? 3000))":  "3000 by OTHER_PORT",
		"listen(process.env.PORT || 3000)":                "3000 by PORT",
		"listen(3000)":                                    "3000 by PORT",
		"listen(env.QUAY_PORT || env.OTHER_PORT || 3000)": "3000 by PORT",
	} {
		s, _ := Survey(fstest.MapFS{"package.json": {Data: []byte(`{"scripts": {"start": "node quay.js"}}`)},
			"quay.js": {Data: []byte("const http = require('http')\n" + line +
				"\nhttp.createServer().listen(p)\n")},
			".env.example": {Data: []byte("QUAY_PORT=4800\n")}}, Options{Root: "/w"})
		got := "nothing"
		if len(s.Services) == 1 && len(s.Services[0].Ports) == 1 {
			got = fmt.Sprintf("%d by %s", s.Services[0].Ports[0].Host, s.Services[0].PortBy.Env)
		}
		if got != want {
			t.Errorf("%s\nlistens on %s, want %s", line, got, want)
		}
	}
}
