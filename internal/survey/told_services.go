package survey

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/claim"
	"nimbleharbor/internal/code"
	"nimbleharbor/internal/command"
	"nimbleharbor/internal/corrections"
	"nimbleharbor/internal/demand"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/facts"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/readme"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// told makes services and steps of what instructions tell to run.
type told struct {
	*facts.Facts
	cover   *demand.Coverage
	natives *natives
	// after is, by the number of a demand, what the README does before it.
	after map[int]stack.Role
	// in is the step of the install that a README's commands come after; with the same for each of
	// them.
	in   stack.Doer
	with map[int]stack.Doer
}

// A README is a witness of its own: where nothing else in the checkout serves, what it says to run
// does; what it says to run in a second terminal runs beside that.

// otherTerminal is how people say that a command goes on for as long as one works.
var otherTerminal = expr.New(
	`(?i)\b(another|second|third|fourth|separate|new|different|other)\s+(terminal|shell|console|` +
		`tab|window|command (prompt|line))\b`)

// firstTerminal is how they say so of the first of several.
var firstTerminal = expr.New(`(?i)\b(first|one)\s+(terminal|shell|console|tab|window)\b`)

// besides reports whether the text just above a command, below the command before it, sends it to a
// second terminal.
func besides(t *readme.Document, line, before int) bool {
	for i := line - 1; i >= max(1, before+1, line-8); i-- {
		if text := t.Line(i); otherTerminal.MatchString(text) ||
			firstTerminal.MatchString(text) && goesOnElsewhere(t, line) {
			return true
		}
	}
	return false
}

// goesOnElsewhere reports whether a text sends its reader to another terminal below a line.
func goesOnElsewhere(t *readme.Document, line int) bool {
	return slices.ContainsFunc(t.Lines[min(line, len(t.Lines)):], otherTerminal.MatchString)
}

// toldServices makes services of what READMEs say to run, where nothing else serves, and of what
// they say to run in a second terminal beside what is served.
func (s *told) toldServices() {
	for i, d := range s.Demands {
		if !readme.IsInstructions(path.Base(d.At.File)) || strings.ContainsAny(d.Command, "<>") {
			continue
		}
		if demand.MadeUp.MatchString(d.Command) {
			s.startsWithOnesOwn(d)
			continue
		}
		text, before := s.ReadmeOf(d.At.File), 0
		if i > 0 && s.Demands[i-1].At.File == d.At.File {
			before = s.Demands[i-1].At.Line
		}
		if s.BesideWork(d.At) {
			continue
		}
		besides := besides(text, d.At.Line, before)
		for _, part := range d.Parts {
			s.toldToRun(d, part, text, besides)
		}
	}
}

// toldToRun makes a service of a README's command that nothing does yet: beside what is served
// there, where nothing is, or instead of what was only guessed.
func (s *told) toldToRun(d facts.Demand, part shell.Command, text *readme.Document, besides bool) {
	cwd := path.Join(d.Cwd, part.Folder)
	if len(part.Words) == 0 || part.Words[0] == "cd" || !s.Commands.IsFolder(cwd) ||
		s.natives.asideWhy(cwd) != "" || s.cover.By(part, cwd, 0) != "" {
		return
	}
	serves := func() bool { return s.toldToServe(part, cwd, text, d.At.Line) }
	any := s.natives.anyServes(cwd)
	switch {
	case besides && any && s.lasts(part, cwd):
		s.toldService(d, part, cwd, true)
	case !any && serves():
		s.toldService(d, part, cwd, false)
	case s.ownProgram(part.Words, cwd) || s.ownFile(part.Words, cwd):
		if only := s.onlyNative(cwd); only != nil && serves() {
			s.insteadOf(only, d, part, cwd)
		}
	}
}

