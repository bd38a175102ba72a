package compose

import (
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/testbound"
)

var update = flag.Bool("update", false, "write what the cases give as what they should give")

// TestCases reads every folder of testdata/cases: compose files as a person would write them, and
// the model that must come out (want.json), or the faults (want.faults) and remarks (want.remarks).
// A file named shell holds the shell's variables.
func TestCases(t *testing.T) {
	t.Parallel()
	dirs, err := filepath.Glob("testdata/cases/*")
	if err != nil || len(dirs) < 20 {
		t.Fatalf("%d cases found, %v", len(dirs), err)
	}
	for _, dir := range dirs {
		t.Run(filepath.Base(dir), func(t *testing.T) {
			t.Parallel()
			shell := map[string]string{}
			if data, err := os.ReadFile(filepath.Join(dir, "shell")); err == nil {
				f, err := dotenv.Parse("shell", data)
				if err != nil {
					t.Fatal(err)
				}
				shell, _ = f.Values(func(string) (string, bool) { return "", false })
			}
			p, err := Load(os.DirFS(dir), ".",
				Options{Env: func(k string) (string, bool) { v, ok := shell[k]; return v, ok }})
			var model, faults, remarks bytes.Buffer
			if err != nil {
				for _, f := range stack.AllFaults(err) {
					fmt.Fprintf(&faults, "%s: %s\n", f.Where(), f.Text)
					if f.Line != "" {
						fmt.Fprintf(&faults, "    %s\n", strings.TrimSpace(f.Line))
					}
					fmt.Fprintf(&faults, "  %s\n", f.Remedy)
				}
			} else {
				for _, r := range p.Remarks {
					fmt.Fprintf(&remarks, "%s:%d: %s %s: %s\n", r.At.File, r.At.Line, r.Level,
						r.Code, r.Text)
				}
				raw, err := json.Marshal(p.Model)
				if err != nil {
					t.Fatal(err)
				}
				if err := json.Indent(&model, raw, "", "  "); err != nil {
					t.Fatal(err)
				}
				model.WriteByte('\n')
			}
			for name, got := range map[string][]byte{"want.json": model.Bytes(),
				"want.faults": faults.Bytes(), "want.remarks": remarks.Bytes()} {
				file := filepath.Join(dir, name)
				if *update {
					os.Remove(file)
					if len(got) > 0 {
						if err := os.WriteFile(file, got, 0o644); err != nil {
							t.Fatal(err)
						}
					}
					continue
				}
				want, err := os.ReadFile(file)
				if err != nil && !errors.Is(err, fs.ErrNotExist) {
					t.Fatal(err)
				}
				if !bytes.Equal(got, want) {
					t.Errorf("%s: got\n%s\nwant\n%s", name, got, want)
				}
			}
		})
	}
}

func TestParsePort(t *testing.T) {
	t.Parallel()
	for s, want := range map[string]PortRange{
		"80":                   {"", 0, 0, 80, 80, "tcp"},
		"8080:80":              {"", 8080, 8080, 80, 80, "tcp"},
		"127.0.0.1:8080:80":    {"127.0.0.1", 8080, 8080, 80, 80, "tcp"},
		"127.0.0.1::80":        {"127.0.0.1", 0, 0, 80, 80, "tcp"},
		"[::1]:8080:80/udp":    {"::1", 8080, 8080, 80, 80, "udp"},
		"3000-3002":            {"", 0, 0, 3000, 3002, "tcp"},
		"9000-9002:3000-3002":  {"", 9000, 9002, 3000, 3002, "tcp"},
		"9000-9005:3000":       {"", 9000, 9005, 3000, 3000, "tcp"},
		"6060:6060/UDP":        {"", 6060, 6060, 6060, 6060, "udp"},
		"0.0.0.0:53:53/udp":    {"0.0.0.0", 53, 53, 53, 53, "udp"},
		"2001:db8::1:8080:80":  {"2001:db8::1", 8080, 8080, 80, 80, "tcp"},
		"65535:65535":          {"", 65535, 65535, 65535, 65535, "tcp"},
		"127.0.0.1:1-3:11-13":  {"127.0.0.1", 1, 3, 11, 13, "tcp"},
		"[2001:db8::2]:443:44": {"2001:db8::2", 443, 443, 44, 44, "tcp"},
	} {
		if got, err := ParsePort(s); err != nil || got != want {
			t.Errorf("ParsePort(%q) = %+v, %v; want %+v", s, got, err, want)
		}
	}
	for s, says := range map[string]string{
		"": "no port number", "x": "no port number", "0": "from 1 to 65535", "70000": "from 1 " +
			"to 65535",
		"80:": "no port number", "-80": "no port number",
		"80/quic": "is no protocol", "90-80": "ends before it begins", "1-3:5-6": "differ in " +
			"length",
		"host:80:80": "no address", "127.0.0.1:80": "is missing",
		"80:80:80": "no address", "99999999999999999999": "no port number",
	} {
		if got, err := ParsePort(s); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("ParsePort(%q) = %+v, %v; want %q", s, got, err, says)
		}
	}
}

