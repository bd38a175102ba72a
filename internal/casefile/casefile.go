// Package casefile reads test cases that are text files: a tree of files, each below a line with
// two equal signs and its name, and what is expected below "== want".
package casefile

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
)

// Case is one case file.
type Case struct {
	File  string
	Intro string // what stands before the first file: what the case shows
	Files map[string]string
	order []string
}

// Run runs f for every file that matches the pattern, each as a parallel test of its own.
func Run(t *testing.T, pattern string, f func(t *testing.T, c *Case)) {
	t.Helper()
	for _, c := range All(t, pattern) {
		t.Run(strings.TrimSuffix(filepath.Base(c.File), ".case"), func(t *testing.T) {
			t.Parallel()
			f(t, c)
		})
	}
}

// All are the cases of the files that match the pattern, of which there must be one.
func All(t testing.TB, pattern string) (out []*Case) {
	t.Helper()
	names, err := filepath.Glob(pattern)
	if err != nil || len(names) == 0 {
		t.Fatalf("no case matches %s: %v", pattern, err)
	}
	for _, name := range names {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		c := parse(name, string(data))
		if len(c.Files) < 2 {
			t.Fatalf("%s lacks its files, or what is wanted", name)
		}
		out = append(out, c)
	}
	return out
}

func parse(file, text string) *Case {
	c := &Case{File: file, Files: map[string]string{}}
	name := ""
	for line := range strings.Lines(text) {
		if n, ok := strings.CutPrefix(line, "== "); ok {
			name = strings.TrimSpace(n)
			c.Files[name] = ""
			c.order = append(c.order, name)
			continue
		}
		if name == "" {
			c.Intro += line
		} else {
			c.Files[name] += line
		}
	}
	return c
}

// FS gives the case's files, but those named, as a file system.
func (c *Case) FS(except ...string) fstest.MapFS {
	fsys := fstest.MapFS{}
next:
	for name, text := range c.Files {
		for _, e := range append(except, "want") {
			if name == e {
				continue next
			}
		}
		fsys[name] = &fstest.MapFile{Data: []byte(text), Mode: 0o644}
	}
	return fsys
}

// Want compares what came out with what stands below "== want"; with UPDATE_CASES=1 in the
// environment it writes it there instead.
func (c *Case) Want(t *testing.T, got string) {
	t.Helper()
	if os.Getenv("UPDATE_CASES") == "" {
		if want := c.Files["want"]; got != want {
			t.Errorf("got\n%s\nwant\n%s", got, want)
		}
		return
	}
	var out strings.Builder
	out.WriteString(c.Intro)
	for _, name := range c.order {
		if name != "want" {
			fmt.Fprintf(&out, "== %s\n%s", name, c.Files[name])
		}
	}
	fmt.Fprintf(&out, "== want\n%s", got)
	// Another test of the package may end all of them in the middle.
	made := c.File + ".new"
	if err := os.WriteFile(made, []byte(out.String()), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(made, c.File); err != nil {
		t.Fatal(err)
	}
}
