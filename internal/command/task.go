package command

import (
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// Options of programs that run tasks: those that name the folder to work in, and the file to read.
var (
	inFolder = strings.Fields("-C -d --directory --dir --working-directory")
	byFile   = strings.Fields("-f --file --makefile --justfile -t --taskfile")
)

// number is what stands behind an option for how much is done at once, and names no task.
var number = expr.New(`^\d+$`)

// Tasks takes a call of a program that runs tasks apart: the folder in which it works, the file
// that it is told to read, empty for the usual one, and the names of the tasks, none for the first
// of the file.
func Tasks(words []string, cwd string) (dir, file string, names []string) {
	dir = cwd
	for i := 1; i < len(words); i++ {
		name, value, joined := strings.Cut(words[i], "=")
		if !joined && i+1 < len(words) {
			value = words[i+1]
		}
		switch {
		case slices.Contains(inFolder, name), slices.Contains(byFile, name):
			if slices.Contains(inFolder, name) {
				dir = path.Join(cwd, value)
			} else {
				file = value
			}
			if !joined {
				i++
			}
		case strings.HasPrefix(name, "-"), joined, number.MatchString(name):
		default:
			names = append(names, name)
		}
	}
	return dir, file, names
}

func tasksFolder(words []string, cwd string) string {
	dir, _, _ := Tasks(words, cwd)
	return dir
}

// Targets are the entries of a task file that a command calls. Of a file that isn't the folder's
// usual one nothing is known.
func (r *Resolver) Targets(words []string, cwd string) (out []*stack.Target) {
	dir, file, names := Tasks(words, cwd)
	if file != "" {
		return nil
	}
	for i := range r.stack.Projects {
		p := &r.stack.Projects[i]
		if p.Path != dir || len(p.Targets) == 0 {
			continue
		}
		if len(names) == 0 {
			return []*stack.Target{&p.Targets[0]}
		}
		for _, name := range names {
			if k, found := r.places(p)[name]; found {
				out = append(out, &p.Targets[k])
			}
		}
		if len(out) > 0 {
			return out
		}
	}
	return nil
}

// Target is the first entry of a task file that a command calls; nil if there is none.
func (r *Resolver) Target(words []string, cwd string) *stack.Target {
	if called := r.Targets(words, cwd); len(called) > 0 {
		return called[0]
	}
	return nil
}

// Task is the entry of that name of a folder's task file; nil if there is none.
func (r *Resolver) Task(dir, name string) *stack.Target {
	for i := range r.stack.Projects {
		p := &r.stack.Projects[i]
		if p.Path != dir {
			continue
		}
		if k, found := r.places(p)[name]; found {
			return &p.Targets[k]
		}
	}
	return nil
}

// places are those of a project's targets by their names, the first of each name.
func (r *Resolver) places(p *stack.Project) map[string]int {
	key := targetsKey{p.Path, p.Manager, len(p.Targets)}
	if known := r.targets[key]; known != nil {
		return known
	}
	places := make(map[string]int, len(p.Targets))
	for k := range p.Targets {
		if _, twice := places[p.Targets[k].Name]; !twice {
			places[p.Targets[k].Name] = k
		}
	}
	r.targets[key] = places
	return places
}

// targetsKey tells the targets of one project, as many as there are, from others.
type targetsKey struct {
	path, manager string
	count         int
}
