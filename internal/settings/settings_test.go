package settings

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"nimbleharbor/internal/casefile"
	"nimbleharbor/internal/stack"
)

// TestCases reads, edits and completes the files in testdata. A case holds a file; "== set" with
// KEY=VALUE lines; and a "== template" whose new settings the file gets first.
func TestCases(t *testing.T) {
	t.Parallel()
	casefile.Run(t, "testdata/*.case", func(t *testing.T, c *casefile.Case) {
		for name, text := range c.Files {
			if name == "set" || name == "template" || name == "want" {
				continue
			}
			var out strings.Builder
			d, err := Parse(name, FormatOf(name), []byte(text))
			if err != nil {
				c.Want(t, "error: "+err.Error()+"\n")
				return
			}
			for _, e := range d.Entries {
				fmt.Fprintf(&out, "%d %s=%q", e.Line, e.Key, e.Value)
				if e.Comment != "" {
					fmt.Fprintf(&out, " # %s", strings.ReplaceAll(e.Comment, "\n", " / "))
				}
				out.WriteString("\n")
			}
			if tmpl, ok := c.Files["template"]; ok {
				template, err := Parse("template", FormatOf(name), []byte(tmpl))
				if err != nil {
					t.Fatal(err)
				}
				added, err := d.AddFrom(template)
				fmt.Fprintf(&out, "added %v %v\n", added, err)
			}
			changes := map[string]string{}
			for line := range strings.Lines(c.Files["set"]) {
				k, v, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "=")
				changes[k] = strings.ReplaceAll(v, `\n`, "\n")
			}
			data, err := d.Edit(changes)
			if err != nil {
				c.Want(t, out.String()+"error: "+err.Error()+"\n")
				return
			}
			fmt.Fprintf(&out, "--\n%s", data)
			again, err := Parse(name, FormatOf(name), data)
			if err != nil {
				t.Fatalf("what came out can't be read: %v\n%s", err, data)
			}
			for key, want := range changes {
				if e, ok := again.Get(key); !ok || e.Value != want {
					t.Errorf("%s reads back as %+v, want %q", key, e, want)
				}
			}
			c.Want(t, out.String())
		}
	})
}

func TestFormatOf(t *testing.T) {
	t.Parallel()
	for name, want := range map[string]string{".env": Env, "a/.env.local": Env, "env.sample": Env,
		"appsettings.json": JSON, "config/database.yml": YAML, "a.toml": TOML,
		"application.properties": Properties,
		"config.php":             Other, "environment.ts": Other, "env.yaml": YAML} {
		if got := FormatOf(name); got != want {
			t.Errorf("%s is %s, want %s", name, got, want)
		}
	}
}

func TestFaultsShowNoValue(t *testing.T) {
	t.Parallel()
	for name, text := range map[string]string{
		"a.json": "{\"a\": 1,\n \"password\": \"canary}", "b.json": "{\"password\": canary}",
		"c.yml": "a: 1\npassword: \"canary\n", "d.yml": "password: 'canary' x", "e.toml": "a = " +
			"1\npassword = canary\n",
		"f.properties": "password=\\ucana\n",
		".env":         "PASSWORD=\"canary", "g.yml": "- canary", "h.json": "[\"canary\"]",
		"i.json": "{\"a\": \x00\"canary\"}", "j.yml": strings.Repeat("a: canary\n", 1<<19),
	} {
		_, err := Parse(name, FormatOf(name), []byte(text))
		var f *stack.Fault
		if err == nil {
			t.Errorf("%s was read", name)
		} else if f = stack.AllFaults(err)[0]; f.At.File != name || f.Remedy == "" ||
			strings.Contains(fmt.Sprintf("%+v %v", *f, errors.Unwrap(f)), "canary") {
			t.Errorf("%s: %+v", name, f)
		}
	}
}

