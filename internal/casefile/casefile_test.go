package casefile

import (
	"os"
	"path/filepath"
	"slices"
	"testing"
)

const aCase = `What it shows,
in two lines.
== a.txt
one
== sub/empty.txt
== want
old
`

// TestParse reads a case's files in their order, and keeps apart what is expected.
func TestParse(t *testing.T) {
	t.Parallel()
	c := parse("x.case", aCase)
	if c.Intro != "What it shows,\nin two lines.\n" || c.Files["a.txt"] != "one\n" ||
		c.Files["want"] != "old\n" ||
		!slices.Equal(c.order, []string{"a.txt", "sub/empty.txt", "want"}) {
		t.Errorf("it reads as %+v", c)
	}
	fsys := c.FS("sub/empty.txt")
	if len(fsys) != 1 || string(fsys["a.txt"].Data) != "one\n" {
		t.Errorf("its files are %v", fsys)
	}
	if data, err := c.FS().ReadFile("sub/empty.txt"); err != nil || len(data) > 0 {
		t.Errorf("an empty file reads as %q, %v", data, err)
	}
}

// TestWant compares, and writes the case anew only when it is asked to.
func TestWant(t *testing.T) {
	file := filepath.Join(t.TempDir(), "x.case")
	if err := os.WriteFile(file, []byte(aCase), 0o644); err != nil {
		t.Fatal(err)
	}
	t.Setenv("UPDATE_CASES", "")
	Run(t, file, func(t *testing.T, c *Case) { c.Want(t, "old\n") })
	t.Setenv("UPDATE_CASES", "1")
	parse(file, aCase).Want(t, "new\n")
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if again := parse(file, string(data)); again.Files["want"] != "new\n" ||
		again.Files["a.txt"] != "one\n" || again.Intro != parse(file, aCase).Intro {
		t.Errorf("it is written as\n%s", data)
	}
}
