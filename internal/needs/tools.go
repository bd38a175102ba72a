package needs

import (
	"errors"
	"slices"
	"strings"

	"github.com/Masterminds/semver/v3"

	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/stack"
)

// runtimes asks for the runtimes and managers of what runs natively, each constraint by itself.
func (a *asker) runtimes(services []*stack.Service) {
	type want struct{ tool, constraint string }
	seen := map[want]int{}
	for _, s := range services {
		for _, r := range a.runtimesOf(s) {
			w := want{r.Tool, r.Constraint}
			if i, ok := seen[w]; ok {
				a.needs[i].Because = append(a.needs[i].Because, r.At)
				if !slices.Contains(a.needs[i].For, s.Name) {
					a.needs[i].For = append(a.needs[i].For, s.Name)
				}
				continue
			}
			seen[w] = len(a.needs)
			n := a.tool(r)
			if r.Brought {
				n.Level = Optional
			}
			if n.For = []string{s.Name}; r.Hint {
				if n.Met {
					delete(seen, w)
					continue
				}
				n.Level = Optional
			}
			a.needs = append(a.needs, n)
		}
	}
	for i := range a.needs { // what comes with a tool is not to be had where that is too old
		if with := a.tooOld[a.needs[i].Command]; a.needs[i].Kind == Tool && with != "" {
			a.needs[i].Command, a.needs[i].Remedy = "", "It comes with "+with+", in the version "+
				"that is wanted of that."
		}
	}
}

// runtimesOf are the runtimes and managers that a native service wants: its project's or, without
// one, its program.
func (a *asker) runtimesOf(s *stack.Service) []stack.Runtime {
	p := a.stack.Project(s.Project, s.Manager)
	if s.Runs != stack.Native {
		if p = a.builds(s); p == nil {
			return nil
		}
	}
	if p == nil {
		if len(s.Command) == 0 || strings.Contains(s.Command[0], "/") || s.Command[0] == "sh" {
			return nil
		}
		return []stack.Runtime{{Tool: s.Command[0], Constraint: "*", At: s.At}}
	}
	return slices.DeleteFunc(slices.Clone(p.Runtimes), func(r stack.Runtime) bool {
		return r.Hint && slices.ContainsFunc(p.Runtimes, func(o stack.Runtime) bool {
			return o.Tool == r.Tool && !o.Hint && o.Constraint != "*"
		}) // what a container or a build server uses asks nothing where the project itself does
	})
}

// builds is the project that is built here for a service's container; nil if none is.
func (a *asker) builds(s *stack.Service) *stack.Project {
	for i := range a.stack.Projects {
		p := &a.stack.Projects[i]
		if slices.ContainsFunc(p.Steps,
			func(st stack.Step) bool { return slices.Contains(s.AfterSteps, st.ID) }) {
			return p
		}
	}
	return nil
}

// native calls f for each project that a native service belongs to, or that is built for a
// container, once.
func (a *asker) native(services []*stack.Service, f func(p *stack.Project, services []string)) {
	names := map[*stack.Project][]string{}
	var list []*stack.Project
	for _, s := range services {
		p := a.stack.Project(s.Project, s.Manager)
		if s.Runs != stack.Native {
			p = a.builds(s)
		}
		if p != nil {
			if names[p] == nil {
				list = append(list, p)
			}
			names[p] = append(names[p], s.Name)
		}
	}
	for _, p := range list {
		f(p, names[p])
	}
}

// compiles asks for what packages take that are compiled while they are installed.
func (a *asker) compiles(services []*stack.Service) {
	seen := map[string]int{}
	a.native(services, func(p *stack.Project, names []string) {
		for _, c := range p.Compiles {
			level := Optional
			if c.Certain {
				level = Required
			}
			if i, ok := seen[c.Takes]; ok {
				n := &a.needs[i]
				n.Because = append(n.Because, c.At)
				if level == Required {
					n.Level = level
				}
				if !strings.Contains(n.Wanted, c.Package) {
					n.Wanted += ", " + c.Package
				}
				continue
			}
			n := a.tool(stack.Runtime{Tool: c.Takes, Constraint: "*", At: c.At})
			n.Level, n.For = level, names
			n.Wanted = "to compile " + c.Package
			seen[c.Takes] = len(a.needs)
			a.needs = append(a.needs, n)
		}
	})
}

func (a *asker) tool(r stack.Runtime) Need {
	n := Need{Name: r.Tool, Kind: Tool, Wanted: r.Constraint, Level: Required,
		Because: []stack.Place{r.At}}
	if n.Wanted == "*" {
		n.Wanted = "any version"
	}
	found, err := a.versions[r.Tool].number, a.versions[r.Tool].err
	known := diagnose.Need{Kind: string(Tool), Name: r.Tool, Wanted: r.Constraint, Found: found}
	if r.Close != "" {
		known.Wanted += " or close to it"
	}
	switch {
	case errors.Is(err, ErrNoTool):
		known.Absent = true
	case err != nil:
		known.Broken = err.Error()
	default:
		if n.Found, n.Met = found, satisfies(found, r.Constraint); !n.Met && r.Close != "" {
			n.Met = satisfies(found, r.Close)
			n.Wanted += " or close to it"
		}
		if n.Met {
			return n
		}
	}
	kept := a.machine.Kept(r.Tool)
	if k, ok := fitting(kept, r); ok {
		known.Kept, known.Keeper = strings.TrimSpace(r.Tool+" "+k.Version), k.By
		known.Install = `export PATH="$HOME/` + k.Bin + `:$PATH"`
	} else if known.Absent {
		way := a.versions[r.Tool].way
		if known.Install = way.Command; way.Version != "" && !Satisfies(way.Version, r) {
			known.Install, known.Offered = "", way.Version
			a.tooOld[way.Command] = r.Tool
		}
	}
	if known.Kept == "" && len(kept) > 0 {
		known.Keeper = kept[0].By
	}
	f := known.Explain()
	n.Found, n.Remedy, n.Have, n.Command = f.Cause, f.Remedy, found, known.Install
	if r.Brought {
		n.Remedy = "The project's manager fetches one that fits when it installs; it needs the " +
			"network for that."
		n.Command = ""
	}
	return n
}

// fitting is the newest of the versions kept that does for what a project wants; failing that, one
// whose version is not known.
func fitting(kept []ecosystem.Kept, r stack.Runtime) (best ecosystem.Kept, ok bool) {
	var newest *semver.Version
	for _, k := range kept {
		v, err := semver.NewVersion(k.Version)
		switch {
		case k.Version == "" && r.Constraint == "*" && !ok:
			best, ok = k, true
		case err == nil && Satisfies(k.Version, r) && (newest == nil || v.GreaterThan(newest)):
			best, newest, ok = k, v, true
		}
	}
	return best, ok
}

// Satisfies reports whether a version does for what a project wants.
func Satisfies(version string, r stack.Runtime) bool {
	return satisfies(version, r.Constraint) || r.Close != "" && satisfies(version, r.Close)
}

// satisfies compares a version with a constraint; one that can't be read asks for nothing.
func satisfies(version, constraint string) bool {
	if constraint == "*" {
		return true // also what only leads to a release
	}
	c, err := semver.NewConstraint(constraint)
	if err != nil {
		return true
	}
	v, err := semver.NewVersion(version)
	if err != nil {
		return true
	}
	return c.Check(v)
}
