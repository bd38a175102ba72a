package compose

import (
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/stack"
)

// outside reports whether a path leaves the file system that is read, and remarks it.
func (l *loader) outside(v *Value, name string) bool {
	if fs.ValidPath(name) {
		return false
	}
	l.project.Remarks = append(l.project.Remarks,
		stack.Remark{Level: stack.Problem, Code: stack.CodeComposeOutside, At: v.At(),
			Text: fmt.Sprintf("%s lies outside the workspace and is not read", name),
			Remedy: "Bring it into the workspace, or clone what it belongs to beside this " +
				"checkout."})
	return true
}

// include reads what one item of include names, as a model of its own.
func (l *loader) include(by string, inc *Value) *Value {
	var files []string
	for _, p := range inc.Get("path").orEmpty().Items {
		if l.outside(p, p.Text) {
			return nil
		}
		if slices.Contains(append(l.open, by), p.Text) {
			l.fault(p, stack.CodeComposeCycle, "files include each other: "+
				strings.Join(append(append(l.open[slices.Index(append(l.open, by), p.Text):], by),
					p.Text), " → "), "Remove one of these includes.")
			return nil
		}
		files = append(files, p.Text)
	}
	if len(files) == 0 {
		return nil
	}
	dir := inc.Get("project_directory").or(path.Dir(files[0]))
	envFiles := list(inc.Get("env_file"))
	if envFiles == nil {
		envFiles = []string{path.Join(dir, ".env")}
	}
	own := map[string]string{}
	for _, name := range envFiles {
		f, err := dotenv.Read(l.fsys, name)
		if dotenv.Unread(err) {
			if inc.Get("env_file") != nil {
				l.fault(inc.Get("env_file"), stack.CodeComposeFile,
					fmt.Sprintf("%s can't be read: it doesn't exist, or you may not",
						name), "Correct the path.")
			}
			continue
		}
		if err != nil {
			l.faults = append(l.faults, stack.AllFaults(err)...)
			continue
		}
		values, err := f.Values(l.env)
		if err != nil {
			l.faults = append(l.faults, stack.AllFaults(err)...)
			continue
		}
		maps.Copy(own, values)
	}
	sub := *l
	sub.faults, sub.open = nil, append(slices.Clone(l.open), by)
	sub.env = func(name string) (string, bool) {
		if v, ok := l.env(name); ok {
			return v, true
		}
		v, ok := own[name]
		return v, ok
	}
	model := sub.model(files, dir, inc.Get("path"))
	l.faults = append(l.faults, sub.faults...)
	l.project.Included = append(l.project.Included, files...)
	if model != nil {
		model.Remove("name")
		model.Remove("version")
	}
	return model
}

// conflicts finds what a file defines anew, and otherwise, although it includes it.
func (l *loader) conflicts(inc, sub, tree *Value) {
	for _, section := range []string{"services", "networks", "volumes", "secrets", "configs"} {
		for _, m := range sub.Get(section).orEmpty().Members {
			own := tree.Get(section).Get(m.Key)
			if own == nil {
				continue
			}
			a, errA := own.MarshalJSON()
			b, errB := m.Value.MarshalJSON()
			if errA != nil || errB != nil || string(a) != string(b) {
				l.fault(own, stack.CodeComposeConflict,
					fmt.Sprintf("%s.%s is defined here and, otherwise, in the included %s:%d",
						section, m.Key, m.Value.File, m.Line),
					"Change an included service in an override file, or rename one of the two.")
			}
		}
	}
}

// extend gives a service with all that it extends merged below it.
func (l *loader) extend(tree *Value, name string, way []string) *Value {
	services := tree.Get("services")
	s := services.Get(name)
	ext := s.Get("extends")
	if ext == nil || ext.Kind != Mapping {
		return s
	}
	step := s.File + " " + name
	if l.circling[step] {
		return s
	}
	if slices.Contains(way, step) {
		for _, w := range way {
			l.circling[w] = true
		}
		l.fault(ext, stack.CodeComposeCycle, "services extend each other: "+
			strings.Join(append(way[slices.Index(way, step):], step),
				" → "), "Remove one of these extends.")
		return s
	}
	way = append(way, step)
	base := ext.Get("service").or("")
	from := tree
	if file := ext.Get("file"); file != nil {
		if l.outside(file, file.Text) {
			return s
		}
		var ok bool
		if from, ok = l.trees[file.Text]; !ok {
			from = l.file(file.Text, path.Dir(file.Text), file)
			contexts(from, path.Dir(file.Text))
			l.trees[file.Text] = from
		}
		if from == nil {
			return s
		}
	}
	if from.Get("services").Get(base) == nil {
		l.fault(ext, stack.CodeComposeUndefined,
			fmt.Sprintf("the service %s extends %s, which %s does not define", name, base,
				from.File), "Correct the name or the file.")
		return s
	}
	own := s.shallow()
	own.Remove("extends")
	return merge("service", l.extend(from, base, way).copy(), own)
}