func TestParseMount(t *testing.T) {
	t.Parallel()
	for s, want := range map[string]Mount{
		"/data":                {"volume", "", "/data", false, nil},
		"data:/data":           {"volume", "data", "/data", false, nil},
		"data:/data:ro":        {"volume", "data", "/data", true, nil},
		"./src:/app:rw,z":      {"bind", "./src", "/app", false, []string{"z"}},
		"../up:/up":            {"bind", "../up", "/up", false, nil},
		"~/.cache:/c:ro":       {"bind", "~/.cache", "/c", true, nil},
		"/etc/hosts:/h":        {"bind", "/etc/hosts", "/h", false, nil},
		`C:\work:/w`:           {"bind", `C:\work`, "/w", false, nil},
		`C:/work:/w:ro`:        {"bind", "C:/work", "/w", true, nil},
		"data:/d:nocopy":       {"volume", "data", "/d", false, []string{"nocopy"}},
		"sub/dir:/d":           {"bind", "sub/dir", "/d", false, nil},
		`data:C:\inside\there`: {"volume", "data", `C:\inside\there`, false, nil},
	} {
		if got, err := ParseMount(s); err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("ParseMount(%q) = %+v, %v; want %+v", s, got, err, want)
		}
	}
	for _, s := range []string{"", ":/x", "a:", "a:/b:ro:more"} {
		if got, err := ParseMount(s); err == nil {
			t.Errorf("ParseMount(%q) = %+v, and should fail", s, got)
		}
	}
}

func TestSplitCommand(t *testing.T) {
	t.Parallel()
	for s, want := range map[string][]string{
		"":                         nil,
		"  npm   run dev ":         {"npm", "run", "dev"},
		`sh -c "echo 'a b' $HOME"`: {"sh", "-c", "echo 'a b' $HOME"},
		`a 'b "c"' d\ e`:           {"a", `b "c"`, "d e"},
		`"" ''`:                    {"", ""},
		`x"y"'z'`:                  {"xyz"},
		`"a\"b\\c\d"`:              {`a"b\c\d`},
		"one \\\n two":             {"one", "two"},
		"a\tb\nc":                  {"a", "b", "c"},
	} {
		got, err := SplitCommand(s)
		if want != nil && s == "one \\\n two" {
			got = dropEmpty(got)
		}
		if err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("SplitCommand(%q) = %q, %v; want %q", s, got, err, want)
		}
	}
	for _, s := range []string{`"open`, `it's`, `a "b 'c'`} {
		if got, err := SplitCommand(s); err == nil {
			t.Errorf("SplitCommand(%q) = %q, and should fail", s, got)
		}
	}
}

func dropEmpty(words []string) []string {
	var out []string
	for _, w := range words {
		if w != "" {
			out = append(out, w)
		}
	}
	return out
}

func TestParseDuration(t *testing.T) {
	t.Parallel()
	for s, want := range map[string]time.Duration{"10s": 10 * time.Second,
		"1m30s":       90 * time.Second,
		"1h5m30s20ms": time.Hour + 5*time.Minute + 30*time.Second + 20*time.Millisecond,
		"500us":       500 * time.Microsecond, "0": 0} {
		if got, err := ParseDuration(s); err != nil || got != want {
			t.Errorf("ParseDuration(%q) = %v, %v; want %v", s, got, err, want)
		}
	}
	for _, s := range []string{"", "10", "-5s", "5 s", "1x"} {
		if got, err := ParseDuration(s); err == nil {
			t.Errorf("ParseDuration(%q) = %v, and should fail", s, got)
		}
	}
}

func TestFind(t *testing.T) {
	t.Parallel()
	file := &fstest.MapFile{Data: []byte("services: {}\n")}
	for _, c := range []struct {
		files, env, want string
	}{
		{"", "", ""},
		{"compose.yml docker-compose.yml", "", "compose.yml"},
		{"docker-compose.yaml docker-compose.yml", "", "docker-compose.yaml"},
		{"compose.yaml compose.override.yaml compose.dev.yaml", "",
			"compose.yaml compose.override.yaml"},
		{"compose.yaml compose.override.yml", "", "compose.yaml compose.override.yml"},
		{"docker-compose.yml docker-compose.override.yml compose.override.yaml", "",
			"docker-compose.yml docker-compose.override.yml"},
		{"compose.yaml a.yaml b.yaml", "a.yaml:b.yaml", "a.yaml b.yaml"},
	} {
		fsys := fstest.MapFS{}
		for _, f := range strings.Fields(c.files) {
			fsys[f] = file
		}
		got := Find(fsys, ".", func(k string) (string, bool) {
			return c.env, k == "COMPOSE_FILE" && c.env != ""
		})
		if strings.Join(got, " ") != c.want {
			t.Errorf("of %q with COMPOSE_FILE=%q these belong together: %q, want %q", c.files,
				c.env, got, c.want)
		}
	}
}

