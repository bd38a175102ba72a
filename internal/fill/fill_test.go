package fill

import (
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"nimbleharbor/internal/casefile"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/survey"
)

// counting is randomness that repeats itself, so that cases can be compared.
type counting struct{ n byte }

func (c *counting) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = c.n
		c.n++
	}
	return len(p), nil
}

// now is when the cases happen.
var now = time.Unix(1795440000, 0)

// TestCases fills the workspaces in testdata. "== set" and "== answers" hold what a person gives,
// "== environment" and "== locker" what is known, "== git" and "== data" what git and the engine
// say; what comes out is the decision on each setting and the files' content.
func TestCases(t *testing.T) {
	t.Parallel()
	casefile.Run(t, "testdata/*.case", func(t *testing.T, c *casefile.Case) {
		fsys := c.FS("set", "answers", "environment", "locker", "git", "data", "only", "empty")
		s, err := survey.Survey(fsys, survey.Options{Root: "/w", ReadCode: true})
		for _, f := range stack.AllFaults(err) {
			if f.Code != "compose-variable-required" {
				c.Want(t, "survey: "+err.Error()+"\n")
				return
			}
		}
		values := func(name, sign string) map[string]string {
			out := map[string]string{}
			for line := range strings.Lines(c.Files[name]) {
				k, v, _ := strings.Cut(strings.TrimSuffix(line, "\n"), sign)
				out[k] = v
			}
			return out
		}
		environment, kept, git, data := values("environment", "="), values("locker",
			"="), values("git", " "),
			values("data", " ")
		opt := Options{Random: &counting{}, Now: now, Set: values("set", "="),
			Answers: values("answers", "="), Only: strings.TrimSpace(c.Files["only"]),
			Environment: func(key string) (string, bool) {
				v, ok := environment[key]
				return v,
					ok
			}, Locker: func(_, key string) (string, bool) { v, ok := kept[key]; return v, ok },
			Git: func(file string) string { return git[file] },
			Waived: func(file, key string) bool {
				return strings.TrimSpace(c.Files["empty"]) == file+" "+key
			}, Data: func(service string) string { return data[service] }}
		p, err := Make(fsys, s, opt)
		if err != nil {
			c.Want(t, "error: "+err.Error()+"\n")
			return
		}
		c.Want(t, decisions(t, p))
	})
}

func decisions(t *testing.T, p *Plan) string {
	var out strings.Builder
	for _, f := range p.Files {
		fmt.Fprintf(&out, "file %s\n", strings.TrimSuffix(f.Path+" "+f.Git, " "))
		for _, s := range f.Settings {
			secret := ""
			if s.Secret {
				secret = " secret"
			}
			if s.Level != "" {
				secret += " !"
			}
			fmt.Fprintf(&out, "  %d %s: %s%s %s\n", s.Line, s.Key, s.Origin, secret, s.Remark)
		}
		for _, r := range f.Remarks {
			fmt.Fprintf(&out, "  remark: %s\n", r)
		}
		content, err := f.Content()
		if err != nil {
			t.Fatal(err)
		}
		for line := range strings.Lines(string(content)) {
			fmt.Fprintf(&out, "    | %s\n",
				strings.ReplaceAll(strings.TrimRight(line, "\n"), "\r", "<CR>"))
		}
	}
	for _, l := range p.Links {
		fmt.Fprintf(&out, "link %s: %v\n", l.Name, l.Members)
	}
	for _, m := range p.Missing {
		fmt.Fprintf(&out, "missing %s %s: %s <%s>\n", m.File, m.Key, m.Hint, m.URL)
	}
	fmt.Fprintf(&out, "complete: %v\n", p.Complete)
	return strings.ReplaceAll(out.String(), " \n", "\n")
}

func TestGenerate(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ key, comment, form string }{
		{"DB_PASSWORD", "", `^[A-Za-z0-9]{24}$`},
		{"SECRET_KEY", "", `^[0-9a-f]{64}$`},
		{"SECRET", "16 random bytes, hex", `^[0-9a-f]{32}$`},
		{"SECRET", "at least 50 characters", `^[A-Za-z0-9]{50}$`},
		{"SECRET", "32 hex characters", `^[0-9a-f]{32}$`},
		{"APP_KEY", "must look like base64:...", `^base64:[A-Za-z0-9+/]{43}=$`},
		{"SECRET", "24 bytes, base64", `^[A-Za-z0-9+/]{32}$`},
		{"SECRET", "base64url of 16 bytes", `^[A-Za-z0-9_-]{22}$`},
		{"INSTANCE_SECRET", "a UUID",
			`^[0-9a-f]{8}-[0-9a-f]{4}-4[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$`},
		{"PIN_SECRET", "6 digits", `^[0-9]{6}$`},
	} {
		if got, _ := makeUp(&counting{n: 200}, c.key, c.comment, "",
			""); !regexp.MustCompile(c.form).MatchString(got) {
			t.Errorf("for %s (%s) %q was made up, which is not like %s", c.key, c.comment, got,
				c.form)
		}
	}
}

