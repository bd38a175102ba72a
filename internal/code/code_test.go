package code

import (
	"fmt"
	"path"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"nimbleharbor/internal/casefile"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/testbound"
)

// TestCases reads programs in each language: what they read of their environment, and whether they
// can do without it.
func TestCases(t *testing.T) {
	t.Parallel()
	casefile.Run(t, "testdata/*.case", func(t *testing.T, c *casefile.Case) {
		c.Want(t, readsIn(c.FS()))
	})
}

func readsIn(fsys fstest.MapFS) string {
	r := New(reading.Of(fsys))
	for name := range fsys {
		r.Tell(path.Dir(name), path.Base(name))
	}
	r.All()
	var out strings.Builder
	for _, f := range r.Done().Files {
		fmt.Fprintf(&out, "%s:", path.Join(f.Dir, f.Name))
		for _, read := range f.Reads {
			out.WriteString(" " + read.Name)
			if read.Default {
				out.WriteString("=")
			}
			if read.Must {
				out.WriteString("!")
			}
		}
		out.WriteString("\n")
	}
	return out.String()
}

// TestLines counts the lines of each token in each language: behind comments, texts over lines and
// code in texts.
func TestLines(t *testing.T) {
	t.Parallel()
	for _, c := range casefile.All(t, "testdata/*.case") {
		for file, text := range c.Files {
			of := ecosystem.OfCode(path.Ext(file))
			if of == nil {
				continue
			}
			for _, token := range tokensOf(grammarOf(of.Language), text, nil) {
				if want := strings.Count(text[:token.at], "\n"); int(token.line) != want {
					t.Errorf("%s: %q is in line %d, want %d", file, token.text, token.line, want)
				}
			}
		}
	}
}

// FuzzPrograms holds the reading of any text as a program of any language to bounds.
func FuzzPrograms(f *testing.F) {
	endings := []string{".js", ".py", ".rb", ".php", ".go", ".java", ".rs", ".cs", ".ex"}
	for _, c := range casefile.All(f, "testdata/*.case") {
		for name, text := range c.Files {
			for i, ending := range endings {
				if path.Ext(name) == ending {
					f.Add(i, text)
				}
			}
		}
	}
	f.Fuzz(func(t *testing.T, which int, source string) {
		if which < 0 || len(source) > 1<<16 {
			t.Skip()
		}
		file := "settings" + endings[which%len(endings)]
		testbound.Within(t, 64, 10*time.Second, func() {
			readsIn(fstest.MapFS{file: {Data: []byte(source)}})
		})
	})
}
