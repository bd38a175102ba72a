// Package mend leads from what a launch has said of its failures to what can be done about them
// without losing anything: acts, each by a cause that diagnose knows. It decides and does nothing;
// who launches does what was agreed to, and launches again.
package mend

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/rule"
	"nimbleharbor/internal/stack"
)

// Most is how many acts one launch does: an application that needs more is not understood.
const Most = 8

// Act is one thing that is done about a failure.
type Act struct {
	ID    stack.NodeID // whose failure
	Cause string       // its code
	Says  string       // what is done, as a sentence without an end

	// One of these is set. Again is a step of the project that is done once more; After a service
	// that the failing one waits for from now on; Provide a kind of server that is run beside the
	// stack; Setting a key that is made up, and written into File.
	Again         stack.NodeID
	After         string
	Provide       string
	Setting, File string
	// Port is the one on which the service waited for listens, where none of it was known.
	Port int
}

// Lesson reports whether the next launch has to begin with the act: what is done again is done for
// good by itself.
func (a *Act) Lesson() bool { return a.After != "" || a.Provide != "" }

// Key tells an act from others: each is done once.
func (a *Act) Key() string {
	return strings.Join([]string{string(a.ID), a.Cause, string(a.Again), a.After, a.Provide,
		a.Setting}, "\x00")
}

// failing is a failure with what is known of whose it is.
type failing struct {
	stack.Failure
	stack   *stack.Stack
	sight   Sight
	service *stack.Service // nil for a step
	project *stack.Project // nil where nothing of a project runs
}

// Sight is what is asked about the machine and the checkout before an act is named.
type Sight struct {
	// Unchanged reports whether a step was left out of this launch, since it counts as done: one
	// that was just done helps no more when it is done again.
	Unchanged func(step stack.NodeID) bool
	// Serves tells which service of the stack listens on a port, whatever its files say; empty for
	// none.
	Serves func(port int) string
	// Committed reports whether a file is under version control: no such file is edited.
	Committed func(file string) bool
	// MadeUp reports whether a setting's value can be made up for a project's framework.
	MadeUp func(key, framework string) bool
}

// Acts are what can be done about failures. Those that were done before, by their keys, are left
// out: a cause that comes again was not mended by its act. A failure that follows from another has
// no cause of its own and gets no act.
func Acts(s *stack.Stack, failures []stack.Failure, sight Sight, done map[string]bool) (out []Act) {
	for _, f := range failures {
		known := of(s, f)
		known.sight = sight
		r := rule.First(rules, known)
		if r == nil {
			continue
		}
		a := r.Then(known)
		if a == nil {
			continue
		}
		a.ID, a.Cause = f.ID, f.Code
		same := func(o Act) bool {
			return o.Again == a.Again && o.After == a.After && o.Provide == a.Provide &&
				o.Setting == a.Setting && o.File == a.File
		}
		if !done[a.Key()] && !slices.ContainsFunc(out, func(o Act) bool {
			return same(o) && (o.After == "" || o.ID == a.ID)
		}) {
			out = append(out, *a)
		}
	}
	return out
}

func of(s *stack.Stack, f stack.Failure) *failing {
	out := &failing{Failure: f, stack: s}
	if name, ok := f.ID.Service(); ok {
		if out.service = s.Service(name); out.service != nil {
			out.project = s.Project(out.service.Project, out.service.Manager)
		}
		return out
	}
	for i := range s.Projects {
		p := &s.Projects[i]
		if slices.ContainsFunc(p.Steps,
			func(st stack.Step) bool { return stack.StepNode(st.ID) == f.ID }) {
			out.project = p
		}
	}
	return out
}

// rules lead from the code of a cause to an act; nil where nothing fits this failure.
var rules = []rule.Rule[*failing, func(*failing) *Act]{
	by("what an install brings is missing", func(f *failing) *Act { return f.again(stack.Install) },
		"package-missing", "package-missing-python", "package-missing-ruby", "package-missing-php",
		"package-missing-go", "dependencies-unfetched"),
	by("the database is behind", func(f *failing) *Act { return f.again(stack.Migrate) },
		"table-missing", "column-missing"),
	by("generated code is missing", func(f *failing) *Act { return f.again(stack.Generate) },
		"client-not-generated"),
	by("a build's result is missing", func(f *failing) *Act { return f.again(stack.Build) },
		"build-output-missing"),
	by("a setting is missing", (*failing).setting, "setting-missing"),
	by("nobody listens where it connects to", (*failing).server, "connection-refused"),
}

