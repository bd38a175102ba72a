package survey

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/corrections"
	"nimbleharbor/internal/stack"
)

// correctionsOf reads what people have corrected.
func (s *surveyor) correctionsOf() (err error) {
	s.corrections, err = corrections.Read(s.Files)
	return err
}

// correct applies the corrections to what was concluded.
func (s *surveyor) correct() {
	for _, name := range slices.Sorted(maps.Keys(s.corrections.Service)) {
		s.correctService(name, s.corrections.Service[name])
	}
	for _, id := range slices.Sorted(maps.Keys(s.corrections.Step)) {
		s.correctStep(id, s.corrections.Step[id])
	}
	for _, name := range slices.Sorted(maps.Keys(s.corrections.Project)) {
		fix := s.corrections.Project[name]
		i := slices.IndexFunc(s.Stack.Projects,
			func(p stack.Project) bool { return p.Path == name })
		if i < 0 {
			s.unknown("project", name, fix.At)
			continue
		}
		if fix.Framework != nil {
			s.Stack.Projects[i].Framework = *fix.Framework
		}
		if fix.LeaveOut != nil && *fix.LeaveOut {
			s.Stack.Services = slices.DeleteFunc(s.Stack.Services,
				func(v stack.Service) bool { return v.Runs == stack.Native && v.Project == name })
			s.Stack.Projects = slices.Delete(s.Stack.Projects, i, i+1)
		}
	}
	s.questions()
}

func (s *surveyor) unknown(what, name string, at stack.Place) {
	s.Faults = append(s.Faults, &stack.Fault{Kind: stack.Unreadable,
		Code: stack.CodeCorrectionsUnknown, At: at,
		Text: fmt.Sprintf("there is no %s %q to correct", what,
			name), Remedy: "See what there is: nharbor survey"})
}

func (s *surveyor) correctStep(id string, fix corrections.StepFix) {
	words, _ := corrections.WordsOf(fix.Command)
	for i := range s.Stack.Projects {
		p := &s.Stack.Projects[i]
		k := slices.IndexFunc(p.Steps, func(st stack.Step) bool { return st.ID == id })
		if k < 0 {
			continue
		}
		if fix.LeaveOut != nil && *fix.LeaveOut {
			p.Steps = slices.Delete(p.Steps, k, k+1)
			return
		}
		st := &p.Steps[k]
		if words != nil {
			st.Command, st.At, st.Expands = words, fix.At, nil
		}
		if fix.Inputs != nil {
			st.Inputs = fix.Inputs
		}
		if fix.EveryTime != nil {
			st.EveryTime = *fix.EveryTime
		}
		return
	}
	// A step that survey didn't find: ROLE:FOLDER.
	role, dir, _ := strings.Cut(id, ":")
	if p := s.Stack.Project(dir, ""); p != nil && words != nil &&
		(stack.Role(role) == stack.Install || stack.Role(role).Rank() > 0) {
		p.Steps = append(p.Steps, stack.Step{ID: id, Role: stack.Role(role), Command: words,
			Env: map[string]string{},
			At:  fix.At, Inputs: fix.Inputs, EveryTime: fix.EveryTime != nil && *fix.EveryTime})
		slices.SortStableFunc(p.Steps,
			func(a, b stack.Step) int { return a.Role.Rank() - b.Role.Rank() })
		return
	}
	s.unknown("step", id, fix.At)
}

