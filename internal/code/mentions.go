package code

import (
	"io/fs"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/ecosystem"
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
	found, left := false, maxAsked
	for _, dir := range folders {
		fs.WalkDir(m.Files, dir, func(file string, d fs.DirEntry, err error) error {
			switch {
			case err != nil || found || left == 0:
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
			left--
			data, err := fs.ReadFile(m.Files, file)
			found = err == nil && slices.ContainsFunc(texts, func(t string) bool {
				return strings.Contains(string(data), t)
			})
			return nil
		})
	}
	if m.known == nil {
		m.known = map[string]bool{}
	}
	m.known[key] = found
	return found
}
