package diagnose

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf16"
)

// causeCase is an example of a log, and what is to be said of it.
type causeCase struct {
	name, code, says, log string
}

// causeCases reads the examples under testdata/causes.
func causeCases(t testing.TB) (out []causeCase) {
	t.Helper()
	files, err := filepath.Glob("testdata/causes/*.txt")
	if err != nil || len(files) == 0 {
		t.Fatalf("no examples: %v", err)
	}
	for _, f := range files {
		data, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		for i, part := range strings.Split("\n"+string(data), "\n== ")[1:] {
			head, log, _ := strings.Cut(part, "\n")
			code, says, _ := strings.Cut(head, ": ")
			out = append(out, causeCase{fmt.Sprintf("%s:%d", filepath.Base(f), i+1), code, says,
				log})
		}
	}
	return out
}

// TestCauses holds that each rule finds its example, as the first cause of it, and says what has to
// be done.
func TestCauses(t *testing.T) {
	t.Parallel()
	shownOnce := map[string]bool{}
	for _, c := range causeCases(t) {
		r, err := ReadLog(strings.NewReader(c.log))
		if err != nil {
			t.Fatal(err)
		}
		if len(r.Causes) == 0 {
			t.Errorf("%s: %s finds nothing; the first error is %+v", c.name, c.code, r.First)
			continue
		}
		said := r.Causes[0].Cause + " " + r.Causes[0].Remedy
		if r.Causes[0].Code != c.code || !strings.Contains(said, c.says) ||
			strings.ContainsAny(said, "{}[]") {
			t.Errorf("%s: %s is taken for %s: %s", c.name, c.code, r.Causes[0].Code, said)
		}
		shownOnce[c.code] = true
	}
	codes := map[string]bool{}
	for _, r := range Logs() {
		if codes[r.Code] {
			t.Errorf("the rule %s is there twice", r.Code)
		}
		codes[r.Code] = true
		if r.rank != harmless && !shownOnce[r.Code] {
			t.Errorf("the rule %s has no example", r.Code)
		}
	}
	if len(codes) < 80 {
		t.Errorf("there are %d rules", len(codes))
	}
}

// TestHealthyLogs holds that nothing is found where nothing is wrong.
func TestHealthyLogs(t *testing.T) {
	t.Parallel()
	files, _ := filepath.Glob("testdata/healthy/*.txt")
	if len(files) < 20 {
		t.Fatalf("there are %d healthy logs", len(files))
	}
	for _, f := range files {
		data, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		r, _ := ReadLog(bytes.NewReader(data))
		for _, c := range r.Causes {
			t.Errorf("%s:%d is taken for %s: %s", f, c.Line, c.Code, c.Text)
		}
	}
}

// TestReading reads logs in pieces, in other encodings, with escape sequences, and of no use.
func TestReading(t *testing.T) {
	t.Parallel()
	wide := func(s string) string {
		out := []byte{0xff, 0xfe}
		for _, u := range utf16.Encode([]rune(s)) {
			out = append(out, byte(u), byte(u>>8))
		}
		return string(out)
	}
	const moduleLine = "Error: Cannot find module 'express'"
	for name, c := range map[string]struct {
		log  string
		want string // code@line of each cause | first error's line | last line
	}{
		"nothing":    {"", "|0|"},
		"no trouble": {"one\ntwo\n\n", "|0|two"},
		"unknown": {"start\nthe tide failed to turn\n  at turn (src/tide.js:4:2)\n",
			"|2|at turn (src/tide.js:4:2)"},
		"no error at all": {"0 errors, 3 warnings\nerrors: none\n", "|0|errors: none"},
		"without an end":  {"x\n" + moduleLine, "package-missing@2|2|" + moduleLine},
		"in colour": {"\x1b[31mError\x1b[0m: Cannot \x1b[1mfind\x1b[0m module 'express'\n",
			"package-missing@1|1|" + moduleLine},
		"with a title": {"\x1b]0;quay\x07" + moduleLine + "\n", "package-missing@1|1|" +
			moduleLine},
		"in UTF-16": {wide("x\r\n" + moduleLine + "\r\n"), "package-missing@2|2|" + moduleLine},
		"binary": {"\x00\x01\x02\xff\xfe\n" + moduleLine + "\n", "package-missing@2|2|" +
			moduleLine},
		"a long line": {strings.Repeat("x", 3*maxLine) + " " + moduleLine + "\n",
			"package-missing@1|1|" + strings.Repeat("x", maxShown-1) + "…"},
		"it got over it": {"connect ECONNREFUSED 127.0.0.1:5432\nServer listening on port 8081\n",
			"|0|Server listening on port 8081"},
		"it did not": {"Server listening on port 8081\nconnect ECONNREFUSED 127.0.0.1:5432\n",
			"connection-refused@2|0|connect ECONNREFUSED 127.0.0.1:5432"},
		"root before what follows": {"gyp ERR! stack Error: not found: make\n" +
			"npm error gyp ERR! build error\nmake: *** Error 1\n",
			"compiler-missing@1 native-build-failed@2|1|make: *** Error 1"},
		"the later one": {"KeyError: 'PIER_ONE'\nKeyError: 'PIER_TWO'\n",
			"setting-missing@2|1|KeyError: 'PIER_TWO'"},
	} {
		for _, size := range []int{1, 7, 1 << 20} {
			r := NewReader()
			for rest := []byte(c.log); len(rest) > 0; {
				n := min(size, len(rest))
				r.Write(rest[:n])
				rest = rest[n:]
			}
			got := r.Reading()
			var causes []string
			for _, c := range got.Causes {
				causes = append(causes, fmt.Sprintf("%s@%d", c.Code, c.Line))
			}
			line, last := 0, ""
			if got.First != nil {
				line = got.First.Line
			}
			if n := len(got.Last); n > 0 {
				last = got.Last[n-1].Text
			}
			if said := fmt.Sprintf("%s|%d|%s", strings.Join(causes, " "), line,
				last); said != c.want {
				t.Errorf("%s, %d at once: got %s, want %s", name, size, said, c.want)
			}
		}
	}
}

