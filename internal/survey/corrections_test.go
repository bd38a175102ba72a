package survey

import (
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"nimbleharbor/internal/corrections"
	"nimbleharbor/internal/stack"
)

// quays are two services, of which the one is asked for by the other.
func quays(text string) fstest.MapFS {
	return fstest.MapFS{
		"api/package.json": {Data: []byte(
			`{"scripts": {"start": "node api.js --port 4100", "migrate": "node m.js"}, "dependencies": {"fastify": ` +
				`"5"}}`)},
		"web/package.json": {Data: []byte(`{"scripts": {"dev": "vite"}, "devDependencies": {"vite": "6"}}`)},
		"web/.env":         {Data: []byte("VITE_API=http://localhost:4100\n")},
		corrections.File:   {Data: []byte(text)},
	}
}

func TestCorrections(t *testing.T) {
	t.Parallel()
	fsys := quays(`
[service.api]
port = 4200
speaks = "tcp"
kind = "lasting"
env = {DEPTH = "7"}
command = "node other.js --depth 7"
after = ["mail begun"]

[service.mail]
command = ["mailer", "--quiet"]
folder = "api"

[service.web]
after = ["api finished"]

[project.web]
framework = "own"

[step."migrate:api"]
command = "node again.js"
inputs = ["api/tables"]
every-time = true

[step."seed:api"]
command = "node seed.js"
`)
	fsys[corrections.LocalFile] = &fstest.MapFile{Data: []byte(
		"[service.api]\nport = 4300\n[service.web]\nleave-out = false\n")}
	s, err := Survey(fsys, Options{Root: "/w"})
	if err != nil {
		t.Fatal(err)
	}
	got := conclusions(s)
	for _, want := range []string{
		"service api: native lasting from script, project \"api\", node other.js --depth 7",
		"port 4300 to 4300 tcp (nharbor.local.toml:1)",
		"after mail begun, declared: nharbor.toml says so (nharbor.toml:2)",
		"service mail: native lasting from stackfile, project \"api\", mailer --quiet", "after " +
			"api finished, declared",
		"project web: node npm own",
		"step migrate:api: node again.js (nharbor.toml:20)", "step seed:api: node seed.js " +
			"(nharbor.toml:25)",
	} {
		if !strings.Contains(got, want) {
			t.Errorf("absent: %s", want)
		}
	}
	if t.Failed() {
		t.Log(got)
	}
	if v := s.Service("api"); v.Env["DEPTH"] != "7" {
		t.Errorf("the environment is %v", v.Env)
	}
	if st := s.Project("api", "").Steps; !slices.ContainsFunc(st,
		func(st stack.Step) bool { return st.EveryTime && st.Inputs[0] == "api/tables" }) {
		t.Errorf("the steps are %+v", st)
	}
}

func TestLeftOut(t *testing.T) {
	t.Parallel()
	s, err := Survey(quays("[service.api]\nleave-out = true\n[step.\"install:web\"]\nleave-out = "+
		"true\n[project.api]\nleave-out = true\n"), Options{Root: "/w"})
	if err != nil {
		t.Fatal(err)
	}
	if got := conclusions(s); strings.Contains(got, "service api") ||
		strings.Contains(got, "after api") ||
		strings.Contains(got, "install:web") || strings.Contains(got, "project api") ||
		!strings.Contains(got, "service web") {
		t.Errorf("what is left:\n%s", got)
	}
}

