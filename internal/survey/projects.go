package survey

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"github.com/Masterminds/semver/v3"

	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/stack"
)

// projects reads the manifests, the outer folders first, so that members find the project they
// belong to.
func (s *surveyor) projects() {
	list := s.findings()
	names := map[string]*ecosystem.Finding{} // members by the name that others ask for them by
	for _, f := range list {
		if f.Within != nil && f.Project.Name != "" {
			names[f.Project.Name] = f
		}
	}
	for _, f := range list {
		s.buildsFirst(f, names)
	}
	// the inner ones first, so that what they are members of has all of theirs
	for _, f := range slices.Backward(list) {
		if f.Within != nil {
			fold(f)
		}
	}
	for _, f := range list {
		if f.Within != nil {
			continue
		}
		p := &f.Project
		slices.Sort(p.Members)
		slices.SortStableFunc(p.Steps,
			func(a, b stack.Step) int { return cmp.Compare(a.Role.Rank(), b.Role.Rank()) })
		slices.SortStableFunc(p.Also, func(a, b stack.Serve) int {
			return cmp.Or(strings.Compare(a.Folder, b.Folder), strings.Compare(a.Name, b.Name))
		})
		s.versions(p)
		s.Stack.Projects = append(s.Stack.Projects, *p)
	}
	slices.SortStableFunc(s.Stack.Projects, func(a, b stack.Project) int {
		return cmp.Or(strings.Compare(a.Path, b.Path), besideOthers(&a)-besideOthers(&b))
	})
}

// besideOthers is a project's rank among several in a folder: what runs in a browser, or serves
// nothing, comes behind.
func besideOthers(p *stack.Project) int {
	f := ecosystem.FrameworkNamed(p.Framework)
	switch {
	case p.Serve == nil && len(p.Also) == 0:
		return 2
	case f.Browser && !f.API:
		return 1
	}
	return 0
}

// findings are what the managers' readers find, folder by folder, and what they remark.
func (s *surveyor) findings() (list []*ecosystem.Finding) {
	var roots []*ecosystem.Finding
	several := map[*ecosystem.Finding]bool{} // whether others were found in the same folder
	for _, folder := range s.Tree.Folders {
		if slices.Contains(strings.Split(folder.Path, "/"), ".github") {
			continue // of the checkout's host, for its build servers
		}
		folder.Roots, folder.Outer = roots, list
		folder.System, folder.Changed = s.opt.System, s.opt.Changed
		folder.Told = func() []ecosystem.Told { return s.toldFor(folder.Path) }
		found, errs := ecosystem.Read(folder)
		for _, err := range errs {
			s.Faults = append(s.Faults, stack.AllFaults(err)...)
		}
		for _, f := range found {
			if len(f.Members) > 0 {
				roots = append(roots, f)
			}
			several[f] = len(found) > 1
			list = append(list, f)
		}
	}
	ecosystem.Settle(list)
	for _, f := range list {
		s.found(f, several[f])
	}
	return list
}

// found keeps what was remarked of a finding, and completes its project.
func (s *surveyor) found(f *ecosystem.Finding, several bool) {
	p := &f.Project
	for i := range p.Parts {
		p.Parts[i].Framework = p.Framework
	}
	of := f
	for of.Within != nil {
		of = of.Within
	}
	for _, r := range f.Remarks {
		r.About = stack.AboutProject(of.Project.Path, of.Project.Manager)
		s.Stack.Remarks = append(s.Stack.Remarks, r)
	}
	if several && f.Within == nil {
		for i := range p.Steps {
			p.Steps[i].ID += "@" + p.Manager
		}
	}
	if p.NotHere != "" {
		s.Remark(stack.Note, stack.CodeNotForThisSystem, p.Evidence[0].Place(),
			fmt.Sprintf("%s is left out: %s", p.Path, p.NotHere),
			"Build it on the system that it is for.")
		p.Serve, p.Steps, p.Also, p.Runtimes = nil, nil, nil, nil
	}
}

// buildsFirst lets a member wait for the builds of the members that it asks for by name.
func (s *surveyor) buildsFirst(f *ecosystem.Finding, names map[string]*ecosystem.Finding) {
	var after []string
	for _, name := range f.Asks {
		other := names[name]
		if other == nil || other == f || other.Within != f.Within || other.Project.Serve != nil {
			continue
		}
		for _, step := range other.Project.Steps {
			if step.Role == stack.Build || step.Role == stack.Generate {
				after = append(after, step.ID)
			}
		}
	}
	if f.Project.Serve != nil {
		f.Project.Serve.AfterSteps = after
	}
	for i := range f.Project.Steps {
		if f.Project.Steps[i].Role == stack.Build {
			f.Project.Steps[i].AfterSteps = after
		}
	}
}

