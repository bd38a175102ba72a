package code

import (
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"nimbleharbor/internal/stack"
)

// TestMentionedLines shows lines that people have written, and none of those that a program has
// made: a bundle is one line of a million characters with thousands of addresses in it.
func TestMentionedLines(t *testing.T) {
	t.Parallel()
	file := func(text string) *fstest.MapFile { return &fstest.MapFile{Data: []byte(text)} }
	m := Mentions{Files: fstest.MapFS{
		"desk/quay.js":      file("one\n" + strings.Repeat("localhost:1;", 1000) + "\ntwo\n"),
		"desk/bundle.js":    file(strings.Repeat("three\n", MaxSize/6+1)),
		"desk/quay_test.go": file("four\n"),
		"desk/notes.txt":    file("five\n"),
	}}
	var got []string
	m.Lines("desk", func(string) bool { return true }, func(line string, _ stack.Place) {
		got = append(got, strings.TrimSpace(line))
	})
	if want := []string{"one", "two"}; !slices.Equal(got, want) {
		t.Errorf("got %.60q, want %q", got, want)
	}
}