// startsWithOnesOwn says that the instructions start the project's own program with a path that
// stands for one of the reader's: nobody can start it that way, and what was only guessed to serve
// isn't what does.
func (s *told) startsWithOnesOwn(d facts.Demand) {
	for _, part := range d.Parts {
		cwd := path.Join(d.Cwd, part.Folder)
		if s.BesideWork(d.At) || !s.ownProgram(part.Words, cwd) ||
			!s.toldToServe(part, cwd, s.ReadmeOf(d.At.File), d.At.Line) {
			continue
		}
		guessed := func(v stack.Service) bool {
			return v.Dir() == cwd && v.Runs == stack.Native && v.Source == stack.FromFramework
		}
		name := path.Base(cwd)
		if cwd == "." {
			name = path.Base(s.Root)
		}
		if i := slices.IndexFunc(s.Stack.Services, guessed); i >= 0 {
			name = s.Stack.Services[i].Name
			s.Stack.Services = slices.Delete(s.Stack.Services, i, i+1)
		}
		if slices.ContainsFunc(s.Stack.Services, func(v stack.Service) bool {
			return v.Runs == stack.Native && v.Dir() == cwd || v.Build == cwd
		}) {
			return // in a way that somebody has written
		}
		s.Remark(stack.Problem, stack.CodeStartMadeUp, d.At, fmt.Sprintf(
			"the program is started with a path that stands for one of yours: %s", part.Text),
			fmt.Sprintf("Write it with a path of your own into %s: [service.%s] with command = "+
				"\"…\" and port = ….", corrections.File, name))
		return
	}
}

// insteadOf lets a README's program that the folder's project brings itself take the place of what
// is served, if its word counts more.
func (s *told) insteadOf(served *stack.Service, d facts.Demand, part shell.Command, cwd string) {
	own := claim.Claim[string]{Value: strings.Join(served.Command, " "),
		Witness: wayBy(s.Facts, served), At: served.At}
	said := claim.Claim[string]{Value: part.Text, Witness: claim.Readme, At: d.At}
	if first, _ := claim.Judge(claim.OfCommand, own, said).Counts(); first != said {
		return
	}
	name, build, container, address := served.Name, served.Build, served.ContainerWay, served.Address
	s.Stack.Services = slices.DeleteFunc(s.Stack.Services,
		func(v stack.Service) bool { return v.Name == name })
	name = s.toldService(d, part, cwd, false)
	if v := s.Stack.Service(name); container.Container != nil { // it is packed as it was
		v.Build, v.ContainerWay, v.Address = build, container, address
	}
	s.OtherWays[name] = append(s.OtherWays[name], own)
}

// toldVerbs gives a service that is compiled and run the words by which the README has its program
// serve: PROGRAM run.
func (s *told) toldVerbs() {
	for i := range s.Stack.Services {
		v := &s.Stack.Services[i]
		names, given := s.ProgramOf(v)
		if len(given) > 0 || v.Source != stack.FromFramework && v.Source != stack.FromScript {
			continue
		}
		if verbs := s.verbsOf(names, v.Dir()); len(verbs) > 0 {
			v.NativeCommand = ecosystem.WithWords(v.NativeCommand, verbs)
			v.Command = v.NativeCommand
		}
	}
}

// reloads are options by which a server follows what is edited.
var reloads = expr.New(`^--(reload|debug|watch|hot|live-?reload)$`)

// toldReloads gives a service that is called as its framework usually is the options by which the
// instructions have it follow what is edited.
func (s *told) toldReloads() {
	for _, d := range s.Demands {
		if s.BesideWork(d.At) {
			continue
		}
		for _, part := range d.Parts {
			v := s.Stack.ServiceOf(s.cover.By(part, path.Join(d.Cwd, part.Folder), 0))
			if v == nil || v.Source != stack.FromFramework || v.Runs != stack.Native {
				continue
			}
			role, _ := ecosystem.Meaning(part.Words)
			for _, w := range part.Words {
				serves := role == ecosystem.Serves || s.ownProgram(part.Words, v.Dir())
				if serves && reloads.MatchString(w) && !slices.Contains(v.NativeCommand, w) {
					v.NativeCommand = append(slices.Clone(v.NativeCommand), w)
					v.Command = v.NativeCommand
				}
			}
		}
	}
}

