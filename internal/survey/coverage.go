package survey

import (
	"cmp"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"nimbleharbor/internal/command"
	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/facts"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/readme"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// cover compares what the READMEs ask for with what a launch does.
func (s *surveyor) cover() {
	s.Stack.Readme = []stack.ReadmeDemand{}
	s.Demands = slices.DeleteFunc(s.Demands, func(d facts.Demand) bool { return onlySets(d) && s.demandBy(d).By == "" })
	for _, d := range s.Demands {
		out := s.demandBy(d)
		if onlySets(d) {
			out.Command = assigned.ReplaceAllString(out.Command, "$1=…")
		}
		s.Stack.Readme = append(s.Stack.Readme, out)
	}
}

// onlySets reports whether a command gives values to variables, and does nothing else.
func onlySets(d facts.Demand) bool {
	return setsOnce.MatchString(d.Command) || !slices.ContainsFunc(d.Parts, func(c shell.Command) bool {
		return len(c.Words) > 0 && !(program("export", "set")(&covering{words: c.Words}) && len(c.Words) > 1 &&
			!slices.ContainsFunc(c.Words[1:], func(w string) bool { return !strings.Contains(w, "=") }))
	})
}

var setsOnce = expr.New(`^(export|set|setx)\s+[A-Za-z_]\w*\s*=[^&|;]*$`)

var assigned = expr.New(`\b([A-Za-z_]\w*)=("[^"]*"|'[^']*'|\S*)`)

// demandBy tells what does a README's command.
func (s *surveyor) demandBy(d facts.Demand) stack.ReadmeDemand {
	out := stack.ReadmeDemand{At: d.At, Command: d.Command, Covered: true}
	for _, part := range d.Parts {
		if len(part.Words) == 0 || part.Words[0] == "cd" {
			continue
		}
		if out.By = s.coveredBy(part, path.Join(d.Cwd, part.Folder), 0); out.By == "" {
			out.Covered = false
			out.Why = s.whyNot(part, path.Join(d.Cwd, part.Folder))
			break
		}
	}
	return out
}

// whyNot tells why a command can't be done as it is written; empty if nothing is known.
func (s *surveyor) whyNot(c shell.Command, cwd string) string {
	if a := s.askOf(c, cwd); asksSomebody(c) && a != nil &&
		slices.ContainsFunc(s.Stack.Asks, func(o stack.Ask) bool {
			return o.Service == a.Service && s.Commands.Key(o.Command) == s.Commands.Key(a.Command)
		}) {
		return "a launch offers it when everything is up"
	}
	script := ecosystem.ScriptRun(c.Words)
	if script == "" {
		return ""
	}
	known := false
	for _, p := range s.Stack.Projects {
		for _, part := range p.Parts {
			if _, ok := part.Scripts[script]; ok {
				return ""
			}
			known = known || part.Folder == cwd && part.Scripts != nil
		}
	}
	if !known {
		return ""
	}
	return "there is no script " + script
}

// changes are the options of a call that does more than look.
var changes = expr.New(`\s(-d|--data[a-z-]*|-F|--form|-T|--upload-file|--post-data|--json|(-X|--request)[ =]?` +
	`(POST|PUT|PATCH|DELETE))\b`)

var localAddress = expr.New(`(?:https?://)?(?:localhost|127\.0\.0\.1|0\.0\.0\.0):\d+`)

// covering is a README's command that is looked for in what a launch does.
type covering struct {
	words []string // without sudo and its like
	text  string   // as it is written
	cwd   string   // the folder that it is meant for
	depth int      // of tasks that call tasks

	role stack.Role           // what it is for; empty if that isn't known
	of   *ecosystem.Ecosystem // whose command it is; nil for nobody's that is known
}

// word is one of the words; empty if there are fewer.
func (c *covering) word(i int) string {
	if i < len(c.words) {
		return c.words[i]
	}
	return ""
}

// has reports whether one of the options is among the words.
func (c *covering) has(options ...string) bool {
	return slices.ContainsFunc(options, func(o string) bool { return slices.Contains(c.words, o) })
}

// coverRule says who does what a command of one kind asks for.
type coverRule struct {
	name string
	when func(c *covering) bool
	// by gives the node, or the command of ours; empty if nothing does.
	by func(s *surveyor, c *covering) string
}

// program holds for commands that begin with one of the words.
func program(words ...string) func(*covering) bool {
	return func(c *covering) bool { return slices.Contains(words, c.words[0]) }
}

// coverRules are gone through in their order; the first that holds decides.
var coverRules []coverRule

// A task is covered by what covers its lines, which leads back to the rules.
func init() {
	coverRules = []coverRule{
		{"compose", func(c *covering) bool { verb, _ := composeCall(c.words); return verb != "" },
			func(s *surveyor, c *covering) string {
				files := s.filesMeant(c)
				if len(files) == 0 ||
					slices.ContainsFunc(files, func(file string) bool { return !s.isActive(file) }) {
					return ""
				}
				verb, args := composeCall(c.words)
				return s.composeBy(c, verb, args)
			}},
		{"git", program("git"), (*surveyor).gitBy},
		{"copying a template", program("cp", "copy", "mv", "Copy-Item"),
			func(s *surveyor, c *covering) string { return s.copiedByFill(c.words[1:], c.cwd) }},
		{"setting a variable", program("export", "set"), func(s *surveyor, c *covering) string {
			key, _, _ := strings.Cut(c.word(1), "=")
			return s.setting(key)
		}},
		{"entering an environment", func(c *covering) bool {
			role, _ := ecosystem.Meaning(c.words)
			return role != "" && program("source", ".")(c)
		},
			func(s *surveyor, c *covering) string {
				role, of := ecosystem.Meaning(c.words)
				return s.stepBy(role, c.cwd, of.Name)
			}},
		{"reading settings", program("source", "."),
			func(s *surveyor, c *covering) string { return s.copiedByFill([]string{c.word(1), c.word(1)}, c.cwd) }},
		{"calling", program("curl", "wget", "open", "xdg-open"), func(_ *surveyor, c *covering) string {
			if localAddress.MatchString(c.text) && !changes.MatchString(c.text) {
				return "check"
			}
			return ""
		}},
		{"engine", program("docker", "podman"),
			func(s *surveyor, c *covering) string { return s.engineBy(c.word(1), c.words, c.cwd) }},
		{"task", func(c *covering) bool { return ecosystem.ManagerNamed(c.words[0]).Tasks },
			func(s *surveyor, c *covering) string { return s.targetBy(c.words, c.cwd, c.depth) }},
		{"making a database", func(c *covering) bool { return protocol.OfClient(c.words[0]) != nil },
			func(s *surveyor, c *covering) string { return s.databaseBy(c.text, c.cwd) }},
		{"starting a server", func(c *covering) bool { return protocol.OfProgram(c.words[0]) != nil },
			func(s *surveyor, c *covering) string { return s.imageBy(c.words[0]) }},
		{"installing on the machine", func(c *covering) bool { return ecosystem.Installs(c.words[0]) },
			func(s *surveyor, c *covering) string { return s.neededBy(c.words) }},
		{"a script of the checkout", func(c *covering) bool { return command.File(c.words) != "" },
			func(s *surveyor, c *covering) string {
				return cmp.Or(s.fileBy(command.File(c.words), c), s.exactly(s.Commands.Key(c.words), c.cwd))
			}},
		{"working on a project", func(*covering) bool { return true },
			func(s *surveyor, c *covering) string { return s.projectBy(c) }},
	}
}

// coveredBy tells the node, or the command of ours, that does what a README's command does; empty if nothing does.
func (s *surveyor) coveredBy(part shell.Command, cwd string, depth int) string {
	c := &covering{words: part.Words, text: part.Text, cwd: cwd, depth: depth}
	for len(c.words) > 0 && slices.Contains([]string{"sudo", "time", "exec"}, c.words[0]) {
		c.words = c.words[1:]
	}
	if len(c.words) == 0 || depth > command.Deepest || madeUpPath.MatchString(c.text) {
		return ""
	}
	if cwd == ".." || strings.HasPrefix(cwd, "../") || !s.Commands.IsFolder(cwd) {
		if c.cwd = s.Commands.Folder(cwd); depth == 0 && c.cwd == "." &&
			strings.Contains(strings.TrimPrefix(cwd, "../"), "/") {
			return "" // of all that the path names, nothing is here
		}
	}
	c.words, c.cwd = s.Commands.Member(c.words, c.cwd)
	for _, r := range coverRules {
		if r.when(c) {
			return r.by(s, c)
		}
	}
	return ""
}

// madeUpPath is a path that stands for one of the reader's own.
var madeUpPath = expr.New(`(?i)(^|[\s=:"'])/?(path/to|your([_-]?(path|folder|dir\w*))?|some|somewhere)/`)

// gitBy covers what brings this code: its own clone, its submodules, and the branch, tag or commit that is here.
func (s *surveyor) gitBy(c *covering) string {
	plain := slices.DeleteFunc(slices.Clone(c.words[1:]), func(w string) bool { return strings.HasPrefix(w, "-") })
	switch {
	case len(plain) == 0:
	case plain[0] == "submodule" || plain[0] == "clone" && len(plain) > 1 && s.clonesThis(plain[1]):
		return "clone"
	case len(plain) == 2 && (plain[0] == "checkout" || plain[0] == "switch") &&
		slices.ContainsFunc(s.Stack.Checkouts, func(at stack.Checkout) bool {
			return plain[1] == at.Branch || plain[1] == at.Tag ||
				len(plain[1]) > 6 && strings.HasPrefix(at.Commit, plain[1])
		}):
		return "clone"
	}
	return ""
}

// clonesThis reports whether an address is that of a checkout here, as far as names tell: one that is called like it,
// or like the first that the instructions clone.
func (s *surveyor) clonesThis(address string) bool {
	names := []string{filepath.Base(s.Root)}
	for _, at := range s.Stack.Checkouts {
		names = append(names, path.Base(at.Path))
	}
	for i := range s.Stack.Projects {
		names = append(names, path.Base(s.Stack.Projects[i].Name))
	}
	base := readme.ClonedInto([]string{"git", "clone", address})
	if slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, base) }) {
		return true
	}
	for _, d := range s.Demands {
		for _, part := range d.Parts {
			if readme.ClonedInto(part.Words) != "" {
				return slices.ContainsFunc(part.Words[2:], func(w string) bool {
					return readme.ClonedInto([]string{"git", "clone", w}) == base
				})
			}
		}
	}
	return true
}

