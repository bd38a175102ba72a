package survey

import (
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/code"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
)

var (
	settingsFolder = expr.New(`(?i)(^|/)(settings?|confs?|configs?)$`)
	importsModule  = expr.New(`(?m)^\s*(?:from\s+([\w.]+)\s+import|import\s+([\w.]+))`)
)

// unchosen reports whether a file is one of several modules of settings of which a program's
// manage.py chooses another one: nobody reads it, so that it insists on nothing.
func (s *settingsFiles) unchosen(f code.File) bool {
	if !settingsFolder.MatchString(f.Dir) || path.Ext(f.Name) != ".py" {
		return false
	}
	project := s.projectOf(f.Dir)
	manage, err := s.Tree.At(project).Read("manage.py")
	if err != nil {
		return false
	}
	chosen := ecosystem.DjangoSettings(string(manage))
	if file := path.Join(project, chosen); chosen == "" || path.Dir(file) != f.Dir {
		return false
	}
	read, left := []string{path.Base(chosen)}, []string{chosen}
	for len(left) > 0 && len(read) < 20 {
		text, _ := s.Tree.At(project).Read(left[0])
		left = left[1:]
		for _, m := range importsModule.FindAllStringSubmatch(string(text), -1) {
			module := m[1] + m[2]
			name := module[strings.LastIndexByte(module, '.')+1:] + ".py"
			if !slices.Contains(read, name) {
				read = append(read, name)
				left = append(left, path.Join(path.Dir(chosen), name))
			}
		}
	}
	return f.Name != "__init__.py" && !slices.Contains(read, f.Name)
}
