package consent

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"nimbleharbor/internal/casefile"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/survey"
	"nimbleharbor/internal/testbound"
)

var aSum = expr.New(`(,| \()? ?sum [0-9a-f]{12}\)?`)

// TestChain follows commands to what they lead to.
func TestChain(t *testing.T) {
	t.Parallel()
	casefile.Run(t, "testdata/*.case", func(t *testing.T, c *casefile.Case) {
		fsys := c.FS("commands")
		for _, file := range fsys {
			if strings.HasPrefix(string(file.Data), "#!") {
				file.Mode = 0o755
			}
		}
		s, err := survey.Survey(fsys, survey.Options{})
		if err != nil {
			t.Fatal(err)
		}
		var out strings.Builder
		for line := range strings.Lines(c.Files["commands"]) {
			found := follow(fsys, s, "office", []string{strings.TrimSpace(line)})
			out.WriteString(line)
			for _, told := range append(found.tells, found.sums(nil, nil)...) {
				fmt.Fprintf(&out, "    %s\n", aSum.Ready().ReplaceAllString(told, ""))
			}
		}
		c.Want(t, out.String())
	})
}

// FuzzChain gives arbitrary text to all that is followed before anybody has consented: it ends,
// within bounds.
func FuzzChain(f *testing.F) {
	for _, seed := range []string{"all: a b\n\tmake all\nx := $(shell x)\ninclude *\n",
		"a: b\n  just a\nimport 'x'\n",
		"tasks:\n  a: {deps: [a], cmds: [{task: a}]}\n", "sh up.sh; ./up.sh; $(./up.sh)", "web: " +
			"sh up.sh\n"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		fsys := fstest.MapFS{}
		for _, name := range []string{"Makefile", "justfile", "Taskfile.yml", "up.sh", "Procfile",
			".npmrc"} {
			fsys[name] = &fstest.MapFile{Data: []byte(text), Mode: 0o755}
		}
		s := &stack.Stack{Projects: []stack.Project{{Path: ".", Parts: []stack.Part{{Folder: ".",
			Scripts: map[string][]string{"a": {text}, "b": {"npm run a"}}}}}}}
		testbound.Within(t, 256, 10*time.Second, func() {
			c := follow(fsys, s, ".", []string{text, "make", "make all", "just a", "task a",
				"npm run b", "sh up.sh"})
			if len(c.tells) > 40*maxChain {
				t.Errorf("%d lines are shown", len(c.tells))
			}
			c.sums(nil, nil)
		})
	})
}

// TestSourceCounts tells when a file that a command names is shown again: a script with each
// change, source when what is committed of it changes, and what git ignores or tools make never.
func TestSourceCounts(t *testing.T) {
	t.Parallel()
	file := func(text string) *fstest.MapFile { return &fstest.MapFile{Data: []byte(text)} }
	fsys := fstest.MapFS{}
	sums := func(blobs map[string]string, ignored map[string]bool) string {
		c := follow(fsys, &stack.Stack{}, ".",
			[]string{"sh up.sh", "node server.js", "node dist/x.js"})
		return strings.Join(c.sums(blobs, ignored), "\n")
	}
	fsys["up.sh"], fsys["server.js"], fsys["dist/x.js"] = file("a"), file("a"), file("a")
	first := sums(nil, nil)
	kept := map[string]string{"server.js": "0123456789abcdef"}
	committed := sums(kept, nil)
	if strings.Count(first, "\n") != 1 || strings.Contains(first, "dist/") || first == committed {
		t.Errorf("got %s, and as committed %s", first, committed)
	}
	fsys["server.js"], fsys["dist/x.js"] = file("b"), file("b")
	if sums(nil, nil) == first || sums(kept, nil) != committed {
		t.Errorf("source that was changed here: %s, and as committed %s", sums(nil, nil),
			sums(kept, nil))
	}
	kept["server.js"] = "1123456789abcdef"
	if sums(kept, nil) == committed {
		t.Error("another commit's content has the same sum")
	}
	if got := sums(nil, map[string]bool{"server.js": true}); strings.Contains(got, "server.js") {
		t.Errorf("what git ignores: %s", got)
	}
	fsys[".npmrc"] = file("a")
	obeyed := func(blob string) string {
		return follow(fsys, &stack.Stack{}, ".",
			[]string{"npm ci"}).sums(map[string]string{".npmrc": blob}, nil)[0]
	}
	now, kept1 := obeyed(""), obeyed("0123456789abcdef")
	fsys[".npmrc"] = file("b")
	if obeyed("") == now || obeyed("0123456789abcdef") != kept1 ||
		obeyed("1123456789abcdef") == kept1 {
		t.Error("what a manager goes by does not count as it is committed, or else as it is now")
	}
	fsys["bin/tides"] = &fstest.MapFile{Data: []byte("\x7fELF\x00"), Mode: 0o755}
	fsys["made/tides"] = fsys["bin/tides"]
	built := &stack.Stack{Projects: []stack.Project{{Steps: []stack.Step{{Outputs: []string{"made"}}}}}}
	for _, c := range []struct {
		line    string
		ignored bool
		want    int
	}{{"./bin/tides", false, 1}, {"./bin/tides", true, 0}, {"./made/tides", false, 0}, {"sh up.sh",
		true, 1}} {
		ignored := map[string]bool{"bin/tides": c.ignored, "up.sh": c.ignored}
		got := follow(fsys, built, ".", []string{c.line}).sums(nil, ignored)
		if len(got) != c.want {
			t.Errorf("%s, ignored %v: %q", c.line, c.ignored, got)
		}
	}
	before := sums(kept, nil)
	fsys["up.sh"] = file("b")
	if sums(kept, map[string]bool{"up.sh": true}) == before {
		t.Error("a script that was changed has the same sum")
	}
}