func service(name string) string { return "service:" + name }

// valueOf is the value of an option; empty if it isn't there.
func valueOf(words []string, option string) string {
	for i, w := range words {
		if value, joined := strings.CutPrefix(w, option+"="); joined {
			return value
		}
		if w == option && i+1 < len(words) {
			return words[i+1]
		}
	}
	return ""
}

// databaseBy covers the making of a database by a database that makes it itself, or by a step.
func (s *surveyor) databaseBy(command, cwd string) string {
	if !strings.Contains(command, "create") && !strings.Contains(strings.ToLower(command), "create database") {
		return ""
	}
	for _, v := range s.Stack.Services {
		if p := protocol.OfImage(v.Image); p != nil && p.SignIn != nil && p.SignIn.Made(v.Env) {
			return service(v.Name)
		}
	}
	return s.stepBy(stack.Create, cwd, "")
}

// copiedByFill covers the copying of a template by fill.
func (s *surveyor) copiedByFill(args []string, cwd string) string {
	var files []string
	for _, a := range args {
		if !strings.HasPrefix(a, "-") {
			files = append(files, path.Join(cwd, strings.Trim(a, `"'`)))
		}
	}
	if len(files) != 2 {
		return ""
	}
	for _, e := range s.Stack.EnvFiles {
		if e.Path == files[1] || e.Template == files[0] && (files[1] == path.Dir(e.Path)) {
			return "fill"
		}
	}
	return ""
}

