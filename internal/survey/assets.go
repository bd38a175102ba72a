package survey

import (
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// assets gives a project that serves nothing itself, in a folder where another one is served, the
// scripts by which that one's pages get their scripts and styles: the build as a step, and what
// makes them anew as a process beside it.
func (s *told) assets() {
	for i := range s.Stack.Projects {
		p := &s.Stack.Projects[i]
		if beside := s.servedBeside(p); beside == nil || s.served(p) ||
			s.natives.asideWhy(p.Path) != "" || p.NotHere != "" ||
			ecosystem.ManagerNamed(p.Manager).Scripts == nil || len(p.Evidence) == 0 {
			continue
		}
		for _, part := range p.Parts {
			if part.Folder != p.Path {
				continue
			}
			builds, watch := ecosystem.AssetScripts(part.Scripts)
			call := func(script string) []string {
				return []string{p.Manager, ecosystem.ManagerNamed(p.Manager).Scripts.Run, script}
			}
			builds = slices.DeleteFunc(builds, func(name string) bool {
				return s.isMadeAlready(part.Scripts[name], p.Path)
			})
			if !p.Does(stack.Build) {
				s.builtBy(p, part, builds, call)
			}
			if watch != "" && !slices.ContainsFunc(s.Stack.Services, func(v stack.Service) bool {
				// which says what runs beside it
				return v.Source == stack.FromProcfile && v.Dir() == p.Path
			}) {
				s.natives.native(p, stack.Serve{Name: watch, Command: call(watch),
					At: p.Evidence[0].Place(), Watches: true,
					Expands: named(watch, part.Scripts[watch])}, p.Path)
			}
		}
	}
}

// makesFile is how a line says which file it makes.
var makesFile = expr.New(`(?:>|\s-o|\s--out(?:put|file)?)[ =]*["']?([\w./-]+\.\w+)`)

// isMadeAlready reports whether all that a script's lines say they make lies in the checkout.
func (s *told) isMadeAlready(lines []string, dir string) bool {
	made := makesFile.FindAllStringSubmatch(strings.Join(lines, "\n"), -1)
	return len(made) > 0 && !slices.ContainsFunc(made, func(m []string) bool {
		return !s.Exists(path.Join(dir, m[1]))
	})
}

// builtBy gives a project the scripts that build as steps.
func (s *told) builtBy(p *stack.Project, part stack.Part, builds []string,
	call func(script string) []string) {
	for k, name := range builds {
		id := "build:" + p.Path
		if s.SeveralAt(p.Path) {
			id += "@" + p.Manager
		}
		if k > 0 {
			id += "+" + name
		}
		p.Steps = append(p.Steps, stack.Step{ID: id, Role: stack.Build, Command: call(name),
			Env: map[string]string{}, At: p.Evidence[0].Place(),
			Expands: named(name, part.Scripts[name])})
	}
}

// named are a script's lines behind its name, as manifests' lines are shown.
func named(script string, lines []string) (out []string) {
	for _, line := range lines {
		out = append(out, script+": "+line)
	}
	return out
}

// served reports whether a project is served by a service of its own.
func (s *told) served(p *stack.Project) bool {
	return slices.ContainsFunc(s.Stack.Services, func(v stack.Service) bool {
		return v.Project == p.Path && v.Manager == p.Manager && !v.Watches
	})
}

// assetsFirst lets what is served wait for the build of what it hands out, which another project in
// its folder does.
func (s *told) assetsFirst() {
	for i := range s.Stack.Projects {
		p := &s.Stack.Projects[i]
		beside := s.servedBeside(p)
		if beside == nil || s.served(p) || !p.Does(stack.Build) {
			continue
		}
		for _, st := range p.Steps {
			if (st.Role == stack.Install || st.Role == stack.Build) &&
				!slices.Contains(beside.AfterSteps, st.ID) {
				beside.AfterSteps = append(beside.AfterSteps, st.ID)
			}
		}
	}
}
