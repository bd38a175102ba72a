package survey

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/command"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// runnable tells whether the program of a Procfile's line can be run as it stands; what is missing
// is its name.
func (s *natives) runnable(p *stack.Project, line string) (missing string) {
	for _, c := range shell.Parse(line) {
		if len(c.Words) == 0 || command.SaysNothing(c.Words[0]) {
			continue
		}
		words := c.Words
		for len(words) > 1 && (words[0] == "exec" || words[0] == "env" ||
			strings.Contains(words[0], "=")) {
			words = words[1:]
		}
		if !s.isProgram(p, words[0], c.Folder) {
			return words[0]
		}
		for i, w := range words[1:] {
			if path.Ext(w) == ".jar" && words[i] == "-jar" && !s.Exists(path.Join(p.Path, w)) {
				return w
			}
		}
	}
	return ""
}

// isProgram reports whether a program can be there: one by its path is, or an install puts it
// there; one by its name is no program of a compiled project itself, which is built first. Of a
// name with a variable in it nobody knows.
func (s *natives) isProgram(p *stack.Project, name, folder string) bool {
	switch {
	case strings.Contains(name, "$"):
		return true
	case strings.Contains(name, "/"):
		return s.Exists(path.Join(p.Path, folder, name)) || madeByInstall(name)
	}
	return !isCompiled(p) || ecosystem.IsProgram(name) || protocol.OfProgram(name) != nil
}

func isCompiled(p *stack.Project) bool {
	e := ecosystem.Named(p.Ecosystem)
	return e != nil && e.Compiled
}

// madeByInstall reports whether a program lies where an install puts it.
func madeByInstall(name string) bool {
	top, _, _ := strings.Cut(strings.TrimPrefix(name, "./"), "/")
	return top == "node_modules" || top == ".venv" || top == "venv" || top == "vendor" ||
		strings.HasPrefix(name, "/")
}

// builtFor finds what makes a program that a Procfile names: the task that a README runs before the
// program, the task of that name, or the build of its package. It returns nil if nothing here is
// known to make it.
func (s *natives) builtFor(p *stack.Project, program string) *stack.Step {
	name := path.Base(program)
	task := func(words []string, at stack.Place, t *stack.Target) *stack.Step {
		return &stack.Step{ID: "build:" + p.Path, Role: stack.Build, Command: words,
			Env: map[string]string{}, At: at,
			Expands: t.Lines, Outputs: []string{path.Join(p.Path, program)}}
	}
	for i, d := range s.Demands {
		if i == 0 || d.Cwd != p.Path && d.At.File != path.Join(p.Path, path.Base(d.At.File)) {
			continue
		}
		runs := slices.ContainsFunc(d.Parts, func(c shell.Command) bool {
			return len(c.Words) > 0 && path.Base(c.Words[0]) == name &&
				strings.Contains(c.Words[0], "/")
		})
		if before := s.Demands[i-1]; runs && before.At.File == d.At.File && len(before.Parts) == 1 {
			words := before.Parts[0].Words
			if t := s.Commands.Target(words, p.Path); t != nil &&
				ecosystem.ManagerNamed(words[0]).Tasks {
				return task(words, before.At, t)
			}
		}
	}
	for i := range p.Targets {
		if t := &p.Targets[i]; t.Name == name || t.Name == program {
			return task([]string{t.Program, t.Name}, t.At, t)
		}
	}
	if words := ecosystem.BuildOf(s.Tree.At(p.Path), p, program); words != nil {
		return &stack.Step{ID: "build:" + p.Path, Role: stack.Build, Command: words,
			Env: map[string]string{},
			At:  p.Evidence[0].Place(), Outputs: []string{path.Join(p.Path, program)}}
	}
	return nil
}

// ownWay concludes what runs in the place of a Procfile's process whose program isn't there: the
// process itself behind the step that makes the program; the project's own way, which is nil; or
// nothing.
func (s *natives) ownWay(p *stack.Project, proc ecosystem.Process, missing string) (keep bool) {
	if s.asideWhy(p.Path) != "" {
		return false
	}
	if step := s.builtFor(p, missing); step != nil && strings.Contains(missing, "/") {
		made := func(o stack.Step) bool {
			return o.ID == step.ID && slices.Equal(o.Outputs, step.Outputs)
		}
		if !slices.ContainsFunc(p.Steps, made) {
			// one of its name that makes nothing
			p.Steps = slices.DeleteFunc(p.Steps, func(o stack.Step) bool { return o.ID == step.ID })
			p.Steps = append(p.Steps, *step)
			slices.SortStableFunc(p.Steps,
				func(a, b stack.Step) int { return cmp.Compare(a.Role.Rank(), b.Role.Rank()) })
			s.needsOf(p, step.Command, p.Path, step.At, 0)
		}
		return true
	}
	s.RemarkOn(stack.AboutService(proc.Name), stack.Note, stack.CodeProcessForHost, proc.At,
		fmt.Sprintf(
			"%s runs %s, which isn't in the checkout: the line is taken for one that a host of "+
				"applications reads", proc.Name, missing), "")
	return false
}

// needsOf adds the tools that a command and the tasks behind it call to what the project wants of
// the machine, and notes the folders that they build.
func (s *natives) needsOf(p *stack.Project, words []string, cwd string, at stack.Place, depth int) {
	if len(words) == 0 || depth > command.Deepest {
		return
	}
	if t := ecosystem.ToolNamed(words[0]); (t.Packages != nil || t.By != nil) && t.Headers == nil {
		p.Wants(stack.Runtime{Tool: t.Name, Constraint: "*", At: at})
	}
	lines := []string{}
	if t := s.Commands.Target(words, cwd); t != nil && ecosystem.ManagerNamed(words[0]).Tasks {
		lines, at = t.Lines, t.At
	} else if other := s.ProjectAt(cwd, words); cwd != p.Path && other != nil {
		if s.builtInto == nil {
			s.builtInto = map[string]stack.Place{}
		}
		s.builtInto[cwd] = at
		for _, r := range other.Runtimes {
			p.Wants(r)
		}
	}
	for _, line := range lines {
		for _, c := range shell.Parse(line) {
			if len(c.Words) > 0 && c.Words[0] != "cd" {
				s.needsOf(p, c.Words, path.Join(cwd, c.Folder), at, depth+1)
			}
		}
	}
}
