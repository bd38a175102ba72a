package facts

import (
	"path"
	"path/filepath"

	"nimbleharbor/internal/compose"
)

// HasCompose reports whether a folder has compose files of its own.
func (f *Facts) HasCompose(dir string) bool {
	return len(compose.Find(f.Files, dir, f.Lookup(dir))) > 0
}

// Compose reads compose files that belong together from a folder; without names those that it has
// by its own. The error is that of compose.Load.
func (f *Facts) Compose(dir string, files []string) (*compose.Project, error) {
	_, beside := f.VariablesOf(dir)
	if beside == path.Join(dir, ".env") {
		beside = ""
	}
	return compose.Load(f.Files, dir, compose.Options{Env: f.Env, Files: files, Beside: beside,
		Folder: path.Base(filepath.ToSlash(f.Root))})
}