// verbsOf are the first words that the instructions give to a program of the folder that is called
// by one of the names, where they tell it to serve; none where they run it without any.
func (s *told) verbsOf(names []string, dir string) []string {
	for _, d := range s.Demands {
		for _, part := range d.Parts {
			if len(part.Words) == 0 || !slices.Contains(names, path.Base(part.Words[0])) ||
				path.Join(d.Cwd, part.Folder) != dir {
				continue
			}
			if len(part.Words) == 1 {
				return nil
			}
			if serveVerb.MatchString(part.Words[1]) {
				return part.Words[1:2]
			}
		}
	}
	return nil
}

// plainServices makes services of programs without any manifest, at the tops of which nothing else
// is served.
func (s *told) plainServices() {
	for _, top := range s.Tops() {
		folder := s.Tree.At(top)
		if folder.Path == "" || s.natives.anyServes(top) || s.ProjectAt(top, nil) != nil {
			continue
		}
		if v := folder.Plain(); v != nil {
			s.natives.native(&stack.Project{Path: top}, *v, top)
		}
	}
}

// taskServices makes services of the tasks that serve, beside projects of which nothing else does.
func (s *told) taskServices() {
	for i := range s.Stack.Projects {
		p := &s.Stack.Projects[i]
		if len(p.Targets) == 0 || s.natives.asideWhy(p.Path) != "" || s.natives.anyServes(p.Path) {
			continue
		}
		for _, name := range ecosystem.ServeTasks {
			at := slices.IndexFunc(p.Targets, func(t stack.Target) bool { return t.Name == name })
			if at < 0 {
				continue
			}
			t := &p.Targets[at]
			own := slices.ContainsFunc(command.Lines(t.Lines), func(c shell.Command) bool {
				return s.ownProgram(c.Words, p.Path)
			})
			if ecosystem.InContainers(t) || !own && !ecosystem.ServesTask(t) {
				continue
			}
			part := shell.Command{Words: []string{t.Program, name}, Text: t.Program + " " + name,
				Folder: "."}
			s.toldService(facts.Demand{At: t.At, Command: part.Text, Cwd: p.Path}, part, p.Path,
				false)
			s.Stack.Services[len(s.Stack.Services)-1].Source = stack.FromScript
			break
		}
	}
}

// ownProgram reports whether a command runs a program that the folder's project brings, and is told
// nothing by which it would look, prepare or work on one thing: no word but one for serving.
func (s *told) ownProgram(words []string, cwd string) bool {
	usual := ecosystem.Canonical(words)
	if len(usual) > 0 && madeByInstall(usual[0]) {
		usual = append([]string{path.Base(usual[0])}, usual[1:]...)
	}
	if len(usual) == 0 || slices.ContainsFunc(usual[1:], func(w string) bool {
		return demand.OnlyLooks.MatchString(w) || w[0] != '-' && preparesByName(w)
	}) || len(usual) > 1 && usual[1][0] != '-' && !serveVerb.MatchString(usual[1]) {
		return false
	}
	for i := 2; i < len(usual); i++ { // a folder or file of its own that it is to work on
		if w := usual[i]; usual[i-1][0] != '-' &&
			(w == "." || strings.Contains(w, "/") && !strings.Contains(w, ":")) {
			return false
		}
	}
	return s.Brings(usual[0], cwd)
}

// ownFile reports whether a command has an interpreter run the very file in which the framework's
// guess begins: what the file's folder holds, it finds only that way.
func (s *told) ownFile(words []string, cwd string) bool {
	only, usual := s.onlyNative(cwd), ecosystem.Canonical(words)
	if only == nil || only.Source != stack.FromFramework || len(usual) < 2 {
		return false
	}
	file := path.Join(cwd, usual[1])
	if file != only.At.File || slices.Contains(only.Command, usual[1]) {
		return false
	}
	data, err := s.Files.ReadFile(file)
	return err == nil && len(data) <= code.MaxSize && ecosystem.ListensByCode(string(data))
}