// TestFirstOwnFrame finds, below an error, the first place that is the project's own.
func TestFirstOwnFrame(t *testing.T) {
	t.Parallel()
	r, _ := ReadLog(strings.NewReader("TideError: the tide failed\n    at wave " +
		"(/srv/node_modules/sea/wave.js:1:2)\n" +
		"    at run (node:internal/process/task:3:4)\n    at book " +
		"(/srv/counter/src/book.js:41:7)\n"))
	if r.Frame == nil || r.Frame.Text != "/srv/counter/src/book.js:41" || r.Frame.Line != 4 {
		t.Errorf("got %+v", r.Frame)
	}
}

// TestOwnRules reads a log with a rule that a person has written, and refuses ones that can't be
// used.
func TestOwnRules(t *testing.T) {
	t.Parallel()
	own, err := Own("pier", `pier (\w+) is closed`, "the pier {1} is closed", "Open {1}.")
	if err != nil {
		t.Fatal(err)
	}
	r, _ := ReadLog(strings.NewReader("connect ECONNREFUSED 127.0.0.1:1\nthe pier north is "+
		"closed\n"), own)
	if r.Causes[0].Code != "pier" || r.Causes[0].Cause != "the pier north is closed" {
		t.Errorf("got %+v", r.Causes)
	}
	for _, wrong := range []string{"(", `\d+`, "a|bcdef", strings.Repeat("x", 2000)} {
		if _, err := Own("pier", wrong, "", ""); err == nil {
			t.Errorf("%.20s is taken", wrong)
		}
	}
}

func FuzzReadLog(f *testing.F) {
	f.Add([]byte("\x1b[31mError: Cannot find module 'x'\x1b"), 3)
	f.Add([]byte("\xff\xfee\x00r\x00"), 1)
	f.Add([]byte("\n\n\r\n"), 2)
	f.Add([]byte("\x1b["), 1) // a sequence that the end of the line cuts
	f.Fuzz(func(t *testing.T, log []byte, size int) {
		r := NewReader()
		for rest := log; len(rest) > 0; {
			n := min(max(size, 1), len(rest))
			r.Write(rest[:n])
			rest = rest[n:]
		}
		out := r.Reading()
		for _, s := range out.Last {
			if strings.ContainsAny(s.Text, "\x1b\n\r\x00") {
				t.Errorf("%q is shown", s.Text)
			}
		}
	})
}

// BenchmarkReadLog reads a log of 100 MB in which a line in a thousand is one of the examples. What
// is asked is 200 MB/s in constant memory.
func BenchmarkReadLog(b *testing.B) {
	var block bytes.Buffer
	for i, c := range causeCases(b) {
		block.WriteString(c.log + "\n")
		for k := range 1000 {
			fmt.Fprintf(&block,
				"2026-11-20 08:%02d:%02d INFO  ferry %d has left the pier, 214 aboard, error "+
					"rate 0.00\n", i%60, k%60, k)
		}
	}
	const size = 100 << 20
	b.SetBytes(size)
	b.ReportAllocs()
	for b.Loop() {
		r := NewReader()
		for n := 0; n < size; {
			for rest := block.Bytes(); len(rest) > 0 && n < size; {
				piece := rest[:min(len(rest), 256<<10)]
				r.Write(piece)
				n += len(piece)
				rest = rest[len(piece):]
			}
		}
		if len(r.Reading().Causes) == 0 {
			b.Fatal("nothing is found")
		}
	}
}

// TestDocs holds docs/causes.md to the rules. With UPDATE_CASES=1 it writes the table.
func TestDocs(t *testing.T) {
	t.Parallel()
	const file, mark = "../../docs/causes.md", "<!-- the rules -->\n"
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	head, table, _ := strings.Cut(string(data), mark)
	var want strings.Builder
	want.WriteString("\ncode | what it means | what to do\n---|---|---\n")
	for _, r := range Logs() {
		plain := strings.NewReplacer("[", "", "]", "", "{1}", "…", "{2}", "…", "{known}", "…", "|",
			"\\|", "\n", " ")
		fmt.Fprintf(&want, "`%s` | %s | %s\n", r.Code, plain.Replace(r.says), plain.Replace(r.do))
	}
	if table == want.String() {
		return
	}
	if os.Getenv("UPDATE_CASES") == "" {
		t.Fatal("docs/causes.md is not what the rules say; write it with UPDATE_CASES=1")
	}
	if err := os.WriteFile(file, []byte(head+mark+want.String()), 0o644); err != nil {
		t.Fatal(err)
	}
}
