package ecosystem

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"nimbleharbor/internal/stack"
)

func TestLooseJSON(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		`{"a": "1", "b": 2, "c": null, "d": ""}`: "map[a:1 b:* c:* " +
			"d:*]", `["a"]`: "map[]", `"a"`: "map[]",
		`{}`: "map[]", `null`: "map[]",
	} {
		var m anyMap
		if err := json.Unmarshal([]byte(text), &m); err != nil || fmt.Sprint(m) != want {
			t.Errorf("%s gives %v, %v; want %s", text, m, err, want)
		}
	}
	for text, want := range map[string]string{`["a/*", "b"]`: "[a/* b]",
		`{"packages": ["c"], "nohoist": ["d"]}`: "[c]",
		`"a"`:                                   "[]", `7`: "[]"} {
		var w workspaces
		if err := json.Unmarshal([]byte(text), &w); err != nil || fmt.Sprint(w) != want {
			t.Errorf("%s gives %v, %v; want %s", text, w, err, want)
		}
	}
}

// TestFaultsTellThePlace reads broken manifests of every format: what is wrong, and on which line.
func TestFaultsTellThePlace(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		parse func(f Folder, name string, data []byte) error
		text  string
		where string
		line  string
	}{
		"toml": {func(f Folder, n string, d []byte) error {
			return parseTOML(f, n, d, &struct{}{})
		}, "a = 1\nb = \n", "app/m:2:5", "b = "},
		"toml, a wrong kind": {func(f Folder, n string, d []byte) error {
			return parseTOML(f, n, d, &struct{ A []string }{})
		}, "\na = 1\n", "app/m:2:5", "a = 1"},
		"xml": {func(f Folder, n string, d []byte) error { return parseXML(f, n, d, &struct{}{}) },
			"<a>\n<b>\r\n</a>", "app/m:3", "</a>"},
		"xml, nothing": {func(f Folder, n string, d []byte) error {
			return parseXML(f, n, d, &struct{}{})
		}, "", "app/m:1", ""},
		"json": {func(f Folder, n string, d []byte) error {
			_, err := parseJSON(f, n, d, &struct{}{})
			return err
		}, "{\n\"a\": 1,\n}", "app/m:3:1", "}"},
	} {
		err := c.parse(folder(map[string]string{"m": c.text}), "m", []byte(c.text))
		if err == nil {
			t.Errorf("%s: nothing is said", name)
			continue
		}
		fault := stack.AllFaults(err)[0]
		if !strings.HasPrefix(fault.Where(), c.where) || fault.Line != c.line ||
			fault.Code != "manifest-syntax" ||
			fault.Remedy == "" || strings.Contains(fault.Text, "\n\n") {
			t.Errorf("%s: at %s, line %q, %s; want %s, %q", name, fault.Where(), fault.Line,
				fault.Text, c.where, c.line)
		}
	}
}

func TestDevContainer(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		text, want string
	}{
		"a line": {`{"postCreateCommand": "npm ci"}`, "[npm ci] [] "},
		"words": {`{"postCreateCommand": ["npm", "ci"], "image": "saltmarsh/dev:1"}`,
			"[npm ci] [] saltmarsh/dev:1"},
		"side by side": {`{"postStartCommand": {"b": "y", "a": ["x", "z"]}, "onCreateCommand": "first"}`,
			"[first x z y] [] "},
		"ports":            {`{"forwardPorts": [3000, "db:5432", 8080]}`, "[] [3000 8080] "},
		"comments":         {"{\n// x\n\"image\": \"a\", /* y */\n}", "[] [] a"},
		"of another kind":  {`{"postCreateCommand": 7}`, "[] [] "},
		"nothing is there": {"", "nil"},
	} {
		files := map[string]string{".devcontainer/devcontainer.json": c.text}
		if c.text == "" {
			files = nil
		}
		d, err := folder(files).DevContainer()
		got := "nil"
		if d != nil {
			got = fmt.Sprintf("%v %v %s", d.Commands, d.Ports, d.Image)
		}
		if err != nil || got != c.want {
			t.Errorf("%s: %s, %v; want %s", name, got, err, c.want)
		}
	}
	if _, err := folder(map[string]string{".devcontainer.json": "{"}).DevContainer(); err == nil {
		t.Error("a broken definition is read")
	}
}

func TestPinned(t *testing.T) {
	t.Parallel()
	for v, want := range map[string]string{"20": "^20", "3.11": "~3.11", "3.11.4": "~3.11",
		"1.2.3.4": "~1.2"} {
		if got := pinned(v); got != want {
			t.Errorf("%s is taken for %s, want %s", v, got, want)
		}
	}
	for text, want := range map[string]string{"v20.1\n": "^20.1", "lts/iron": "", "ruby-3.2.1": "",
		"node-18": "^18", "": "", "20.1\n# comment": "^20.1"} {
		out := &Finding{}
		folder(map[string]string{".nvmrc": text}).versionFile(out, "node", ".nvmrc")
		got := ""
		if len(out.Project.Runtimes) > 0 {
			got = out.Project.Runtimes[0].Constraint
		}
		if got != want {
			t.Errorf("%q asks for %q, want %q", text, got, want)
		}
	}
}