// runHead is the head of a section, or a word, about running the application.
var runHead = expr.New(`(?i)\b(run(ning)?|start(ing)?|serv(e|er|ing)|launch(ing)?|web|dev)\b`)

// onlyNative is the one service that runs natively in a folder or, where there is none, the one of
// all; nil if there are several, or none.
func (s *told) onlyNative(cwd string) *stack.Service {
	var natives, here []*stack.Service
	for i := range s.Stack.Services {
		if v := &s.Stack.Services[i]; v.Runs == stack.Native {
			natives = append(natives, v)
			if v.Dir() == cwd {
				here = append(here, v)
			}
		}
	}
	switch {
	case len(here) == 1:
		return here[0]
	case len(natives) == 1:
		return natives[0]
	}
	return nil
}

// ofOwnTool reports whether a command has the project's manager run a tool, and the tool serve:
// MANAGER TOOL dev.
func (s *told) ofOwnTool(words []string, cwd string) bool {
	plain := slices.DeleteFunc(slices.Clone(words),
		func(w string) bool { return strings.HasPrefix(w, "-") })
	if role, _ := ecosystem.Meaning(words); role != "" {
		return false
	}
	if len(plain) < 3 || !serveVerb.MatchString(plain[2]) || plain[1] == "run" ||
		ecosystem.Installs(plain[1]) {
		return false
	}
	p := s.ProjectAt(cwd, words)
	if p == nil {
		return false
	}
	if by := ecosystem.WrappedBy(words); ecosystem.ManagerOf(words[0]).Name != p.Manager &&
		(by == nil || by.Name != p.Ecosystem) {
		return false
	}
	return !slices.ContainsFunc(p.Parts,
		func(part stack.Part) bool { return len(part.Scripts[plain[1]]) > 0 })
}

// lasts reports whether a command that goes to a second terminal can be run: a script, a task, or a
// program that is known here. What only looks or ends is none.
func (s *told) lasts(part shell.Command, cwd string) bool {
	role, _ := ecosystem.Meaning(part.Words)
	if role != "" && role != ecosystem.Serves || part.Plumbed ||
		s.cover.NamesBuilt(&demand.Call{Words: part.Words, Cwd: cwd}) {
		return false
	}
	if ecosystem.ManagerNamed(part.Words[0]).Tasks {
		return s.Commands.Target(part.Words, cwd) != nil
	}
	if usual := ecosystem.Canonical(part.Words); len(usual) > 1 && usual[0] == "script" &&
		endsByName.MatchString(usual[1]) {
		return false
	}
	if script := ecosystem.ScriptRun(part.Words); script != "" {
		return s.cover.WhyNot(part, cwd) == ""
	}
	return s.ProjectAt(cwd, part.Words) != nil && !ecosystem.Installs(part.Words[0]) &&
		!slices.Contains(handles, part.Words[0]) &&
		(ecosystem.IsProgram(part.Words[0]) || s.OfPackages(part.Words, cwd))
}

// endsByName are names of scripts that do one thing and end, wherever they are typed.
var endsByName = expr.New(`(?i)(^|[:._-])(deploy\w*|migrat\w*|seed\w*|install|set-?up|init|` +
	`build|compile)([:._-]|$)`)

// handles are programs that handle files, repositories and containers, and serve nothing of a
// checkout's themselves.
var handles = []string{"git", "docker", "docker-compose", "podman", "cp", "copy", "mv", "sudo",
	"source", "export"}