func TestHostileFiles(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ text, says string }{
		"an alias bomb":          {string(bomb()), "262144"},
		"an alias inside itself": {"a: &a\n  b: *a\n", "stands inside"},
		"deep nesting":           {strings.Repeat("[", 300) + strings.Repeat("]", 300), "nested"},
		"a huge file":            {strings.Repeat("#", maxBytes+1), "32 MB"},
		"a binary file":          {"services:\x00", "binary"},
		"UTF-16":                 {"\xff\xfes\x00e\x00", "UTF-16"},
		"invalid UTF-8":          {"services:\n  a: \xff\n", "UTF-8"},
		"a tab":                  {"services:\n\ta: 1\n", "not valid YAML"},
		"a list at the top":      {"- a\n", "a mapping"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			_, err := Load(fstest.MapFS{"compose.yaml": {Data: []byte(c.text)}}, ".", Options{})
			faults := stack.AllFaults(err)
			if err == nil || !strings.Contains(faults[0].Text, c.says) || faults[0].Remedy == "" {
				t.Errorf("the fault is %v", err)
			}
		})
	}
}

// TestNoSecretInFaults looks for values of secrets in all that a broken file makes the reader say.
func TestNoSecretInFaults(t *testing.T) {
	t.Parallel()
	flow := "services: {db: {image: x, environment: {DB_PASSWORD: canary4, A: [1]}, frob: 1}}\n"
	_, err := Load(fstest.MapFS{"compose.yaml": {Data: []byte(flow)}}, ".", Options{})
	if err == nil || strings.Contains(fmt.Sprintf("%+v", *stack.AllFaults(err)[0]), "canary") {
		t.Errorf("the fault of a line in flow style: %+v", *stack.AllFaults(err)[0])
	}
	text := "services:\n  db:\n    image: x\n    environment:\n      - DB_PASSWORD=canary1\n    " +
		"  - {API_TOKEN: canary2}\n    command: 'psql postgres://u:canary3@db\n"
	for _, cut := range []int{len(text), len(text) - 1, strings.Index(text, "\n    command")} {
		_, err := Load(fstest.MapFS{"compose.yaml": {Data: []byte(text[:cut])}}, ".", Options{})
		if err == nil {
			t.Fatalf("the file was read without a fault:\n%s", text[:cut])
		}
		for _, f := range stack.AllFaults(err) {
			if said := fmt.Sprintf("%+v", *f); strings.Contains(said, "canary") {
				t.Errorf("a fault shows a secret: %s", said)
			}
		}
	}
}

func FuzzLoad(f *testing.F) {
	for _, pattern := range []string{"testdata/cases/*/compose.y*ml"} {
		files, _ := filepath.Glob(pattern)
		for _, name := range files {
			data, err := os.ReadFile(name)
			if err != nil {
				f.Fatal(err)
			}
			f.Add(data)
		}
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		var p *Project
		var err error
		testbound.Within(t, 256, 10*time.Second, func() {
			p, err = Load(fstest.MapFS{"compose.yaml": {Data: data}}, ".", Options{})
		})
		if err == nil {
			if _, err := json.Marshal(p.Model); err != nil {
				t.Errorf("the model can't be written: %v", err)
			}
			return
		}
		for _, fault := range stack.AllFaults(err) {
			if fault.Text == "" || fault.Code == "unexpected" {
				t.Errorf("an error without an explanation: %#v", fault)
			}
		}
	})
}

func FuzzShortForms(f *testing.F) {
	for _, s := range []string{"80:80", "127.0.0.1:1-3:4-6/udp", "[::1]:1:1", "a:/b:ro", `C:\a:/b`,
		"1m30s", `sh -c "x y"`} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if r, err := ParsePort(s); err == nil &&
			(r.FromTarget < 1 || r.ToTarget > 65535 || r.ToTarget < r.FromTarget ||
				r.ToHost < r.FromHost) {
			t.Errorf("ParsePort(%q) = %+v", s, r)
		}
		if m, err := ParseMount(s); err == nil && m.Target == "" {
			t.Errorf("ParseMount(%q) = %+v", s, m)
		}
		if d, err := ParseDuration(s); err == nil && d < 0 {
			t.Errorf("ParseDuration(%q) = %v", s, d)
		}
		SplitCommand(s)
	})
}

