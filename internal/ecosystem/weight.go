package ecosystem

import (
	"io/fs"
	"path"

	"nimbleharbor/internal/expr"
)

// Weight is roughly what the packages of a lock file take on the disk once they are installed and
// built.
type Weight struct {
	// entry finds the packages in a lock file, each once.
	entry *expr.Expr
	// each is what one of them takes, in bytes: it is far from true for one, and near enough for
	// hundreds.
	each int64
	// into are the folders that an install fills: where one is there, it was done before.
	into []string
}

// Weigh counts the packages that a project's lock file names, and estimates what they take, in
// bytes. It is false where there is no lock file that is known, and where the packages are
// installed already.
func Weigh(files fs.FS, folder, manager string) (lock string, packages int, size int64, ok bool) {
	for _, e := range All {
		for _, m := range e.Managers {
			if m.Name != manager || m.Weight == nil {
				continue
			}
			for _, made := range m.Weight.into {
				if _, err := fs.Stat(files, path.Join(folder, made)); err == nil {
					return "", 0, 0, false
				}
			}
			for _, lock := range m.Locks {
				data, err := fs.ReadFile(files, path.Join(folder, lock))
				if err != nil {
					continue
				}
				packages = len(m.Weight.entry.FindAllSubmatchIndex(data, -1))
				return path.Join(folder, lock), packages, int64(packages) * m.Weight.each,
					packages > 0
			}
		}
	}
	return "", 0, 0, false
}
