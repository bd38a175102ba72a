package execute

import (
	"io/fs"
	"path"
	"path/filepath"
	"strings"

	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/logs"
)

// atMigration tells at which migration a step that migrates has failed, and in which file it
// stands; empty where its log names none.
func (x *Executor) atMigration(log *logs.Log) string {
	in, err := log.Read()
	if err != nil {
		return ""
	}
	defer in.Close()
	name := diagnose.Migration(in)
	if name == "" {
		return ""
	}
	out := "; at the migration " + name
	if file := migrationFile(x.Plan().Root, name); file != "" {
		out += " (" + file + ")"
	}
	return out
}

var (
	// ofMigrations are folders in which migrations lie, in all the ways that tools call them.
	ofMigrations = expr.New(`(?i)(^|/)(migrations?|migrate|versions|alembic|changelogs?)(/|$)`)
	// notOurs are folders of packages, and hidden ones.
	notOurs = expr.New(`^(\..+|node_modules|vendor|venv|env|target|dist|build|__pycache__)$`)
)

// mostFiles bounds how many files and folders are looked at for a migration.
const mostFiles = 50_000

// migrationFile is the file of a migration, relative to the root, by its name: the one in a folder
// for migrations that has it in its own, or in its folder's name. Empty where there is none.
func migrationFile(root, name string) (found string) {
	key := name[strings.LastIndexByte(name, '.')+1:]
	if before, ending, ok := strings.Cut(name, "."); ok && len(ending) <= 3 {
		key = before // the last part is what a file's name ends with
	}
	key = strings.ToLower(strings.ReplaceAll(key, "_", ""))
	left := mostFiles
	filepath.WalkDir(root, func(full string, d fs.DirEntry, err error) error {
		if left--; err != nil || left < 0 || found != "" {
			return fs.SkipAll
		}
		file, _ := filepath.Rel(root, full)
		if file = filepath.ToSlash(file); d.IsDir() {
			if file != "." && notOurs.MatchString(d.Name()) {
				return fs.SkipDir
			}
			return nil
		}
		flat := strings.ToLower(strings.ReplaceAll(file, "_", ""))
		if ofMigrations.MatchString(path.Dir(file)) && strings.Contains(flat, key) {
			found = file
		}
		return nil
	})
	return found
}