func TestOtherIsCopied(t *testing.T) {
	t.Parallel()
	for name, text := range map[string]string{"config.php": "<?php $password = 'x';",
		"database.yml": "a: [<% if x %>\n"} {
		d, err := Parse(name, FormatOf(name), []byte(text))
		if err != nil || d.Format != Other || string(d.Bytes()) != text || len(d.Entries) != 0 {
			t.Errorf("%s: %+v, %v", name, d, err)
		}
		if _, err := d.Edit(map[string]string{"password": "y"}); err == nil {
			t.Errorf("a value was set in %s", name)
		}
	}
}

// FuzzEdit holds every format to its promises: nothing edited is the same bytes, and a value that
// was set reads back as given, with all others as they were.
func FuzzEdit(f *testing.F) {
	names := []string{".env", "a.json", "a.yml", "a.toml", "a.properties"}
	for i, s := range []string{"A=1\nB='x'\n", "{\n // c\n \"a\": 1, \"b\": {\"c\": \"d\"},\n}",
		"a: 1\nb:\n  c: \"d\" # e\n  f:\n", "a = 1\n[b]\nc = 'd' # e\n", "a=1\nb : c\\\n  d\n! " +
			"e\nf\n"} {
		f.Add(uint8(i), []byte(s), "new value")
	}
	f.Add(uint8(4), []byte("\\ "), "0") // a key that is a space, and nothing behind it
	f.Fuzz(func(t *testing.T, kind uint8, data []byte, value string) {
		name := names[int(kind)%len(names)]
		d, err := Parse(name, FormatOf(name), data)
		if err != nil || d.Format == Other {
			return
		}
		if same, err := d.Edit(nil); err != nil || string(same) != string(data) {
			t.Fatalf("editing nothing: %q, %v", same, err)
		}
		if strings.ContainsAny(value, "\x00$") || strings.ToValidUTF8(value, "") != value {
			return
		}
		for _, e := range d.Entries {
			out, err := d.Edit(map[string]string{e.Key: value})
			if err != nil {
				continue
			}
			again, err := Parse(name, FormatOf(name), out)
			if err != nil {
				t.Fatalf("%s: after setting %q of %q to %q the file can't be read: %v\n%q", name,
					e.Key, data, value, err, out)
			}
			if got, ok := again.Get(e.Key); !ok || got.Value != value {
				t.Fatalf("%s: %q in %q was set to %q and reads back as %+v in %q", name, e.Key,
					data, value, got, out)
			}
			if len(again.Entries) != len(d.Entries) {
				t.Fatalf("%s: setting %q to %q changed the number of entries: %q to %q", name,
					e.Key, value, data, out)
			}
		}
	})
}

func TestValuesAndEdits(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ name, text, key, value, addTo string }{
		{".env", "A=1\nB=${A}2\n", "B", "12", "A=1\nB=${A}2\nNEW=x\n"},
		{"a.properties", "a=1", "a", "1", "a=1\nNEW=x\n"},
		{"a.json", "{\"a\": {\"b\": true}}", "a.b", "true", ""},
		{"a.yml", "a:\n  b: yes please\n", "a.b", "yes please", ""},
		{"a.toml", "[a]\nb = 1.5\n", "a.b", "1.5", ""},
	} {
		d, err := Parse(c.name, FormatOf(c.name), []byte(c.text))
		if err != nil {
			t.Fatal(err)
		}
		if values, err := d.Values(func(string) (string, bool) { return "", false }); err != nil ||
			values[c.key] != c.value {
			t.Errorf("%s holds %v, %v", c.name, values, err)
		}
		out, err := d.Edit(map[string]string{"NEW": "x"})
		if c.addTo == "" && err == nil || c.addTo != "" && string(out) != c.addTo {
			t.Errorf("a new key in %s gives %q, %v", c.name, out, err)
		}
		if string(d.Bytes()) != c.text {
			t.Errorf("%s itself became %q", c.name, d.Bytes())
		}
		if _, ok := d.Get("NEW"); ok {
			t.Errorf("%s has got the key", c.name)
		}
	}
	if d, err := Parse(".env", Env, []byte("two words=1\n")); err == nil {
		t.Errorf("a key with a blank gives %+v", d)
	}
}
