package survey

import (
	"cmp"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/command"
	"nimbleharbor/internal/demand"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/facts"
	"nimbleharbor/internal/readme"
	"nimbleharbor/internal/rule"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// otherWork are names of scripts and tasks that nobody has to run before an application is served.
var otherWork = expr.New(
	`(?i)(^|[:._-])(lint|format|fmt|check|types?|test\w*|e2e|spec|coverage|clean|docs?|storybook|` +
		`watch|dev|start|serve|studio|console|shell|publish|release|deploy\w*|reset|drop|down|` +
		`stop|destroy|rollback|undo|prod\w*|build|preview|analy\w+|bench\w*|debug|docker\w*|help|` +
		`version|up|add|new|make|upgrade|update)([:._-]|$)`,
)

// toldRoles tell by a command's words what it is for, the first that fits.
var toldRoles = []struct {
	role stack.Role
	says *expr.Expr
}{
	{stack.Migrate, expr.New(`(?i)migrat|upgrade|schema|db[:_-]?push`)},
	{stack.Seed, expr.New(`(?i)seed|load|fixture|import|populat|sample|demo|users?|admin`)},
	{stack.Create, expr.New(`(?i)creat|init|set[-_]?up|bootstrap|prepare|onboard`)},
	{stack.Generate, expr.New(`(?i)gen|compil|assets|static|copy|i18n|messages|certs?|keys?`)},
}

// toldSteps makes steps of the commands that a README has between what installs and what serves a
// project, where they run something of the checkout and nothing else does them: in their place in
// the order, with the variables in front.
func (s *told) toldSteps() {
	byFile := map[string][]int{}
	for i, d := range s.Demands {
		if readme.IsInstructions(path.Base(d.At.File)) {
			byFile[d.At.File] = append(byFile[d.At.File], i)
		}
	}
	s.assetsFirst()
	for _, file := range s.Instructions {
		s.toldStepsOf(s.ReadmeOf(file), byFile[file])
	}
}

func (s *told) toldStepsOf(text *readme.Document, demands []int) {
	var installed bool
	var least stack.Role // what has been done by then
	var open []int
	served := map[stack.Doer]bool{} // what was installed, and is served by then
	for _, i := range demands {
		d := &s.Demands[i]
		by := s.lastBy(d)
		service, step := s.Stack.ServiceOf(by), s.Stack.StepOf(by)
		switch {
		case step != nil && step.Role == stack.Install:
			installed, least = true, stack.Install
			s.in = by
		case by == stack.ByFill || by == stack.ByClone || by == stack.ByNeeds ||
			s.onlyServers(d, by):
			installed = true
		case step != nil:
			least = step.Role
		case by == stack.ByLaunch || service != nil:
			for _, k := range open {
				s.toldStep(k, s.projectOfStep(s.with[k]))
			}
			installed, open, served[s.in] = false, nil, true
		case by == "" && installed && !served[s.in] &&
			!s.BesideWork(d.At):
			open = append(open, i)
			s.after[i], s.with[i] = least, s.in
		}
	}
}

// lastBy is what covers the last command of a line.
func (s *told) lastBy(d *facts.Demand) (by stack.Doer) {
	for _, part := range d.Parts {
		if len(part.Words) > 0 && part.Words[0] != "cd" {
			by = s.cover.By(part, path.Join(d.Cwd, part.Folder), 0)
		}
	}
	return by
}

// onlyServers reports whether what covers a command starts nothing but servers as they come, on
// which the application then works.
func (s *told) onlyServers(d *facts.Demand, by stack.Doer) bool {
	if v := s.Stack.ServiceOf(by); v != nil {
		return facts.IsServer(v)
	}
	return by == stack.ByLaunch && slices.ContainsFunc(d.Parts, func(c shell.Command) bool {
		verb, _ := command.ComposeCall(c.Words)
		return verb == "up" || verb == "start"
	}) && !slices.ContainsFunc(s.Stack.Services, func(v stack.Service) bool {
		return v.Source == stack.FromCompose && !facts.IsServer(&v)
	})
}

// toldStep makes a step of a README's command, if all of it is something of the checkout.
func (s *told) toldStep(number int, installed *stack.Project) {
	d := &s.Demands[number]
	if strings.ContainsAny(d.Command, "<>…") || s.saidToServe(d.Command) {
		return
	}
	for _, part := range d.Parts {
		role, _ := ecosystem.Meaning(part.Words)
		switch {
		case len(part.Words) == 0, part.Words[0] == "cd":
			continue
		case role == stack.Install && len(d.Parts) > 1:
			continue // the project's own step does that
		}
		cwd := path.Join(d.Cwd, part.Folder)
		p, beside, ok := s.prepares(part, cwd, installed)
		if !ok {
			return
		}
		role = toldRole(part, s.after[number])
		if beside != nil {
			role = stack.Build
		}
		if !s.addTold(d, part, p, beside, role) {
			return
		}
	}
}

// saidToServe reports whether the words behind a command, here or wherever instructions have the
// same, say that it starts what is served: it doesn't end, or is not needed beside the launch.
func (s *told) saidToServe(command string) bool {
	return slices.ContainsFunc(s.Demands, func(d facts.Demand) bool {
		text := s.ReadmeOf(d.At.File)
		if d.Command != command || text == nil || d.At.Line > len(text.Lines) {
			return false
		}
		_, comment, _ := strings.Cut(text.Lines[d.At.Line-1], " #")
		return startsServing.MatchString(comment)
	})
}

var startsServing = expr.New(`(?i)\b(then |and )(launch|start|run|serv)(e?s)?\b|\b(launch|start|` +
	`run)(es|s)? (the |all |its )?(web ?)?(servers?|services?|app\w*|api|ui)\b`)

// prepares reports whether a command prepares something of the checkout that a launch can do, and
// gives the project that it is of, and the service that is served out of the same folder where
// nothing of the project itself is.
func (s *told) prepares(part shell.Command, cwd string, installed *stack.Project) (
	p *stack.Project, beside *stack.Service, ok bool) {
	p = s.ProjectAt(cwd, part.Words)
	if of := ecosystem.Of(part.Words); of == nil && installed != nil && installed.Path == cwd {
		// of no ecosystem's own: what was installed just before is what it works with
		p = installed
	}
	if p == nil || part.Plumbed || part.Background {
		return nil, nil, false
	}
	if !s.UsesSteps(p) {
		if beside = s.servedBeside(p); beside == nil {
			return nil, nil, false
		}
	}
	if s.doesMore(part, cwd) || demand.AsksSomebody(part) { // as asks says
		return nil, nil, false
	}
	of := s.ofCheckout(part, cwd, p)
	return p, beside, of || beside != nil && s.buildsAssets(part, cwd)
}

// addTold adds a step; ok is false if the project has it already.
func (s *told) addTold(d *facts.Demand, part shell.Command, p *stack.Project,
	beside *stack.Service, role stack.Role) (ok bool) {
	cwd := path.Join(d.Cwd, part.Folder)
	id := string(role) + ":" + p.Path
	if s.SeveralAt(p.Path) {
		id += "@" + p.Manager
	}
	st := stack.Step{ID: id, Role: role, Command: s.cover.Told(p, part),
		Env: map[string]string{}, At: d.At}
	if cwd != p.Path {
		st.Folder = cwd
	}
	for _, set := range part.Set {
		key, value, _ := strings.Cut(set, "=")
		st.Env[key] = value
	}
	isThere := func(o stack.Step) bool { return o.ID == st.ID }
	if slices.ContainsFunc(p.Steps, isThere) {
		st.ID += "+" + processName(part.Words)
	}
	if slices.ContainsFunc(p.Steps, isThere) {
		return false
	}
	if t := s.Commands.Target(part.Words, cwd); t != nil &&
		ecosystem.ManagerNamed(part.Words[0]).Tasks {
		st.Expands = t.Lines
	}
	if beside != nil {
		for _, o := range p.Steps {
			if o.Role == stack.Install && !slices.Contains(beside.AfterSteps, o.ID) {
				beside.AfterSteps = append(beside.AfterSteps, o.ID)
			}
		}
		beside.AfterSteps = append(beside.AfterSteps, st.ID)
	}
	p.Steps = append(p.Steps, st)
	slices.SortStableFunc(p.Steps,
		func(a, b stack.Step) int { return cmp.Compare(a.Role.Rank(), b.Role.Rank()) })
	return true
}

// doesMore reports whether a command comes to more than a step may do: it works on the machine
// itself, brings the code again, or serves; or it ends in an install, as the project's own step
// does.
func (s *told) doesMore(part shell.Command, cwd string) bool {
	leaves := s.Commands.Leaves(part, cwd)
	if len(leaves) > 0 {
		if role, _ := ecosystem.Meaning(leaves[len(leaves)-1].Words); role == stack.Install {
			return true
		}
	}
	return slices.ContainsFunc(leaves, isMore)
}

// isMore reports whether a command is none of preparing a project: it changes the machine, brings
// other code, or serves.
func isMore(l command.Leaf) bool {
	words := l.Words
	if words[0] == "exec" && len(words) > 1 {
		words = words[1:]
	}
	role, _ := ecosystem.Meaning(words)
	second := ""
	if len(words) > 1 {
		second = words[1]
	}
	switch {
	case l.Background, words[0] == "sudo", words[0] == "git" && second == "clone":
		return true
	case ecosystem.Installs(words[0]) && role == ecosystem.SetsUp:
		return true
	case second != "" && mayLast.MatchString(second):
		return true
	}
	return role == ecosystem.Serves && path.Ext(second) == "" && !ecosystem.RunsHelper(words)
}

// mayLast are first words after a program by which many go on for as long as one works.
var mayLast = expr.New(`^(dev(server)?|serve|server|start|watch|studio|preview|listen|run-?server)$`)

// servedBeside is the native service of another project in the folder of one that serves nothing
// itself; nil if there is none.
func (s *told) servedBeside(p *stack.Project) *stack.Service {
	for i := range s.Stack.Services {
		if v := &s.Stack.Services[i]; v.Runs == stack.Native && v.Dir() == p.Path &&
			v.Manager != p.Manager && len(v.Ports) > 0 {
			return v
		}
	}
	return nil
}

// buildsAssets reports whether a command is the script that builds.
func (s *told) buildsAssets(part shell.Command, cwd string) bool {
	usual := ecosystem.Canonical(part.Words)
	return len(usual) > 1 && usual[0] == "script" && strings.HasPrefix(usual[1], "build") &&
		s.HasScript(usual[1], cwd)
}

// projectOfStep is the project that has a step; nil if none has.
func (s *told) projectOfStep(by stack.Doer) *stack.Project {
	step := s.Stack.StepOf(by)
	if step == nil {
		return nil
	}
	for i := range s.Stack.Projects {
		p := &s.Stack.Projects[i]
		if slices.ContainsFunc(p.Steps, func(st stack.Step) bool { return st.ID == step.ID }) {
			return p
		}
	}
	return nil
}

// toldRole is what a command is for by its words, but not before what the README does before it.
func toldRole(part shell.Command, least stack.Role) stack.Role {
	role := stack.Generate
	for _, r := range toldRoles {
		if r.says.MatchString(strings.Join(part.Words, " ")) {
			role = r.role
			break
		}
	}
	if role.Rank() < least.Rank() {
		return least
	}
	return role
}

// ofCheckout reports whether a command runs something of the checkout that prepares it: a script or
// a task by its name, a program or a file of it, or a command of the project's framework.
func (s *told) ofCheckout(part shell.Command, cwd string, p *stack.Project) bool {
	words := ecosystem.Canonical(part.Words)
	role, of := ecosystem.Meaning(part.Words)
	if len(words) > 1 && role == ecosystem.Serves && path.Ext(words[1]) != "" &&
		preparesByName(words[1]) {
		role = "" // a file that an interpreter runs need not serve
	}
	if ecosystem.RunsHelper(words) {
		return p.Ecosystem == of.Name
	}
	if len(words) == 0 || role != "" || of != nil && of.Name != p.Ecosystem {
		return false
	}
	o := &own{told: s, part: part, words: words, cwd: cwd}
	r := rule.First(ownRules, o)
	return r != nil && r.Then(o)
}

// own is a command that may run something of the checkout.
type own struct {
	*told
	part  shell.Command
	words []string // in the form that all managers' calls share
	cwd   string
}

// fits reports whether a name is not one of work that is none of getting something to run.
func (o *own) fits(name string) bool { return !otherWork.MatchString(name) }

// ownRules tell by the kind of a command whether it is one.
var ownRules = []rule.Rule[*own, func(*own) bool]{
	ownIf("a script", func(o *own) bool { return o.words[0] == "script" }, func(o *own) bool {
		return len(o.words) > 1 && o.fits(o.words[1]) && o.cover.WhyNot(o.part, o.cwd) == "" &&
			o.HasScript(o.words[1], o.cwd)
	}),
	ownIf("a task", func(o *own) bool { return ecosystem.ManagerNamed(o.words[0]).Tasks },
		func(o *own) bool {
			t := o.Commands.Target(o.part.Words, o.cwd)
			return t != nil && o.fits(t.Name) && !ecosystem.InContainers(t)
		}),
	ownIf("a file of commands", func(o *own) bool { return command.File(o.words) != "" },
		func(o *own) bool {
			file := command.File(o.words)
			return o.Exists(path.Join(o.cwd, file)) &&
				o.fits(strings.TrimSuffix(path.Base(file), ".sh"))
		}),
	ownIf("a program by its path", func(o *own) bool { return strings.Contains(o.words[0], "/") },
		func(o *own) bool {
			return o.Exists(path.Join(o.cwd, o.words[0])) && o.fits(path.Base(o.words[0]))
		}),
	// and what the file is to do
	ownIf("an interpreter with a file", func(o *own) bool {
		return len(o.words) > 1 && o.Exists(path.Join(o.cwd, o.words[1]))
	}, func(o *own) bool {
		stem := strings.TrimSuffix(path.Base(o.words[1]), path.Ext(o.words[1]))
		return ecosystem.IsProgram(o.words[0]) && o.fits(stem) && o.fits(o.words[len(o.words)-1])
	}),
	ownIf("a program of the packages, or of the project itself", func(o *own) bool {
		return ecosystem.IsProgram(o.words[0]) || o.OfPackages(o.words, o.cwd) ||
			o.Brings(o.words[0], o.cwd)
	}, func(o *own) bool {
		sub := o.subCommand()
		return len(sub) > 0 && !slices.ContainsFunc(sub, otherWork.MatchString) &&
			slices.ContainsFunc(sub, saysRole)
	}),
}

func ownIf(name string, when, is func(*own) bool) rule.Rule[*own, func(*own) bool] {
	return rule.Rule[*own, func(*own) bool]{Name: name, When: when, Then: is}
}

// subCommand are the words behind a program that tell it what to do: those before its options.
func (o *own) subCommand() []string {
	words := o.words[1:]
	if i := slices.IndexFunc(words,
		func(w string) bool { return strings.HasPrefix(w, "-") }); i >= 0 {
		words = words[:i]
	}
	return words[:min(len(words), 2)]
}

// saysRole reports whether a word says what a command prepares.
func saysRole(word string) bool {
	for _, r := range toldRoles {
		if r.says.MatchString(word) {
			return true
		}
	}
	return false
}

// preparesByName reports whether a file's name says that it prepares something.
func preparesByName(file string) bool {
	return saysRole(strings.TrimSuffix(path.Base(file), path.Ext(file)))
}
