package compose

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
)

// TestEnvironment tells for each setting of a container what it will be, and from where.
func TestEnvironment(t *testing.T) {
	t.Parallel()
	fsys := fstest.MapFS{
		".env": {Data: []byte("# c\nFROM_BESIDE=beside\nBARE=bare\n")},
		"compose.yaml": {Data: []byte("services:\n  web:\n    image: saltmarsh/web:1\n    " +
			"env_file:\n      - one.env\n" +
			"      - {path: two.env, required: false}\n      - {path: raw.env, format: raw}\n   " +
			" environment:\n      A: plain\n" +
			"      B: ${FROM_BESIDE}\n      C: ${FROM_SHELL}\n      D: ${NOWHERE:-default}\n    " +
			"  E: x${FROM_BESIDE}\n      BARE:\n      ABSENT:\n      ONE: over\n")},
		"one.env": {Data: []byte("ONE=1\nTWO=2\nIN_SHELL\nNOT_IN_SHELL\n")},
		"raw.env": {Data: []byte("QUOTED='as it is'\n")},
		"compose.override.yaml": {Data: []byte("services:\n  web:\n    environment:\n      A: " +
			"later\n")},
	}
	shell := map[string]string{"FROM_SHELL": "shell", "IN_SHELL": "yes"}
	p, err := Load(fsys, ".", Options{Env: func(k string) (string, bool) {
		v, ok := shell[k]
		return v, ok
	}})
	if err != nil {
		t.Fatal(err)
	}
	values, from := p.Environment("web")
	var got []string
	for _, key := range slices.Sorted(maps.Keys(values)) {
		got = append(got, fmt.Sprintf("%s=%s (%s)", key, values[key], from[key]))
	}
	want := []string{"A=later (compose.override.yaml:4)",
		"B=beside (compose.yaml:10, FROM_BESIDE in .env:2)",
		"BARE=bare (compose.yaml:14, BARE in .env:3)", "C=shell (compose.yaml:11, FROM_SHELL in " +
			"the shell)",
		"D=default (compose.yaml:12, the default of NOWHERE)", "E=xbeside (compose.yaml:13)",
		"IN_SHELL=yes (one.env:3, IN_SHELL in the shell)", "ONE=over " +
			"(compose.yaml:16)", "QUOTED='as it is' (raw.env:1)", "TWO=2 (one.env:2)"}
	if !slices.Equal(got, want) {
		t.Errorf("it gets\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	model, all := p.Resolved()
	if env := model.Get("services").Get("web").Get("environment"); len(env.Members) != len(want) ||
		len(all["web"]) !=
			len(want) || p.Model.Get("services").Get("web").Get("environment").Get("TWO") != nil {
		t.Errorf("the model says %+v", env)
	}
	// As long as there is no .env file its template stands for it.
	fsys[".env.example"] = fsys[".env"]
	delete(fsys, ".env")
	p, err = Load(fsys, ".", Options{Beside: ".env.example"})
	if err != nil {
		t.Fatal(err)
	}
	if values, from := p.Environment("web"); values["B"] != "beside" ||
		from["B"].By != ".env.example" {
		t.Errorf("by the template B is %q, from %s", values["B"], from["B"])
	}
	if values, _ := p.Environment("nobody"); len(values) != 0 {
		t.Errorf("nobody gets %v", values)
	}
}

// TestSameImages lets a service that names another's image be built as that one is, and remarks on
// who is switched on.
func TestSameImages(t *testing.T) {
	t.Parallel()
	p, err := Load(fstest.MapFS{"compose.yaml": {Data: []byte("services:\n  web: {image: " +
		"saltmarsh/app, build: {context: " +
		"app, target: web}, depends_on: [db]}\n  worker: {image: saltmarsh/app, command: " +
		"work}\n  db: {image: 'postgres:16', profiles: [data]}\n  far: {build: " +
		"'https://git.saltmarsh.example/x.git'}\n")}}, ".", Options{})
	if err != nil {
		t.Fatal(err)
	}
	if w := p.Service("worker"); w.Build != "app" || w.Container.Target != "web" ||
		w.Container.Dockerfile != "Dockerfile" {
		t.Errorf("the worker is built from %q, %+v", w.Build, w.Container.Building)
	}
	if f := p.Service("far"); f.Build != "" ||
		f.Container.Remote != "https://git.saltmarsh.example/x.git" {
		t.Errorf("the one of an address is built from %q, %q", f.Build, f.Container.Remote)
	}
	if len(p.Remarks) != 1 || p.Remarks[0].Code != "service-switched-on" ||
		!p.Service("db").Active {
		t.Errorf("the remarks are %+v", p.Remarks)
	}
}

// TestMasked hides what a secret holds, wherever it stands.
func TestMasked(t *testing.T) {
	t.Parallel()
	p, err := Load(fstest.MapFS{"compose.yaml": {Data: []byte("services:\n  web: {image: " +
		"'saltmarsh/web:1', command: 'run " +
		"canary-1', environment: {API_TOKEN: canary-2, URL: 'http://u:canary-3@h/', NAME: " +
		"quay}}\nsecrets:\n  pin: {content: canary-1}\nconfigs:\n  tides: {content: 'shown && " +
		"said'}\n")}}, ".", Options{})
	if err != nil {
		t.Fatal(err)
	}
	text, err := p.Model.Masked(nil).MarshalJSON()
	if err != nil || strings.Contains(string(text), "canary") ||
		!strings.Contains(string(text), "shown && said") ||
		!strings.Contains(string(text), "quay") {
		t.Errorf("shown is %s, %v", text, err)
	}
}