func (s *surveyor) correctService(name string, fix corrections.ServiceFix) {
	words, _ := corrections.WordsOf(fix.Command)
	v := s.Stack.Service(name)
	leaves := fix.LeaveOut != nil && *fix.LeaveOut
	switch {
	case v == nil && (leaves || words == nil):
		s.unknown("service", name, fix.At)
		return
	case leaves:
		s.leaveOut(name)
		return
	case v == nil:
		s.Stack.Services = append(s.Stack.Services,
			stack.Service{Name: name, Source: stack.FromStackFile, Runs: stack.Native,
				Kind: stack.Lasting, Project: ".", Env: map[string]string{}, At: fix.At})
		v = &s.Stack.Services[len(s.Stack.Services)-1]
	}
	if fix.Folder != nil {
		s.moveTo(v, path.Clean(*fix.Folder))
	}
	if fix.Runs != nil && *fix.Runs != v.Runs && !runsAs(v, *fix.Runs, words) {
		s.Faults = append(s.Faults, &stack.Fault{Kind: stack.Unreadable,
			Code: stack.CodeCorrectionsWrong, At: fix.At,
			Text:   fmt.Sprintf("%s can't run %s: nothing here says how", name, *fix.Runs),
			Remedy: "Add its command, or a Dockerfile."})
	}
	correctWords(&fix, v, words)
	correctPort(&fix, v)
	correctEnv(&fix, v)
	s.correctWaits(v, fix)
}

// leaveOut takes a service away, and what waits for it.
func (s *surveyor) leaveOut(name string) {
	s.Stack.Services = slices.DeleteFunc(s.Stack.Services,
		func(v stack.Service) bool { return v.Name == name })
	for i := range s.Stack.Services {
		other := &s.Stack.Services[i]
		other.After = slices.DeleteFunc(slices.Clone(other.After),
			func(a stack.After) bool { return a.Service == name })
	}
}

// moveTo gives a service the folder that it runs in, and the project there.
func (s *surveyor) moveTo(v *stack.Service, dir string) {
	if p := s.Stack.Project(dir, ""); p != nil {
		v.Project, v.Manager, v.Folder, v.Bin = dir, p.Manager, "", p.Bin
	} else {
		v.Folder = dir
	}
}

// runsAs has a service run in the other way, if that is known.
func runsAs(v *stack.Service, way stack.Way, words []string) bool {
	switch {
	case way == stack.Native && (len(v.NativeCommand) > 0 || words != nil):
		v.Runs, v.Address, v.Command = stack.Native, "", v.NativeCommand
	case way == stack.Container && v.Container != nil:
		v.Runs, v.Address, v.Command = stack.Container, v.Name, nil
	default:
		return false
	}
	return true
}

// correctWords corrects what a service runs, and whether it does so for ever.
func correctWords(fix *corrections.ServiceFix, v *stack.Service, words []string) {
	if words != nil {
		v.Command, v.Expands, v.At = words, nil, fix.Place("command")
		if v.Runs == stack.Native {
			v.NativeCommand = words
		}
	}
	if fix.Kind != nil {
		v.Kind = *fix.Kind
	}
	if fix.Restart != nil {
		v.Restart, v.RestartOnFailure, v.RestartTimes = *fix.Restart, false, 0
	}
	if fix.EveryTime != nil {
		v.Remembered = !*fix.EveryTime
	}
}

// correctPort corrects where a service listens, and what it speaks there.
func correctPort(fix *corrections.ServiceFix, v *stack.Service) {
	if fix.Port != nil {
		if len(v.Ports) == 0 {
			v.Ports = []stack.Port{{Target: *fix.Port, Transport: "tcp", Speaks: "http"}}
		}
		v.Ports[0].Host, v.Ports[0].At = *fix.Port, fix.Place("port")
		if v.Runs == stack.Native {
			v.Ports[0].Target = *fix.Port
		}
	}
	if fix.Speaks != nil && len(v.Ports) > 0 {
		v.Ports[0].Speaks = *fix.Speaks
	}
}

// correctEnv adds variables to those that a service gets.
func correctEnv(fix *corrections.ServiceFix, v *stack.Service) {
	if len(fix.Env) == 0 {
		return
	}
	if v.Env == nil {
		v.Env = map[string]string{}
	}
	if v.EnvAt == nil {
		v.EnvAt = map[string]stack.Place{}
	}
	for k, value := range fix.Env {
		v.Env[k], v.EnvAt[k] = value, fix.At
	}
}