func by(name string, act func(*failing) *Act, codes ...string,
) rule.Rule[*failing, func(*failing) *Act] {
	return rule.Rule[*failing, func(*failing) *Act]{Name: name, Then: act,
		When: func(f *failing) bool { return slices.Contains(codes, f.Code) }}
}

// again is the step of the failing one's project for that; what a container runs is not ours to do
// again.
func (f *failing) again(role stack.Role) *Act {
	if f.project == nil || f.service != nil && f.service.Runs != stack.Native {
		return nil
	}
	for _, st := range f.project.Steps {
		if id := stack.StepNode(st.ID); st.Role == role && id != f.ID && f.sight.Unchanged(id) {
			return &Act{Again: id, Says: fmt.Sprintf("%s is done once more", id.Title())}
		}
	}
	return nil
}

// setting makes up a secret that the program makes up for itself, and puts it into the settings
// file that it reads, where that is one of this folder alone.
func (f *failing) setting() *Act {
	if f.service == nil || f.Of == "" {
		return nil
	}
	framework := ""
	if f.project != nil {
		framework = f.project.Framework
	}
	if !f.sight.MadeUp(f.Of, framework) {
		return nil
	}
	for _, ref := range slices.Backward(f.service.EnvFiles) {
		known := slices.ContainsFunc(f.stack.EnvFiles,
			func(e stack.EnvFile) bool { return e.Path == ref.Path })
		if known && !f.sight.Committed(ref.Path) {
			return &Act{Setting: f.Of, File: ref.Path,
				Says: fmt.Sprintf("%s is made up, and written into %s", f.Of, ref.Path)}
		}
	}
	return nil
}

// server waits for the service of the stack that has the port which refused, or has a server run
// that nothing here offers.
func (f *failing) server() *Act {
	port, err := strconv.Atoi(f.Of[strings.LastIndexByte(f.Of, ':')+1:])
	if f.service == nil || err != nil {
		return nil
	}
	now := ""
	if !slices.ContainsFunc(f.stack.Services, func(v stack.Service) bool { return has(&v, port) }) {
		now = f.sight.Serves(port)
	}
	for i := range f.stack.Services {
		v := &f.stack.Services[i]
		switch {
		case !has(v, port) && v.Name != now || v.Name == f.service.Name:
		case f.waitsFor(v, f.service.Name, map[string]bool{}):
			return nil // each would wait for the other
		case slices.ContainsFunc(f.service.After,
			func(a stack.After) bool { return a.Service == v.Name && a.Until != stack.Begun }):
			return nil // it waited already, and was refused all the same
		default:
			a := &Act{After: v.Name, Says: fmt.Sprintf("%s waits until %s answers",
				f.service.Name, v.Name)}
			if len(v.Ports) == 0 {
				a.Port = port
			}
			return a
		}
	}
	known := protocol.OfPort("", port)
	if w := (&stack.Server{Speaks: known, Port: port}); plan.Providable(w) &&
		slices.ContainsFunc(f.stack.Servers,
			func(o stack.Server) bool { return o.Speaks == known }) {
		return &Act{Provide: known, Says: fmt.Sprintf("a %s is run beside the stack, on port %d",
			known, port)}
	}
	return nil
}

func has(v *stack.Service, port int) bool {
	return slices.ContainsFunc(v.Ports,
		func(p stack.Port) bool { return p.Host == port || p.Target == port })
}

// waitsFor reports whether a service waits for another one, directly or by way of others.
func (f *failing) waitsFor(v *stack.Service, name string, seen map[string]bool) bool {
	if seen[v.Name] {
		return false
	}
	seen[v.Name] = true
	return slices.ContainsFunc(v.After, func(a stack.After) bool {
		o := f.stack.Service(a.Service)
		return a.Service == name || o != nil && f.waitsFor(o, name, seen)
	})
}