// toldService adds a service for a README's command, and returns its name.
func (s *told) toldService(d facts.Demand, part shell.Command, cwd string,
	besides bool) (name string) {
	words := part.Words
	for _, l := range s.Commands.Leaves(part, cwd) {
		if ecosystem.Of(l.Words) != nil && ecosystem.ManagerNamed(words[0]).Tasks {
			words = l.Words // of several projects in the folder, the one that the task works with
		}
	}
	p := s.ProjectAt(cwd, words)
	if p == nil {
		p = &stack.Project{Path: cwd}
	}
	v := stack.Serve{Command: s.cover.Told(p, part), At: d.At, Source: stack.FromReadme,
		Env: map[string]string{}, PortBy: stack.PortBy{Env: "PORT"}}
	for _, set := range part.Set {
		key, value, _ := strings.Cut(set, "=")
		v.Env[key] = value
	}
	if besides {
		v.Name = processName(part.Words)
	}
	if s.ownProgram(part.Words, cwd) {
		ecosystem.InstallsItself(p)
	}
	lines := part.Text
	if t := s.Commands.Target(part.Words, cwd); t != nil &&
		ecosystem.ManagerNamed(part.Words[0]).Tasks {
		v.Expands = t.Lines
		if len(p.Runtimes) > 0 {
			// of the task itself; what it calls is the project's own
			s.natives.needsOf(p, part.Words, cwd, d.At, command.Deepest)
		}
		lines = strings.Join(t.Lines, "\n")
	} else {
		for _, l := range s.Commands.Leaves(part, cwd) {
			lines += "\n" + l.Text
		}
	}
	port, at := ecosystem.PortIn(lines), d.At
	if port == 0 && !besides {
		port, at = s.portTold(d, cwd)
	}
	if port > 0 {
		v.Ports = webPort(port, at)
	}
	if cwd != p.Path {
		v.Folder = cwd
	}
	return s.natives.native(p, v, cwd)
}

// portTold is the port of a service that a README's command starts: of a setting, else the one
// behind the command in its section, else the only one of the text.
func (s *told) portTold(d facts.Demand, cwd string) (int, stack.Place) {
	if setting, at := s.Tree.At(cwd).PortSetting(); setting > 0 {
		return setting, at
	}
	text := s.ReadmeOf(d.At.File)
	if page, ok := text.Between(d.At.Line+1, text.At(d.At.Line).To); ok {
		return page.Port, stack.Place{File: d.At.File, Line: page.Line}
	}
	page, line := text.OnlyPage()
	return page, stack.Place{File: d.At.File, Line: line}
}

// processName tells a further process of a project from its server: by the script or the last plain
// word.
func processName(words []string) string {
	if script := ecosystem.ScriptRun(words); script != "" {
		return script
	}
	name := ""
	for _, w := range words {
		if !strings.HasPrefix(w, "-") {
			name = w
		}
	}
	return strings.Trim(unfit.ReplaceAllString(path.Base(name), "-"), "-.")
}

// pages has the READMEs say what is spoken on a port where they have a page on it: that counts
// before what is only usual there.
func (s *told) pages() {
	pages := map[int]stack.Place{}
	for _, file := range s.Instructions {
		for _, a := range s.ReadmeOf(file).Addresses {
			if _, known := pages[a.Port]; a.Page() && !known {
				pages[a.Port] = stack.Place{File: file, Line: a.Line}
			}
		}
	}
	for i := range s.Stack.Services {
		v := &s.Stack.Services[i]
		for k := range v.Ports {
			p := &v.Ports[k]
			own := claim.Claim[string]{Value: p.Speaks, Witness: spokenBy(s.Facts, v, p), At: p.At}
			claims := []claim.Claim[string]{own}
			if at, ok := pages[p.Host]; ok && p.Host != 0 {
				claims = append(claims, claim.Claim[string]{Value: "http", Witness: claim.Readme,
					At: at})
			}
			if c, _ := claim.Judge(claim.OfProtocol, claims...).Counts(); c.Value != p.Speaks {
				p.Speaks, p.At = c.Value, c.At
			}
		}
	}
}

// spokenBy is who says what is spoken on a service's port, as it was read.
func spokenBy(f *facts.Facts, v *stack.Service, p *stack.Port) stack.Witness {
	switch {
	case p.Speaks == protocol.Plain: // nobody has
		return claim.Usage
	case v.Image != "" && protocol.OfImage(v.Image) != nil:
		return claim.Compose
	case f.Witness(p.At, 0) == claim.Readme:
		return claim.Readme
	}
	return claim.Usage
}