func TestAsking(t *testing.T) {
	t.Parallel()
	fsys := fstest.MapFS{"compose.yaml": {Data: []byte("services: {web: {image: x, env_file: " +
		".env}}")}, ".env.example": {Data: []byte(
		"# Get one at https://tides.example/tokens.\nTIDE_TOKEN=\nOTHER_API_KEY=\nPIER_TOKEN=\n")}}
	s, err := survey.Survey(fsys, survey.Options{Root: "/w"})
	if err != nil {
		t.Fatal(err)
	}
	var asked []Question
	p, err := Make(fsys, s, Options{Random: &counting{},
		Ask: func(list []Question) ([]string, error) {
			asked = list
			return []string{"given", "", ""}, nil
		}})
	if err != nil {
		t.Fatal(err)
	}
	if len(asked) != 3 || asked[0].URL != "https://tides.example/tokens" || !asked[0].Secret ||
		strings.Join(asked[0].Services, " ") != "web" {
		t.Errorf("asked was %+v", asked)
	}
	if len(p.Missing) != 2 || p.Files[0].Settings[0].Origin != Answered ||
		p.Files[0].Settings[0].Value() != "given" {
		t.Errorf("missing %+v, settings %+v", p.Missing, p.Files[0].Settings)
	}
	stop := errors.New("the terminal is gone")
	if _, err := Make(fsys, s, Options{Ask: func([]Question) ([]string, error) {
		return nil,
			stop
	}}); !errors.Is(err,
		stop) {
		t.Errorf("the error of asking is %v", err)
	}
}

// planFor makes a workspace on disk and plans it.
func planFor(t *testing.T, files map[string]string, opt Options) (string, *Plan) {
	t.Helper()
	root := t.TempDir()
	for name, text := range files {
		full := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	s, err := survey.Survey(os.DirFS(root), survey.Options{Root: root})
	if err != nil {
		var f *stack.Fault
		if !errors.As(err, &f) || f.Code != "nothing-found" {
			t.Fatal(err)
		}
	}
	opt.Random = &counting{}
	p, err := Make(os.DirFS(root), s, opt)
	if err != nil {
		t.Fatal(err)
	}
	return root, p
}

func TestWrite(t *testing.T) {
	t.Parallel()
	root, p := planFor(t, map[string]string{"api/.env.example": "A=1\nSECRET=\n",
		"b/.env.example": "X=1\nY=2\n", "b/.env": "X=mine\n"}, Options{})
	if err := p.Write(root); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"api/.env": "A=1\nSECRET=000102",
		"b/.env":                 "X=mine\nY=2\n",
		".nharbor/before/b/.env": "X=mine\n", ".nharbor/.gitignore": "*\n"} {
		data, err := os.ReadFile(filepath.Join(root, name))
		if err != nil || !strings.HasPrefix(string(data), want) {
			t.Errorf("%s holds %q, %v; want %q", name, data, err, want)
		}
		if info, err := os.Stat(filepath.Join(root, name)); err != nil ||
			info.Mode().Perm()&0o077 != 0 {
			t.Errorf("%s can be read by others: %v, %v", name, info.Mode(), err)
		}
	}
	for _, f := range p.Files {
		if !f.Written {
			t.Errorf("%s is not called written", f.Path)
		}
	}
	// A second plan finds nothing to do.
	s, err := survey.Survey(os.DirFS(root), survey.Options{Root: root})
	if s == nil {
		t.Fatal(err)
	}
	again, err := Make(os.DirFS(root), s, Options{Random: &counting{}})
	if err != nil {
		t.Fatal(err)
	}
	if err := again.Write(root); err != nil {
		t.Fatal(err)
	}
	for _, f := range again.Files {
		if f.Written {
			t.Errorf("%s was written a second time", f.Path)
		}
	}
}

