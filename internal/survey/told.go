package survey

import (
	"io/fs"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/command"
	"nimbleharbor/internal/compose"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/readme"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/tree"
)

// composeSet are compose files that belong together.
type composeSet struct {
	dir   string      // that they are read from
	files []string    // nil for those that the folder has by its own
	at    stack.Place // where a README or a task starts them
}

// otherGoals are names of compose files for something else than work on the application.
var otherGoals = expr.New(`(?i)(^|[-_.])(prod(uction)?|staging|deploy(ment)?|tests?|testing|e2e|ci|sonar\w*|` +
	`monitoring|observability|legacy|old)([-_.]|$)`)

// chosen tells which compose files of a checkout are meant. Those that a README starts count before
// those that only lie there, and these before those that only a task starts; of several the ones
// with more servers, and then the ones that come first. COMPOSE_FILE goes before all.
func (s *composes) chosen(top string) (composeSet, bool) {
	own := composeSet{dir: top}
	has := s.HasCompose(top)
	sets := s.told(top)
	if named, _ := s.Lookup(top)("COMPOSE_FILE"); named != "" ||
		has && !slices.ContainsFunc(sets, composeSet.named) {
		return own, has
	}
	if !slices.ContainsFunc(sets, composeSet.named) {
		sets = append(sets, s.byTasks(top)...)
	}
	if has && !slices.ContainsFunc(sets,
		func(c composeSet) bool { return !c.named() && c.dir == top }) {
		sets = append(sets, own)
	}
	best, most := -1, -1
	for i, c := range sets {
		if servers := s.servers(c); servers > most {
			best, most = i, servers
		}
	}
	if best < 0 {
		return own, has
	}
	return sets[best], true
}

// named reports whether somebody has named the files.
func (c composeSet) named() bool { return c.files != nil }

// told lists what the READMEs at the top of a checkout start, in their order, by themselves or by
// tasks and scripts that they call. Those of its parts speak of a part alone.
func (s *composes) told(top string) (out []composeSet) {
	for _, d := range s.Demands {
		if readme.SpokenOf(d.At.File) != top {
			continue
		}
		for _, part := range d.Parts {
			out = s.addStarted(out, part, d.Cwd, d.At)
		}
	}
	return out
}

// onlyRun reports whether a compose service is there for tasks that run it once at a time: the
// instructions start others by their names, none that waits for it, and a task runs it. The place
// is that of the task.
func (s *composes) onlyRun(p *compose.Project, svc *stack.Service) (at stack.Place, only bool) {
	if len(svc.Ports) > 0 || svc.Build != "" {
		return at, false
	}
	started := s.startedByName()
	if len(started) == 0 || slices.Contains(started, svc.Name) ||
		slices.ContainsFunc(p.Services, func(o compose.Service) bool {
			return slices.ContainsFunc(o.After,
				func(a stack.After) bool { return a.Service == svc.Name })
		}) {
		return at, false
	}
	for i := range s.Stack.Projects {
		for _, t := range s.Stack.Projects[i].Targets {
			for _, c := range command.Lines(t.Lines) {
				if verb, args := command.ComposeCall(c.Words); verb == "run" && len(args) > 0 &&
					args[0] == svc.Name {
					return t.At, true
				}
			}
		}
	}
	return at, false
}

// startedByName are the compose services that instructions start by their names; none where they
// start all.
func (s *composes) startedByName() (names []string) {
	for _, d := range s.Demands {
		for _, part := range d.Parts {
			for _, l := range s.Commands.Leaves(part, d.Cwd) {
				verb, args := command.ComposeCall(l.Words)
				if verb == "up" && len(args) == 0 {
					return nil
				}
				if verb == "up" {
					names = append(names, args...)
				}
			}
		}
	}
	return names
}

// byTasks lists what the tasks and scripts at the top of a checkout start, in their order.
func (s *composes) byTasks(top string) (out []composeSet) {
	for _, p := range s.Stack.Projects {
		if p.Path != top {
			continue
		}
		for _, t := range p.Targets {
			if otherGoals.MatchString(t.Name) {
				continue
			}
			for _, part := range command.Lines(t.Lines) {
				out = s.addStarted(out, part, top, t.At)
			}
		}
	}
	return out
}

// addStarted adds the compose files that a command starts in the end, unless they are there
// already.
func (s *composes) addStarted(sets []composeSet, part shell.Command, cwd string,
	at stack.Place) []composeSet {
	for _, l := range s.Commands.Leaves(part, cwd) {
		if verb, _ := command.ComposeCall(l.Words); verb != "up" && verb != "start" {
			continue
		}
		c, ok := s.started(l.Cwd, command.ComposeFiles(l.Words))
		if c.at = at; ok && !slices.ContainsFunc(sets, func(o composeSet) bool {
			return o.dir == c.dir && slices.Equal(o.files, c.files)
		}) {
			sets = append(sets, c)
		}
	}
	return sets
}

// started is what a call in a folder starts that names these files, or none; ok is false if that
// isn't there, or is for another goal.
func (s *composes) started(cwd string, names []string) (c composeSet, ok bool) {
	c.dir = cwd
	for i, name := range names {
		file := path.Join(cwd, name)
		if i == 0 {
			c.dir = path.Dir(file)
		}
		if path.Dir(file) != c.dir || !s.isFile(file) || otherGoals.MatchString(path.Base(file)) {
			return c, false
		}
		c.files = append(c.files, file)
	}
	if slices.Equal(c.files, compose.Find(s.Files, c.dir, s.Lookup(c.dir))) {
		c.files = nil
	}
	return c, (c.named() || s.HasCompose(cwd)) && !tree.Aside.MatchString(c.dir) &&
		!ofDevContainer(c.dir+"/")
}

func (s *composes) isFile(name string) bool {
	info, err := fs.Stat(s.Files, name)
	return err == nil && info.Mode().IsRegular()
}

// isCalled reports whether a project of the checkout has that name.
func (s *composes) isCalled(name string) bool {
	return slices.ContainsFunc(s.Stack.Projects, func(p stack.Project) bool {
		return p.Serve != nil && (p.Name == name || path.Base(p.Path) == name)
	})
}

// ofApplication reports whether a set that nobody says to start is part of the application: it
// builds from the checkout or runs an image that only a project here makes, or half of its services
// at least are known servers.
func (s *composes) ofApplication(c composeSet) bool {
	p, _ := s.Compose(c.dir, c.files)
	if p == nil {
		return true // to be told why it can't be read
	}
	active, servers := 0, 0
	for i := range p.Services {
		v := &p.Services[i]
		if !v.Active {
			continue
		}
		if v.Build != "" || !strings.Contains(v.Image, "/") &&
			s.isCalled(protocol.ImageName(v.Image)) {
			return true
		}
		if active++; protocol.OfImage(v.Image) != nil {
			servers++
		}
	}
	return 2*servers >= active
}

// servers counts the services of a set whose images are known servers.
func (s *composes) servers(c composeSet) (n int) {
	p, _ := s.Compose(c.dir, c.files)
	if p == nil {
		return 0
	}
	for i := range p.Services {
		if v := &p.Services[i]; v.Active && protocol.OfImage(v.Image) != nil {
			n++
		}
	}
	return n
}