func (s *surveyor) setting(key string) string {
	if slices.ContainsFunc(s.Stack.EnvFiles, func(e stack.EnvFile) bool { return s.names(&e, key) }) {
		return "fill"
	}
	return ""
}

// names reports whether a settings file or its template has a setting.
func (s *surveyor) names(e *stack.EnvFile, key string) bool {
	return slices.ContainsFunc([]string{e.Path, e.Template}, func(file string) bool {
		_, f := s.Values(file)
		return f != nil && slices.ContainsFunc(f.Settings, func(set dotenv.Setting) bool { return set.Key == key })
	})
}

// targetBy covers tasks by what covers all of their lines, or by the service or step that one is.
func (s *surveyor) targetBy(words []string, cwd string, depth int) string {
	dir, _, names := command.Tasks(words, cwd)
	call := append(words[:1:1], names[:min(len(names), 1)]...)
	for i := range s.Stack.Services {
		v := &s.Stack.Services[i]
		if v.Runs == stack.Native && v.Dir() == dir && slices.Equal(v.Command, call) {
			return service(v.Name)
		}
	}
	for i := range s.Stack.Projects {
		p := &s.Stack.Projects[i]
		if p.Path != dir {
			continue
		}
		for _, st := range p.Steps {
			if len(call) == 2 && slices.Equal(st.Command, call) && s.UsesSteps(p) {
				return "step:" + st.ID
			}
		}
	}
	var lines []string
	for _, t := range s.Commands.Targets(words, cwd) {
		lines = append(lines, t.Lines...)
	}
	return s.linesBy(command.Lines(lines), dir, depth)
}

