package ports

import (
	"io/fs"
	"path"
	"strconv"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// configNames are what programs of any language call the file of their own settings, without its
// ending, the strongest first; configFolders are where it lies below the program.
var (
	configNames = []string{"local", "development", "dev", "config", "settings", "default", "base",
		"server", "app"}
	configEndings = []string{".yaml", ".yml", ".toml", ".json"}
	configFolders = []string{".", "config", "conf", "configs"}
)

// configPort is the port that the program's own file of settings has it listen on: in its section
// about serving, or at its top. It is not one that it connects to, which stands below another name.
func (s *Ports) configPort(v *stack.Service) (port int, at stack.Place) {
	for _, folder := range configFolders {
		dir := path.Join(v.Dir(), folder)
		has := map[string]bool{} // one look at the folder, not one for each name
		entries, _ := fs.ReadDir(s.Files, dir)
		for _, e := range entries {
			has[e.Name()] = true
		}
		for _, name := range configNames {
			for _, ending := range configEndings {
				if !has[name+ending] {
					continue
				}
				file := path.Join(dir, name+ending)
				data, err := fs.ReadFile(s.Files, file)
				if err != nil || len(data) > 1<<20 {
					continue
				}
				if port, line := listensIn(string(data)); port > 0 {
					return port, stack.Place{File: file, Line: line}
				}
			}
		}
	}
	return 0, at
}

var (
	// sectionHead begins a section, in YAML, JSON or TOML.
	sectionHead = expr.New(`^(\s*)["']?([\w.-]+)["']?\s*:\s*\{?\s*(?:#.*)?$|` +
		`^\[+([\w.-]+)\]+\s*(?:#.*)?$`)
	// aboutServing are names of the sections that say where a program listens.
	aboutServing = expr.New(`(?i)^(server|http|https|web|webserver|listen|listener|app|api|` +
		`gateway)$`)
	portValue = expr.New(`(?i)^(\s*)["']?(?:http_?)?(port|listen(?:_?addr(?:ess)?)?|bind|` +
		`addr(?:ess)?)["']?\s*[:=]\s*["']?(?:[\w.\[\]:-]*:)?(\d{2,5})["']?\s*,?\s*(?:[#/].*)?$`)
)

// listensIn reads where a program listens out of its settings, and gives the line, from 1; 0 where
// they don't say it. A port counts in a section about serving and at the top; the nearest section
// around a line is the last one that began further to the left.
func listensIn(text string) (port, line int) {
	type section struct {
		indent int
		serves bool
	}
	around := []section{{-1, true}}
	for i, l := range strings.Split(text, "\n") {
		l = strings.TrimRight(l, "\r")
		if m := sectionHead.FindStringSubmatch(l); m != nil {
			head := section{len(m[1]), aboutServing.MatchString(m[2] + m[3])}
			for len(around) > 1 && (m[3] != "" || around[len(around)-1].indent >= head.indent) {
				around = around[:len(around)-1]
			}
			if m[3] != "" {
				head.indent = -1 // what follows stands at the margin
			}
			around = append(around, head)
			continue
		}
		m := portValue.FindStringSubmatch(l)
		if m == nil {
			continue
		}
		for len(around) > 1 && around[len(around)-1].indent >= len(m[1]) {
			around = around[:len(around)-1]
		}
		if n, err := strconv.Atoi(m[3]); err == nil && n < 1<<16 && around[len(around)-1].serves {
			return n, i + 1
		}
	}
	return 0, 0
}
