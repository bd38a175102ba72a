package fill

import (
	"crypto/rand"
	"strings"
	"testing"
	"testing/fstest"

	"nimbleharbor/internal/settings"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/value"
)

// FuzzFill fills what it is given from whatever template and on top of whatever file: no value that
// stood there is lost, what was decided reads back, and a second time changes nothing.
func FuzzFill(f *testing.F) {
	f.Add(".env", "# 16 bytes, hex\nSECRET=\nDATABASE_URL=postgres://u:change-me@db:5432/x\n", "")
	f.Add(".env", "A=1\nB='x y'\nDB_HOST=localhost\nDB_PORT=\nDB_PASSWORD=\n",
		"B=2\nOWN=\"a\nb\"\n")
	f.Add("config.json", "{\"a\": {\"secret\": \"\"}, \"b\": 1}", "{\"b\": 2}")
	f.Add("config.yml", "a:\n  password:\n  b: 1 # c\n", "a:\n  b: 2\n")
	f.Add("config.toml", "a = 1\n[b]\nsecret = ''\n", "a = 2\n")
	f.Add("app.properties", "a.password=\nb: c\\\n d\n", "b=e\n")
	f.Fuzz(func(t *testing.T, name, template, existing string) {
		format := settings.FormatOf(name)
		if format == settings.Other || strings.ContainsAny(name, "/\\\x00") ||
			len(template)+len(existing) > 4096 {
			return
		}
		s := &stack.Stack{Services: []stack.Service{{Name: "db",
			ContainerWay: stack.ContainerWay{Address: "db",
				Container: &stack.ContainerSpec{}}, Image: "postgres:16", Runs: stack.Container,
			At:  stack.Place{File: "compose.yaml"},
			Env: map[string]string{"POSTGRES_PASSWORD": "tide-and-time"},
			FromFiles: stack.FromFiles{EnvBehind: map[string]bool{},
				EnvAt: map[string]stack.Place{"POSTGRES_PASSWORD": {File: "compose.yaml",
					Line: 5}}},
			Ports: []stack.Port{{Host: 15432, Target: 5432, Speaks: "postgres"}}}},
			EnvFiles: []stack.EnvFile{{Path: "target", Template: "template", Format: format,
				Present: existing != ""}}}
		fsys := fstest.MapFS{"template": {Data: []byte(template)}}
		if existing != "" {
			fsys["target"] = &fstest.MapFile{Data: []byte(existing)}
		}
		p, err := Make(fsys, s, Options{Random: rand.Reader})
		if err != nil {
			return
		}
		content, err := p.Files[0].Content()
		if err != nil {
			return
		}
		made, err := settings.Parse("target", p.Files[0].Format, content)
		if err != nil {
			t.Fatalf("from %q and %q came %q, which can't be read: %v", template, existing,
				content, err)
		}
		if old, err := settings.Parse("target", format, []byte(existing)); err == nil &&
			old.Format == format {
			for _, e := range old.Entries {
				last, _ := old.Get(e.Key)
				if now, ok := made.Get(e.Key); !ok ||
					last.Value != "" && !value.Placeholder(last.Value) && now.Value != last.Value {
					t.Fatalf("of %q the value of %q was lost: %q", existing, e.Key, content)
				}
			}
		}
		for _, set := range p.Files[0].Settings {
			if e, ok := made.Get(set.Key); set.Origin == Generated &&
				(!ok || format != settings.Env && e.Value != set.Value()) {
				t.Fatalf("%s was made %q and reads back as %+v", set.Key, set.Value(), e)
			}
		}
		fsys["target"], s.EnvFiles[0].Present = &fstest.MapFile{Data: content}, true
		again, err := Make(fsys, s, Options{Random: rand.Reader})
		if err != nil {
			t.Fatalf("%q can't be filled again: %v", content, err)
		}
		if second, err := again.Files[0].Content(); err != nil ||
			string(second) != string(content) {
			t.Fatalf("from %q and %q came %q, and then %q, %v", template, existing, content,
				second, err)
		}
		for _, q := range p.Missing {
			if value.Hide(q.Hint+q.Why) != q.Hint+q.Why {
				t.Fatalf("a question shows a password: %+v", q)
			}
		}
	})
}