// stepBy finds a step of that role in the folder's project, or the container that the project runs in.
func (s *surveyor) stepBy(role stack.Role, cwd, ecosystem string) string {
	for i := range s.Stack.Projects {
		p := &s.Stack.Projects[i]
		if p.Path != cwd && !slices.Contains(p.Members, cwd) || ecosystem != "" && p.Ecosystem != ecosystem {
			continue
		}
		for _, st := range p.Steps {
			if st.Role == role && (st.Folder == "" || st.Folder == cwd || role == stack.Install) {
				if s.UsesSteps(p) {
					return "step:" + st.ID
				}
				if role.Rank() < stack.Create.Rank() {
					return s.containerOf(p.Path)
				}
			}
		}
		if role.Rank() < stack.Create.Rank() && !s.UsesSteps(p) {
			return s.containerOf(p.Path)
		}
	}
	return ""
}

// containerOf is the service whose container holds the folder's program as it is here, built or mounted.
func (s *surveyor) containerOf(dir string) string {
	for i := range s.Stack.Services {
		v := &s.Stack.Services[i]
		if v.Runs == stack.Container && (v.Build == dir || v.Home == dir && (v.Build != "" || v.Mounts(dir))) {
			return service(v.Name)
		}
	}
	return ""
}

// projectRules lead from a command of a package manager or a framework to what does the same. A rule without when
// always applies; the first that gives an answer counts.
var projectRules = []coverRule{
	{"a tool of the machine", does(ecosystem.SetsUp),
		func(s *surveyor, c *covering) string { return s.neededBy(c.words) }},
	{"exactly what a step runs", nil,
		func(s *surveyor, c *covering) string { return s.exactly(s.Commands.Key(c.words), c.cwd) }},
	{"what a service runs", nil, func(s *surveyor, c *covering) string {
		for i := range s.Stack.Services {
			v := &s.Stack.Services[i]
			if names, given := s.programOf(v); v.Dir() == c.cwd && slices.Contains(names, path.Base(c.words[0])) &&
				slices.Equal(given, c.words[1:]) {
				return service(v.Name)
			}
			same := s.Commands.Key(v.Command) == s.Commands.Key(c.words) ||
				slices.ContainsFunc(v.Expands, func(line string) bool {
					_, script, named := strings.Cut(line, ": ")
					return named && !strings.ContainsAny(script, "&|;") &&
						s.Commands.Key(strings.Fields(script)) == s.Commands.Key(c.words)
				})
			if usual := ecosystem.Canonical(c.words); len(usual) > 1 && usual[0] == "script" &&
				!s.HasScript(usual[1], c.cwd) && !slices.Equal(c.words, v.Command) {
				same = false // words for a tool, and not for a script of its name
			}
			if v.Runs == stack.Native && v.Dir() == c.cwd && same &&
				!slices.ContainsFunc(c.words[1:], func(w string) bool {
					return !slices.Contains(v.Command, w) &&
						onlyLooks.MatchString(w)
				}) {
				return service(v.Name)
			}
		}
		return ""
	}},
	{"a secret of the application", does(ecosystem.MakesKey), func(*surveyor, *covering) string { return "fill" }},
	{"a name for other commands", nil, func(s *surveyor, c *covering) string { return s.scriptBy(c) }},
	{"serving", func(c *covering) bool { return c.role == ecosystem.Serves },
		func(s *surveyor, c *covering) string {
			if s.namesBuilt(c) || strings.HasPrefix(ecosystem.ScriptRun(c.words), "preview") {
				return ""
			}
			by := s.serviceAt(c.cwd, c.of)
			v := s.Stack.Service(strings.TrimPrefix(by, "service:"))
			if v != nil && (s.runsOther(c, v) || v.Runs == stack.Native && s.leadsToBuilt(c)) {
				return ""
			}
			return by
		}},
	{"what a container runs", nil, func(s *surveyor, c *covering) string { return s.runBy(c.words, nil) }},
	{"a step of the same kind", func(c *covering) bool {
		return c.role == stack.Install || c.role == stack.Build && !buildsOther(c.words)
	},
		func(s *surveyor, c *covering) string {
			if s.otherManager(c) || s.installsMore(c) {
				return ""
			}
			by := s.stepBy(c.role, c.cwd, c.of.Name)
			if st := s.Stack.Step(strings.TrimPrefix(by, "step:")); st != nil && ecosystem.Packs(c.words) &&
				!ecosystem.Packs(st.Command) {
				return "" // classes are no package
			}
			return by
		}},
	// Managers that install while they build have no step of their own for it.
	{"an install that comes with the build", does(stack.Install),
		func(s *surveyor, c *covering) string {
			if s.otherManager(c) || s.installsMore(c) {
				return ""
			}
			return s.stepBy(stack.Build, c.cwd, c.of.Name)
		}},
	{"an install of nothing", does(stack.Install),
		func(s *surveyor, c *covering) string {
			p := s.ownProject(c.cwd, c.of)
			if p == nil || !s.UsesSteps(p) || s.otherManager(c) || s.installsMore(c) ||
				slices.ContainsFunc(p.Steps, func(st stack.Step) bool { return st.Role == stack.Install }) {
				return ""
			}
			return s.serviceAt(c.cwd, c.of)
		}},
}