// fold makes a member a part of the project that it belongs to.
func fold(f *ecosystem.Finding) {
	p, member := &f.Within.Project, &f.Project
	p.Members = append(p.Members, member.Path)
	p.Members = append(p.Members, member.Members...)
	for _, st := range member.Steps {
		if st.Folder == "" {
			st.Folder = member.Path
		}
		p.Steps = append(p.Steps, st)
	}
	add := func(v stack.Serve) {
		if v.Folder == "" {
			v.Folder = member.Path
		}
		p.Also = append(p.Also, v)
	}
	if member.Serve != nil {
		add(*member.Serve)
	}
	for _, v := range member.Also {
		add(v)
	}
	for _, r := range member.Runtimes {
		if r.Constraint != "*" && !slices.Contains(p.Runtimes, r) {
			p.Runtimes = append(p.Runtimes, r)
		}
	}
	for _, b := range member.Bin {
		if !slices.Contains(p.Bin, b) {
			p.Bin = append(p.Bin, b)
		}
	}
	if member.Framework != "" {
		p.Evidence = append(p.Evidence,
			stack.Evidence{File: member.Evidence[0].File, Line: member.Evidence[0].Line,
				Says: "member with " + member.Framework})
	}
	p.Parts = append(p.Parts, member.Parts...)
	p.Sources, p.Compiles = append(p.Sources, member.Sources...), append(p.Compiles,
		member.Compiles...)
}

// versions adds the versions that files for the whole checkout, Dockerfiles and build servers name,
// and says where they contradict each other.
func (s *surveyor) versions(p *stack.Project) {
	tools := map[string]bool{}
	for _, r := range p.Runtimes {
		tools[r.Tool] = true
	}
	for _, r := range s.namedAround(p) {
		if tools[r.Tool] && !slices.Contains(p.Runtimes, r) {
			p.Runtimes = append(p.Runtimes, r)
		}
	}
	// A place that allows any version says nothing beside one that does.
	named := map[string]bool{}
	for _, r := range p.Runtimes {
		named[r.Tool] = named[r.Tool] || r.Constraint != "*" && !r.Hint
	}
	p.Runtimes = slices.DeleteFunc(p.Runtimes,
		func(r stack.Runtime) bool { return r.Constraint == "*" && named[r.Tool] })
	for i := range p.Runtimes {
		for k := range p.Runtimes[:i] {
			s.contradict(p.Runtimes, i, k)
		}
	}
}

// namedAround are the versions that are named for a project: in its folder and those around it, up
// to the checkout's, by files of version managers, Dockerfiles and build servers.
func (s *surveyor) namedAround(p *stack.Project) (out []stack.Runtime) {
	for dir := p.Path; ; dir = path.Dir(dir) {
		if f, ok := s.Tree.ByPath[dir]; ok {
			var files []string
			for _, d := range s.Tree.Dockerfiles {
				if path.Dir(d) == dir && dir == p.Path {
					files = append(files, path.Base(d))
				}
			}
			for _, w := range s.Tree.Workflows {
				if path.Dir(path.Dir(path.Dir(w))) == dir {
					files = append(files, strings.TrimPrefix(w, dir+"/"))
				}
			}
			out = slices.Concat(out, f.ToolVersions(), f.Hints(files))
		}
		if dir == "." || s.IsCheckout(dir) {
			return out
		}
	}
}

// contradict says that no version fits two places, once for the first two of several that say the
// same.
func (s *surveyor) contradict(all []stack.Runtime, later, earlier int) {
	a, b := all[later], all[earlier]
	if a.Tool != b.Tool || a.Hint && b.Hint ||
		agree(cmp.Or(a.Close, a.Constraint), cmp.Or(b.Close, b.Constraint)) {
		return
	}
	if slices.ContainsFunc(all[:earlier], func(o stack.Runtime) bool {
		return o.Tool == b.Tool && o.Constraint == b.Constraint && o.Hint == b.Hint
	}) {
		return // the same, by another place
	}
	level := stack.Warning
	if a.Hint || b.Hint {
		level = stack.Note
	}
	s.Remark(level, stack.CodeVersionsContradict, a.At,
		fmt.Sprintf("%s:%d asks for %s %s, this for %s: no version fits both", b.At.File, b.At.Line,
			a.Tool, b.Constraint, a.Constraint),
		"Find out which of them the project works with, and correct the other.")
}

// agree reports whether some version fits both constraints; what can't be read agrees with
// anything.
func agree(a, b string) bool {
	first, err := semver.NewConstraint(a)
	if err != nil {
		return true
	}
	second, err := semver.NewConstraint(b)
	if err != nil {
		return true
	}
	for _, text := range []string{a, b} {
		for _, word := range strings.FieldsFunc(text,
			func(r rune) bool { return (r < '0' || r > '9') && r != '.' }) {
			v, err := semver.NewVersion(strings.Trim(word, "."))
			if err != nil {
				continue
			}
			patch, minor, major := v.IncPatch(), v.IncMinor(), v.IncMajor()
			late := semver.New(v.Major(), v.Minor(), 9999, "", "")
			later := semver.New(v.Major(), 9999, 9999, "", "")
			before := semver.New(max(v.Major(), 1)-1, 9999, 9999, "", "")
			for _, c := range []*semver.Version{v, &patch, &minor, &major, late, later, before} {
				if first.Check(c) && second.Check(c) {
					return true
				}
			}
		}
	}
	return strings.Contains(a, "*") || strings.Contains(b, "*")
}