// correctWaits has a service wait for others.
func (s *surveyor) correctWaits(v *stack.Service, fix corrections.ServiceFix) {
	for _, text := range fix.After {
		other, until, _ := corrections.AfterOf(text)
		if s.Stack.Service(other) == nil && s.corrections.Service[other].Command == nil {
			s.unknown("service", other, fix.At)
			continue
		}
		v.After = slices.DeleteFunc(slices.Clone(v.After),
			func(a stack.After) bool { return a.Service == other })
		v.After = append(v.After, stack.After{Service: other, Until: until, Because: stack.Declared,
			At: fix.Place("after"), Reason: fix.Place("after").File + " says so"})
	}
}

// learned is what a launch has seen of a service that none of its files says: whom it waits for,
// and on which port it listens; 0 for none.
func learned(v *stack.Service) (waits []stack.After, port int) {
	for _, a := range v.After {
		if a.Sure == stack.Seen {
			waits = append(waits, a)
		}
	}
	if len(v.Ports) > 0 && v.Ports[0].Sure == stack.Seen && v.Ports[0].At.IsZero() {
		port = v.Ports[0].Host
	}
	return waits, port
}

// HasLearned reports whether a launch has seen something of the stack that none of its files says.
func HasLearned(s *stack.Stack) bool {
	return slices.ContainsFunc(s.Services, func(v stack.Service) bool {
		waits, port := learned(&v)
		return len(waits) > 0 || port > 0
	})
}

// Draft writes corrections that change nothing: every conclusion as a comment, to be taken out of
// it and altered. What launches had to learn is no comment: whoever has the file needs not learn
// it.
func Draft(s *stack.Stack) string {
	var out strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&out, format+"\n", args...) }
	what := "Everything here is a comment and changes nothing"
	if HasLearned(s) {
		what = "What a launch had to learn counts; all else is a comment and changes nothing"
	}
	line("# What nharbor concluded about this workspace. %s:", what)
	line("# take the # away from a table and the keys to correct. Commit the file; what is for " +
		"you " +
		"alone goes into")
	line("# %s, which has the same form and goes on top.", corrections.LocalFile)
	quote := func(words []string) string {
		var list []string
		for _, w := range words {
			list = append(list, fmt.Sprintf("%q", w))
		}
		return "[" + strings.Join(list, ", ") + "]"
	}
	for _, p := range s.Projects {
		line("\n# %s, %s: %s", p.Path, p.Manager, p.Evidence[0].File)
		line("#[project.%q]", p.Path)
		line("#leave-out = false")
		for _, st := range p.Steps {
			line("#[step.%q]  # %s:%d", st.ID, st.At.File, st.At.Line)
			line("#command = %s", quote(st.Command))
			line("#every-time = %v", st.EveryTime)
		}
	}
	for _, v := range s.Services {
		line("\n# %s, known from %s:%d", v.Name, v.At.File, v.At.Line)
		waits, port := learned(&v)
		if len(waits) > 0 || port > 0 {
			line("[service.%q]", v.Name)
			var after []string
			for _, a := range waits {
				line("# %s: %s", a.Service, a.Reason)
				after = append(after, a.Service+" "+string(a.Until))
			}
			if len(after) > 0 {
				line("after = %s", quote(after))
			}
			if port > 0 {
				line("# a launch has seen it listen there")
				line("port = %d", port)
			}
			continue
		}
		line("#[service.%q]", v.Name)
		line("#leave-out = false")
		line("#runs = %q", v.Runs)
		line("#kind = %q", v.Kind)
		if v.Runs == stack.Native {
			line("#command = %s", quote(v.Command))
			line("#folder = %q", v.Dir())
		}
		if len(v.Ports) > 0 {
			line("#port = %d", cmp.Or(v.Ports[0].Host, v.Ports[0].Target))
			line("#speaks = %q", v.Ports[0].Speaks)
		}
		var after []string
		for _, a := range v.After {
			after = append(after, a.Service+" "+string(a.Until))
		}
		line("#after = %s", quote(after))
	}
	return out.String()
}