// does holds for commands that are for one of these.
func does(roles ...stack.Role) func(*covering) bool {
	return func(c *covering) bool { return slices.Contains(roles, c.role) }
}

// projectBy covers a command of a package manager or a framework: by the project of the folder, else by the only one
// that knows the command.
func (s *surveyor) projectBy(c *covering) string {
	if len(c.words) == 1 {
		c.words = append(slices.Clone(c.words), s.alone(c.cwd, ecosystem.Canonical(c.words)[0])...)
	}
	c.role, c.of = ecosystem.Meaning(c.words)
	for _, r := range projectRules {
		if r.when != nil && !r.when(c) {
			continue
		}
		if by := r.by(s, c); by != "" {
			return by
		}
	}
	return ""
}

// exactly finds the step that runs a command, in the folder or, if there is only one, elsewhere.
func (s *surveyor) exactly(key, cwd string) string {
	var elsewhere []string
	for i := range s.Stack.Projects {
		p := &s.Stack.Projects[i]
		inside := p.Path == cwd || slices.Contains(p.Members, cwd)
		for _, st := range p.Steps {
			if !s.runsKey(&st, key) || st.Role == stack.Install || st.Role == stack.Test || !s.UsesSteps(p) {
				continue
			}
			if inside && (st.Folder == "" || st.Folder == cwd || cwd == p.Path) {
				return "step:" + st.ID
			}
			elsewhere = append(elsewhere, "step:"+st.ID)
		}
	}
	if len(elsewhere) == 1 {
		return elsewhere[0]
	}
	return ""
}

// runsKey reports whether a step runs the command, by its own words or by those that they lead to.
func (s *surveyor) runsKey(st *stack.Step, key string) bool {
	return s.Commands.Key(st.Command) == key || slices.ContainsFunc(st.Expands, func(line string) bool {
		_, script, ok := strings.Cut(line, ": ")
		return ok && s.Commands.Key(strings.Fields(script)) == key
	})
}

// serviceAt is what serves the project of the folder, unless that is of another ecosystem than the command.
func (s *surveyor) serviceAt(cwd string, of *ecosystem.Ecosystem) string {
	var below []string
	for i := range s.Stack.Services {
		v := &s.Stack.Services[i]
		at := v.Home
		switch {
		case v.Runs == stack.Native:
			at = v.Dir()
		case at == "":
			at = v.Build
		}
		if at == "" || v.Kind == stack.Once {
			continue
		}
		if p := s.Stack.Project(v.Project, v.Manager); p != nil && of != nil && p.Ecosystem != of.Name {
			continue
		}
		if at == cwd {
			return service(v.Name)
		}
		if own := s.ownProject(cwd, of); own != nil && own.Path != v.Project && own.Serve == nil {
			continue // what that folder's project would serve is something else
		}
		if cwd == "." || strings.HasPrefix(at, cwd+"/") {
			below = append(below, service(v.Name))
		}
	}
	switch len(below) {
	case 0:
		return ""
	case 1:
		return below[0]
	}
	return "launch"
}

// ownProject is the project of a language that lies in a folder itself; nil if there is none.
func (s *surveyor) ownProject(dir string, of *ecosystem.Ecosystem) *stack.Project {
	for i := range s.Stack.Projects {
		if p := &s.Stack.Projects[i]; p.Path == dir && of != nil && p.Ecosystem == of.Name {
			return p
		}
	}
	return nil
}
