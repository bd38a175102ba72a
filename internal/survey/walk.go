package survey

import (
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"nimbleharbor/internal/compose"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/stack"
)

// neverEntered are folders that hold what tools have made, not what people have written.
var neverEntered = map[string]bool{
	".git": true, ".nharbor": true, "node_modules": true, "vendor": true, "target": true, "dist": true, ".venv": true, "venv": true,
	"__pycache__": true, ".idea": true, ".vscode": true, ".cache": true, ".next": true, ".nuxt": true, "bower_components": true, ".tox": true, ".mypy_cache": true,
}

// maxDepth bounds how deep folders are entered.
const maxDepth = 60

// tree is what one walk has found.
type tree struct {
	folders   []ecosystem.Folder // those with a manifest
	compose   []string           // compose files, by path
	templates []template
	dotenvs   []string
	remarks   []stack.Remark
	files     int
}

// template is an example file and the file that is made from it.
type template struct{ path, target string }

var templateName = regexp.MustCompile(`^(.*?)[._-](example|sample|template|dist|defaults?)(\..+)?$`)

// templateOf tells which settings file a template of this name is for; ok is false for any other name.
func templateOf(name string) (target string, ok bool) {
	m := templateName.FindStringSubmatch(name)
	if m == nil {
		return "", false
	}
	target = m[1] + m[3]
	switch {
	case target == "env", target == "dotenv":
		return ".env", true
	case target == ".env", strings.HasPrefix(target, ".env."), strings.HasSuffix(target, ".env"):
		return target, true
	}
	return "", false
}

func walk(fsys fs.FS) (*tree, error) {
	t := &tree{}
	var visit func(dir string, depth int) error
	visit = func(dir string, depth int) error {
		entries, err := fs.ReadDir(fsys, dir)
		if err != nil {
			if dir == "." {
				return err
			}
			t.remarks = append(t.remarks, stack.Remark{Level: stack.Warning, Code: "folder-unreadable", At: stack.Place{File: dir},
				Text: "the folder can't be read: " + stack.Reason(err), Remedy: "Give yourself the right to read it, if it matters."})
			return nil
		}
		files := map[string]bool{}
		var below []string
		for _, e := range entries {
			name := e.Name()
			switch {
			case e.IsDir():
				if !neverEntered[name] {
					below = append(below, name)
				}
			case e.Type().IsRegular():
				files[name] = true
				t.files++
			case e.Type()&fs.ModeSymlink != 0:
				// A link to a file inside the same folder tree counts; one to a folder is never followed.
				if info, err := fs.Stat(fsys, path.Join(dir, name)); err == nil && info.Mode().IsRegular() {
					files[name] = true
				}
			}
		}
		for _, m := range ecosystem.Manifests {
			if files[m] {
				t.folders = append(t.folders, ecosystem.Folder{FS: fsys, Path: dir, Files: files})
				break
			}
		}
		for name := range files {
			full := path.Join(dir, name)
			if compose.IsFileName(name) {
				t.compose = append(t.compose, full)
			}
			if target, ok := templateOf(name); ok {
				t.templates = append(t.templates, template{full, path.Join(dir, target)})
			} else if name == ".env" || strings.HasPrefix(name, ".env.") {
				t.dotenvs = append(t.dotenvs, full)
			}
		}
		if depth >= maxDepth {
			t.remarks = append(t.remarks, stack.Remark{Level: stack.Note, Code: "folder-too-deep", At: stack.Place{File: dir}, Text: "folders below this one are not looked at", Remedy: "Start nharbor further down with -C."})
			return nil
		}
		for _, name := range below {
			if err := visit(path.Join(dir, name), depth+1); err != nil {
				return err
			}
		}
		return nil
	}
	if err := visit(".", 0); err != nil {
		return nil, err
	}
	slices.SortFunc(t.compose, byDepth)
	slices.SortFunc(t.templates, func(a, b template) int { return byDepth(a.path, b.path) })
	slices.SortFunc(t.dotenvs, byDepth)
	return t, nil
}

func byDepth(a, b string) int {
	if d := strings.Count(a, "/") - strings.Count(b, "/"); d != 0 {
		return d
	}
	return strings.Compare(a, b)
}