func TestWrongCorrections(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"[service.api]\nprot = 1": "nharbor.toml:2:1: the key prot is not known | Did you " +
			"mean port?",
		"[sevrice.api]": "nharbor.toml:1:2: the key sevrice is not known " +
			"| Did you mean service?",
		"[service.api]\nport = 99999":         "nharbor.toml:1: 99999 is no port",
		"[service.api]\nport = \"x\"":         "nharbor.toml:2:8: the file is not right",
		"[service.api]\nruns = \"cloud\"":     "nharbor.toml:1: api can't run \"cloud\"",
		"[service.api]\nruns = \"container\"": "nharbor.toml:1: api can't run container",
		"[service.api]\nspeaks = \"postgrs\"": "nharbor.toml:1: api can't speak \"postgrs\"",
		"[service.api]\nkind = \"x\"":         "nharbor.toml:1: api can't be of the kind \"x\"",
		"[service.api]\nfolder = \"../../etc\"": "nharbor.toml:1: the folder " +
			"../../etc leaves the workspace",
		"[service.api]\nafter = [\"x y z\"]": "nharbor.toml:1: after: \"x y z\" can't be read",
		"[service.api]\nafter = [\"db\"]":    "nharbor.toml:1: there is no service \"db\"",
		"[service.api]\ncommand = 7":         "nharbor.toml:1: the command of api is neither",
		"[service.api]\ncommand = []":        "nharbor.toml:1: the command of api is empty",
		"[service.none]\nport = 1":           "nharbor.toml:1: there is no service \"none\"",
		"[step.x]\ncommand = [1]": "nharbor.toml:1: the command of the " +
			"step x holds something",
		"[step.\"sweep:api\"]\ncommand = \"x\"": "nharbor.toml:1: there is no step \"sweep:api\"",
		"[project.none]\nleave-out = true": "nharbor.toml:1: there is no " +
			"project \"none\"",
		"[service.api\nport = 1":                           "nharbor.toml:1",
		"[service.api]\nport = 1\n[service.api]\nport = 2": "nharbor.toml:3",
		"colour = 1": "nharbor.toml:1:1: the key colour is not known",
		"[service.web]\nleave-out = true\nprot = 1\nx = 1\n": "nharbor.toml:4:1: the key x",
	} {
		_, err := Survey(quays(text), Options{Root: "/w"})
		said := ""
		for _, f := range stack.AllFaults(err) {
			said += f.Error() + " | " + f.Remedy + "\n"
		}
		if err == nil || !strings.Contains(said, want) {
			t.Errorf("%q gives %s\nwant %s", text, said, want)
		}
	}
}

func TestDraftChangesNothing(t *testing.T) {
	t.Parallel()
	plain, err := Survey(quays(""), Options{Root: "/w"})
	if err != nil {
		t.Fatal(err)
	}
	draft := Draft(plain)
	if same, err := Survey(quays(draft), Options{Root: "/w"}); err != nil ||
		conclusions(same) != conclusions(plain) {
		t.Errorf("with the draft: %v\n%s", err, conclusions(same))
	}
	used := regexp.MustCompile(`(?m)^#(\S)`).ReplaceAllString(draft, "$1")
	same, err := Survey(quays(used), Options{Root: "/w"})
	if err != nil {
		t.Fatalf("%v\n%s", err, used)
	}
	if same.Service("web").Ports[0].Host != 5173 ||
		strings.Join(same.Service("web").Command, " ") != "npm run dev" ||
		len(same.Services) != 2 || same.Service("web").After[0].Service != "api" {
		t.Errorf("with the draft in force:\n%s", conclusions(same))
	}
}

// TestLessonsAreDrafted writes what a launch has learned so that it counts for whoever has the
// file: the draft is read back.
func TestLessonsAreDrafted(t *testing.T) {
	t.Parallel()
	desk := stack.Service{Name: "desk", After: []stack.After{
		{Service: "bell", Until: stack.Begun},
		{Service: "ledger", Until: stack.Answering, Sure: stack.Seen, Reason: "it was refused"}}}
	desk.Runs, desk.Command = stack.Native, []string{"sh", "desk.sh"}
	ledger := stack.Service{Name: "ledger",
		Ports: []stack.Port{{Host: 4607, Target: 4607, Speaks: "http", Sure: stack.Seen}}}
	draft := Draft(&stack.Stack{Services: []stack.Service{desk, ledger}})
	read, err := corrections.Read(fstest.MapFS{corrections.File: {Data: []byte(draft)}})
	if err != nil {
		t.Fatalf("%v in\n%s", err, draft)
	}
	port := read.Service["ledger"].Port
	if after := read.Service["desk"].After; !slices.Equal(after, []string{"ledger answering"}) ||
		port == nil || *port != 4607 || !strings.Contains(draft, "# ledger: it was refused") {
		t.Errorf("read back: %q, %v\n%s", after, port, draft)
	}
}
