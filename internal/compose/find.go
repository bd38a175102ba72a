package compose

import (
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/expr"
)

// FileNames are a compose file's names, the preferred one first.
var FileNames = []string{"compose.yaml", "compose.yml", "docker-compose.yaml", "docker-compose.yml"}

var overrideNames = map[string][]string{
	"compose.yaml":        {"compose.override.yaml", "compose.override.yml"},
	"compose.yml":         {"compose.override.yml", "compose.override.yaml"},
	"docker-compose.yaml": {"docker-compose.override.yaml", "docker-compose.override.yml"},
	"docker-compose.yml":  {"docker-compose.override.yml", "docker-compose.override.yaml"},
}

// Find lists the compose files of a folder that belong together: those that COMPOSE_FILE names, or
// the file with the preferred name and its override. The list is empty when the folder has none.
func Find(fsys fs.FS, dir string, env dotenv.Lookup) []string {
	if named, ok := env("COMPOSE_FILE"); ok && named != "" {
		separator, ok := env("COMPOSE_PATH_SEPARATOR")
		if !ok || separator == "" {
			separator = string(os.PathListSeparator)
		}
		var files []string
		for _, f := range strings.Split(named, separator) {
			switch {
			case path.IsAbs(f):
				files = append(files, f)
			case f != "":
				files = append(files, path.Join(dir, f))
			}
		}
		return files
	}
	for _, name := range FileNames {
		if !isFile(fsys, path.Join(dir, name)) {
			continue
		}
		files := []string{path.Join(dir, name)}
		for _, o := range overrideNames[name] {
			if isFile(fsys, path.Join(dir, o)) {
				return append(files, path.Join(dir, o))
			}
		}
		return files
	}
	return nil
}

// IsFileName reports whether a file of this name is a compose file or a variant of one, such as
// compose.test.yaml or docker-compose-dev.yml.
func IsFileName(name string) bool { return fileName.MatchString(name) }

var fileName = expr.New(`^(docker-)?compose([._-][\w.-]+)?\.ya?ml$|^[\w-]+[.-]docker-compose\.ya?ml$`)

// Describes reports whether a file of that name can be a compose file by what is in it. One of the
// preferred names is one, whatever is in it; by a longer name other programs' settings go, too.
func Describes(name string, data []byte) bool {
	if slices.Contains(FileNames, name) {
		return true
	}
	file, err := document("", data)
	if err != nil || len(file.Members) == 0 {
		return true // which is told where it is read
	}
	return slices.ContainsFunc(file.Members, func(m Member) bool {
		return strings.HasPrefix(m.Key, "x-") || slices.Contains(topKeys, m.Key)
	})
}

// topKeys are those of a compose file that say what it describes (Compose Specification, "Compose
// file").
var topKeys = []string{"services", "include", "volumes", "networks", "secrets", "configs"}

// Whole reports whether a compose file describes an application by itself, and does not only change
// what another one describes: each of its services has an image or a build.
func Whole(data []byte) bool {
	file, err := document("", data)
	if err != nil || file.Get("services") == nil {
		return false
	}
	services := file.Get("services").Members
	return len(services) > 0 && !slices.ContainsFunc(services, func(m Member) bool {
		return m.Value.Get("image") == nil && m.Value.Get("build") == nil
	})
}

func isFile(fsys fs.FS, name string) bool {
	info, err := fs.Stat(fsys, name)
	return err == nil && info.Mode().IsRegular()
}