func TestWriteStaysInside(t *testing.T) {
	t.Parallel()
	outside := t.TempDir()
	root, p := planFor(t, map[string]string{"a/.env.example": "A=1\n", "b/.env.example": "A=1\n"},
		Options{})
	if err := os.RemoveAll(filepath.Join(root, "a")); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(outside, filepath.Join(root, "a")); err != nil {
		t.Fatal(err)
	}
	if err := p.Write(root); err == nil || !strings.Contains(err.Error(), "outside the workspace") {
		t.Errorf("writing through a linked folder: %v", err)
	}
	if err := os.Remove(filepath.Join(root, "a")); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(filepath.Join(root, "a"), 0o755); err != nil {
		t.Fatal(err)
	}
	target := filepath.Join(outside, "target")
	if err := os.Symlink(target, filepath.Join(root, "a", ".env")); err != nil {
		t.Fatal(err)
	}
	if err := p.Write(root); err == nil || !strings.Contains(err.Error(), "symbolic link") {
		t.Errorf("writing through a linked file: %v", err)
	}
	if entries, _ := os.ReadDir(outside); len(entries) > 0 {
		t.Errorf("outside there is now %v", entries)
	}
}

func TestWrongCalls(t *testing.T) {
	t.Parallel()
	fsys := fstest.MapFS{".env.example": {Data: []byte("A=1\n")}}
	s := &stack.Stack{EnvFiles: []stack.EnvFile{{Path: ".env", Template: ".env.example"}}}
	for name, opt := range map[string]Options{
		"an unknown key":         {Set: map[string]string{"B": "1"}},
		"an unknown key in file": {Set: map[string]string{"x/.env:B": "1"}},
		"a file outside":         {Only: "../.env", Set: map[string]string{"A": "1"}},
		"an absolute file":       {Only: "/etc/env", Set: map[string]string{"A": "1"}},
	} {
		_, err := Make(fsys, s, opt)
		var f *stack.Fault
		if !errors.As(err, &f) || f.Kind != stack.WrongCall || f.Remedy == "" {
			t.Errorf("%s: %v", name, err)
		}
	}
	p, err := Make(fsys, s, Options{Only: ".env", Set: map[string]string{"NEW": "x y"}})
	if err != nil {
		t.Fatal(err)
	}
	if content, err := p.Files[0].Content(); err != nil || string(content) != "A=1\nNEW=\"x y\"\n" {
		t.Errorf("a new key in a named file gives %q, %v", content, err)
	}
}

// BenchmarkMake500Files plans 500 settings files of as many services, every other one there
// already.
func BenchmarkMake500Files(b *testing.B) {
	fsys := fstest.MapFS{}
	s := &stack.Stack{Services: []stack.Service{{Name: "db",
		ContainerWay: stack.ContainerWay{Address: "db",
			Container: &stack.ContainerSpec{}}, Image: "postgres:16", Runs: stack.Container,
		At:        stack.Place{File: "compose.yaml", Line: 2},
		Env:       map[string]string{"POSTGRES_PASSWORD": ""},
		FromFiles: stack.FromFiles{EnvFrom: map[string]string{"POSTGRES_PASSWORD": "DB_PASSWORD"}}}}}
	for i := range 500 {
		name, text := fmt.Sprintf("p%d/.env", i),
			fmt.Sprintf(
				"PORT=%d\nDB_PASSWORD=change-me\nDATABASE_URL=postgres://postgres:change-me@db:5432/postgres\n# "+
					"16 bytes, hex\nSIGNING_KEY_%d=\n", 10000+i, i)
		for k := range 16 {
			text += fmt.Sprintf("# what it is for\nSETTING_%d=value\n", k)
		}
		fsys[name+".example"] = &fstest.MapFile{Data: []byte(text)}
		if i%2 == 0 {
			fsys[name] = &fstest.MapFile{Data: []byte(strings.ReplaceAll(text, "change-me",
				"chosen"))}
		}
		s.EnvFiles = append(s.EnvFiles,
			stack.EnvFile{Path: name, Template: name + ".example", Present: i%2 == 0})
		s.Services = append(s.Services,
			stack.Service{Name: fmt.Sprintf("s%d", i), Runs: stack.Container,
				FromFiles: stack.FromFiles{EnvFiles: []stack.EnvFileRef{{Path: name}}}})
	}
	for b.Loop() {
		p, err := Make(fsys, s, Options{Random: rand.Reader})
		if err != nil || len(p.Files) != 500 || len(p.Links[0].Members) < 1000 {
			b.Fatal(err)
		}
	}
}
