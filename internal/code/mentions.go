package code

import (
	"io/fs"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/tree"
)

// maxAsked bounds how many files are looked through for the name of a part.
const maxAsked = 3000

// Mentions looks for texts in files of code, and remembers what it was asked. It belongs to one
// goroutine.
type Mentions struct {
	Files fs.FS
	known map[string]bool
}

// In reports whether a file of code in one of the folders has one of the texts.
func (m *Mentions) In(folders []string, ending string, texts []string) bool {
	key := strings.Join(folders, "\x00") + "\x00" + strings.Join(texts, "\x00")
	if known, ok := m.known[key]; ok {
		return known
	}
	found := false
	for _, dir := range folders {
		m.files(dir, ending, func(_, text string) bool {
			found = found || slices.ContainsFunc(texts, func(t string) bool {
				return strings.Contains(text, t)
			})
			return found
		})
	}
	if m.known == nil {
		m.known = map[string]bool{}
	}
	m.known[key] = found
	return found
}

// longestLine is how long a line may be that a person has written, in bytes. What is longer was
// made by a program, and looking closely at it would take as long as it likes.
const longestLine = 4 << 10

// Lines shows the lines of the code below a folder that lies in folders which are wanted, tests
// and lines that nobody has written left out.
func (m *Mentions) Lines(dir string, wanted func(folder string) bool,
	look func(line string, at stack.Place)) {
	m.files(dir, "", func(file, text string) bool {
		if tree.OfTests.MatchString(file) || tree.Aside.MatchString(path.Dir(file)) ||
			!wanted(path.Dir(file)) {
			return false
		}
		number := 0
		for line := range strings.Lines(text) {
			number++
			if len(line) > longestLine {
				continue
			}
			look(line, stack.Place{File: file, Line: number})
		}
		return false
	})
}

// files shows the files of code below a folder, and those of an ending, until one is enough. It
// goes into no folder that is made, or hidden, and looks at maxAsked of them at most.
func (m *Mentions) files(dir, ending string, look func(file, text string) (enough bool)) {
	left, enough := maxAsked, false
	fs.WalkDir(m.Files, dir, func(file string, d fs.DirEntry, err error) error {
		switch {
		case err != nil || enough || left == 0:
			return fs.SkipAll
		case d.IsDir():
			if file != dir && (ecosystem.Made(d.Name(), func(string) bool { return true }) ||
				d.Name()[0] == '.') {
				return fs.SkipDir
			}
			return nil
		case ecosystem.OfCode(path.Ext(file)) == nil && path.Ext(file) != ending:
			return nil
		}
		if info, err := d.Info(); err != nil || info.Size() > MaxSize {
			return nil
		}
		left--
		data, err := fs.ReadFile(m.Files, file)
		enough = err == nil && look(file, string(data))
		return nil
	})
}