func services(n int) []byte {
	var out strings.Builder
	out.WriteString("services:\n")
	for i := range n {
		fmt.Fprintf(&out, "  service-%d:\n    image: registry.example/ferry/service-%d:1.%d\n   "+
			" environment:\n", i, i, i)
		for k := range 12 {
			fmt.Fprintf(&out, "      SETTING_NUMBER_%d: value ${UNSET_%d:-of the setting} %d\n", k,
				k, i)
		}
		fmt.Fprintf(&out,
			"    ports:\n      - \"%d:80\"\n    volumes:\n      - ./data/%d:/data\n    restart: "+
				"unless-stopped\n", 20000+i%40000, i)
		if i > 0 {
			fmt.Fprintf(&out, "    depends_on:\n      - service-%d\n", i-1)
		}
		out.WriteString("    healthcheck:\n      test: [\"CMD\", \"true\"]\n      interval: 10s\n")
	}
	return []byte(out.String())
}

// bomb is a file whose aliases would write out to 10 to the power of 12 values.
func bomb() []byte {
	text := "a0: &a0 [x, x, x, x, x, x, x, x, x, x]\n"
	for i := 1; i < 12; i++ {
		text += fmt.Sprintf("a%d: &a%d [%s]\n", i, i,
			strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*a%d, ", i-1), 10), ", "))
	}
	return []byte(text)
}

func BenchmarkAliasBomb(b *testing.B) {
	for b.Loop() {
		if _, err := Load(fstest.MapFS{"compose.yaml": {Data: bomb()}}, ".",
			Options{}); err == nil {
			b.Fatal("the bomb was read")
		}
	}
}

func BenchmarkLoad(b *testing.B) {
	for _, n := range []int{10, 100, 1000, 10000} {
		data := services(n)
		b.Run(fmt.Sprintf("%d services, %d KB", n, len(data)>>10), func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				if _, err := Load(fstest.MapFS{"compose.yaml": {Data: data}}, ".",
					Options{}); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

// large is a file of 17 MB with 700,000 keys.
func large() []byte {
	var out bytes.Buffer
	out.WriteString("services:\n")
	for i := range 14000 {
		fmt.Fprintf(&out, "  service-%d:\n    image: registry.example/ferry/service-%d:1.0\n    "+
			"environment:\n", i, i)
		for k := range 40 {
			fmt.Fprintf(&out, "      SETTING_%d: value\n", k)
		}
		out.WriteString("    labels:\n      a: b\n      c: d\n      e: f\n    restart: " +
			"unless-stopped\n    init: true\n")
	}
	return out.Bytes()
}

// TestLarge reads a large file in pieces, and finds the same as in the whole.
func TestLarge(t *testing.T) {
	t.Parallel()
	for name, change := range map[string]func(string) string{
		"as it is": func(s string) string { return s },
		"windows":  func(s string) string { return strings.ReplaceAll(s, "\n", "\r\n") },
		"a text of lines": func(s string) string {
			return strings.Replace(s, "value\n", "|\n        a\n\n        b: c\n", 9)
		},
		"blocks after it": func(s string) string {
			return s + "volumes:\n  a: {}\nnetworks: {b: {}}\n"
		},
		"several quotes": func(s string) string {
			return strings.ReplaceAll(s, "value\n", "'a\n  # b\n  service-1: c'\n")
		},
		"with an anchor": func(s string) string {
			return strings.Replace(s, " unless-stopped\n", " &x unless-stopped\n", 1)
		},
		"a key of its own": func(s string) string { return s + "  service-1:\n    image: x\n" },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			data := []byte(change(string(services(200))))
			got, ok := inPieces("compose.yaml", data, 0, 4<<10)
			node, err := parseYAML(data)
			if err != nil {
				t.Fatal(err)
			}
			r := reader{file: "compose.yaml", data: data}
			want := r.value(node, 0)
			if whole := name == "with an anchor" || name == "a key of its own"; ok == whole {
				t.Fatalf("it was read in pieces: %v", ok)
			}
			if !ok {
				return
			}
			a, errA := got.MarshalJSON()
			b, errB := want.MarshalJSON()
			if errA != nil || errB != nil || !bytes.Equal(a, b) {
				t.Errorf("the model differs (%v, %v)", errA, errB)
			}
			if line := got.Get("services").Get("service-180").Line; line != want.Get("services").Get(
				"service-180").Line {
				t.Errorf("service-180 stands on line %d", line)
			}
		})
	}
}

// BenchmarkLarge reports the time, and the most memory that was held at once.
func BenchmarkLarge(b *testing.B) {
	data := large()
	b.ReportAllocs()
	for b.Loop() {
		most := testbound.Peak(func() {
			if _, err := Load(fstest.MapFS{"compose.yaml": {Data: data}}, ".",
				Options{}); err != nil {
				b.Fatal(err)
			}
		})
		b.ReportMetric(float64(most>>20), "MB-at-most")
	}
}
