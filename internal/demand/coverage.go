// Package demand tells what the commands of instructions come to, and what of ours does it: a step,
// a service, fill, a launch. A command is covered when all that it comes to is; what only looks
// round asks for nothing.
package demand

import (
	"cmp"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"nimbleharbor/internal/command"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/facts"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/readme"
	"nimbleharbor/internal/rule"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// Coverage asks the facts of a workspace what covers a command.
type Coverage struct {
	*facts.Facts
}

// All compares what the READMEs ask for with what a launch does.
func (d *Coverage) All() {
	d.Stack.Readme = []stack.ReadmeDemand{}
	d.Demands = slices.DeleteFunc(d.Demands, func(asked facts.Demand) bool {
		return onlySets(asked) && d.demandBy(asked).By == ""
	})
	for _, asked := range d.Demands {
		out := d.demandBy(asked)
		if onlySets(asked) {
			out.Command = assigned.ReplaceAllString(out.Command, "$1=…")
		}
		d.Stack.Readme = append(d.Stack.Readme, out)
	}
	d.weigh()
}

// weigh tells the commands that stand on the way to serving from all others. Each service is served
// where a file of instructions has it first; what comes behind the last of these is for afterwards.
func (d *Coverage) weigh() {
	first, end := map[stack.Doer]bool{}, map[string]int{}
	once := map[stack.Doer]map[string]bool{} // the commands for work that each covers
	for _, asked := range d.Stack.Readme {
		if once[asked.By] == nil {
			once[asked.By] = map[string]bool{}
		}
		if !d.BesideWork(asked.At) {
			once[asked.By][asked.Command] = true
		}
		if d.Stack.ServiceOf(asked.By) != nil && !first[asked.By] || asked.By == stack.ByLaunch {
			first[asked.By] = true
			end[asked.At.File] = max(end[asked.At.File], asked.At.Line)
		}
	}
	for i := range d.Stack.Readme {
		asked := &d.Stack.Readme[i]
		served, behind := end[asked.At.File]
		offered := slices.ContainsFunc(d.Stack.Asks,
			func(a stack.Ask) bool { return a.At == asked.At })
		beside := d.BesideWork(asked.At)
		if beside && d.Stack.ServiceOf(asked.By) != nil && !once[asked.By][asked.Command] {
			asked.By, asked.Covered = "", false // it is served in another way
		}
		asked.Aside = !asked.Covered && !offered && (behind && asked.At.Line > served || beside ||
			onlyLooks.MatchString(asked.Command))
	}
}

// onlyLooks is a command after which a machine knows more, and has no more than before: which
// packages there are, of which version a program is, how it is called. One whose words are left out
// only shows how it is called, too.
var onlyLooks = expr.New(
	`^(sudo )?(apt|apt-get|brew|apk|dnf|yum|pacman)( -\S+)* ` +
		`(update|upgrade|check-update)( -\S+)*$|` +
		`^[^&|;]+ (--version|--help)$|^[^&|;]+ (\.\.\.|…)$|` +
		`^(curl|wget|http|open|xdg-open)\b.*(localhost|127\.0\.0\.1|0\.0\.0\.0):\d`)

// onlySets reports whether a command gives values to variables, and does nothing else.
func onlySets(asked facts.Demand) bool {
	return setsOnce.MatchString(asked.Command) || !slices.ContainsFunc(asked.Parts,
		func(c shell.Command) bool {
			return len(c.Words) > 0 && !(Program("export", "set")(&Call{Words: c.Words}) &&
				len(c.Words) > 1 && !slices.ContainsFunc(c.Words[1:], func(w string) bool {
				return !strings.Contains(w, "=")
			}))
		})
}

var setsOnce = expr.New(`^(export|set|setx)\s+[A-Za-z_]\w*\s*=[^&|;]*$`)

var assigned = expr.New(`\b([A-Za-z_]\w*)=("[^"]*"|'[^']*'|\S*)`)

// demandBy tells what does a README's command.
func (d *Coverage) demandBy(asked facts.Demand) stack.ReadmeDemand {
	out := stack.ReadmeDemand{At: asked.At, Command: asked.Command, Covered: true}
	for _, part := range asked.Parts {
		if len(part.Words) == 0 || part.Words[0] == "cd" {
			continue
		}
		if out.By = d.By(part, path.Join(asked.Cwd, part.Folder), 0); out.By == "" {
			out.Covered = false
			out.Why = d.WhyNot(part, path.Join(asked.Cwd, part.Folder))
			break
		}
	}
	return out
}

// WhyNot tells why a command can't be done as it is written; empty if nothing is known.
func (d *Coverage) WhyNot(c shell.Command, cwd string) string {
	if a := d.askOf(c, cwd); AsksSomebody(c) && a != nil &&
		slices.ContainsFunc(d.Stack.Asks, func(o stack.Ask) bool {
			return o.Service == a.Service && d.Commands.Key(o.Command) == d.Commands.Key(a.Command)
		}) {
		return "a launch offers it when everything is up"
	}
	script := ecosystem.ScriptRun(c.Words)
	if script == "" {
		return d.lacks(c, cwd)
	}
	known := false
	for _, p := range d.Stack.Projects {
		for _, part := range p.Parts {
			if _, ok := part.Scripts[script]; ok {
				return ""
			}
			known = known || part.Folder == cwd && part.Scripts != nil
		}
	}
	if !known {
		return d.lacks(c, cwd)
	}
	return "there is no script " + script
}

// changes are the options of a call that does more than look.
var changes = expr.New(`\s(-d|--data[a-z-]*|-F|--form|-T|--upload-file|--post-data|--json|(-X|--request)[ =]?` +
	`(POST|PUT|PATCH|DELETE))\b`)

// asksWhole asks whether an application on this machine answers at all: at its first page, or where
// its health is told. What lies below is a use of it.
var asksWhole = expr.New(`(?i)(?:https?://)?(?:localhost|127\.0\.0\.1|0\.0\.0\.0):\d+` +
	`(?:/(?:api/?|v\d/?)*(?:health\w*|ping|status|ready\w*|live\w*|docs|version)?)?/?(?:["'\s]|$)`)

// Call is a README's command that is looked for in what a launch does.
type Call struct {
	Words []string // without sudo and its like
	Text  string   // as it is written
	Cwd   string   // the folder that it is meant for
	depth int      // of tasks that call tasks

	role stack.Role           // what it is for; empty if that isn't known
	Of   *ecosystem.Ecosystem // whose command it is; nil for nobody's that is known
}

// Word is one of the words; empty if there are fewer.
func (c *Call) Word(i int) string {
	if i < len(c.Words) {
		return c.Words[i]
	}
	return ""
}

// has reports whether one of the options is among the words.
func (c *Call) has(options ...string) bool {
	return slices.ContainsFunc(options, func(o string) bool { return slices.Contains(c.Words, o) })
}

// coverRule says who does what a command of one kind asks for: the node, or the command of ours;
// empty if nothing does.
type coverRule = rule.Rule[*Call, func(d *Coverage, c *Call) stack.Doer]

func covers(name string, when func(*Call) bool, by func(*Coverage, *Call) stack.Doer) coverRule {
	return coverRule{Name: name, When: when, Then: by}
}

// Program holds for commands that begin with one of the words.
func Program(words ...string) func(*Call) bool {
	return func(c *Call) bool { return slices.Contains(words, c.Words[0]) }
}

// coverRules are gone through in their order; the first that holds decides.
var coverRules []coverRule

// A task is covered by what covers its lines, which leads back to the rules.
func init() {
	coverRules = []coverRule{
		covers("compose", func(c *Call) bool {
			verb, _ := command.ComposeCall(c.Words)
			return verb != ""
		},
			func(d *Coverage, c *Call) stack.Doer {
				files := d.FilesMeant(c)
				if len(files) == 0 || slices.ContainsFunc(files,
					func(file string) bool { return !d.IsActive(file) }) {
					return ""
				}
				verb, args := command.ComposeCall(c.Words)
				return d.composeBy(c, verb, args)
			}),
		covers("git", Program("git"), (*Coverage).gitBy),
		covers("copying a template", Program("cp", "copy", "mv", "Copy-Item"),
			func(d *Coverage, c *Call) stack.Doer { return d.copiedByFill(c.Words[1:], c.Cwd) }),
		covers("setting a variable", Program("export", "set"),
			func(d *Coverage, c *Call) stack.Doer {
				key, _, _ := strings.Cut(c.Word(1), "=")
				return d.setting(key)
			}),
		covers("entering an environment", func(c *Call) bool {
			role, _ := ecosystem.Meaning(c.Words)
			return role != "" && Program("source", ".")(c)
		},
			func(d *Coverage, c *Call) stack.Doer {
				role, of := ecosystem.Meaning(c.Words)
				return d.stepBy(role, c.Cwd, of.Name)
			}),
		covers("reading settings", Program("source", "."), func(d *Coverage, c *Call) stack.Doer {
			return d.copiedByFill([]string{c.Word(1), c.Word(1)}, c.Cwd)
		}),
		covers("calling", Program("curl", "wget", "open", "xdg-open"),
			func(_ *Coverage, c *Call) stack.Doer {
				if asksWhole.MatchString(c.Text) && !changes.MatchString(c.Text) {
					return stack.ByCheck
				}
				return ""
			}),
		covers("engine", Program("docker", "podman"), func(d *Coverage, c *Call) stack.Doer {
			return d.engineCalls().engineBy(c.Word(1), c.Words, c.Cwd)
		}),
		covers("task", func(c *Call) bool { return ecosystem.ManagerNamed(c.Words[0]).Tasks },
			func(d *Coverage, c *Call) stack.Doer { return d.targetBy(c.Words, c.Cwd, c.depth) }),
		covers("making a database", func(c *Call) bool { return protocol.OfClient(c.Words[0]) != nil },
			func(d *Coverage, c *Call) stack.Doer { return d.databaseBy(c.Text, c.Cwd) }),
		covers("starting a server", func(c *Call) bool { return protocol.OfProgram(c.Words[0]) != nil },
			func(d *Coverage, c *Call) stack.Doer { return d.imageBy(c.Words[0]) }),
		covers("installing on the machine",
			func(c *Call) bool { return ecosystem.Installs(c.Words[0]) },
			func(d *Coverage, c *Call) stack.Doer { return d.neededBy(c.Words) }),
		covers("a script of the checkout",
			func(c *Call) bool { return command.File(c.Words) != "" },
			func(d *Coverage, c *Call) stack.Doer {
				return cmp.Or(d.fileBy(command.File(c.Words), c),
					d.exactly(d.Commands.Key(c.Words), c.Cwd))
			}),
		covers("bringing a database up to date",
			func(c *Call) bool { return ecosystem.BringsDatabase(c.Words) },
			func(d *Coverage, c *Call) stack.Doer {
				return d.stepBy(stack.Migrate, c.Cwd, "node")
			}),
		covers("working on a project", nil,
			func(d *Coverage, c *Call) stack.Doer { return d.projectBy(c) }),
	}
}

// By tells the node, or the command of ours, that does what a README's command does; empty if
// nothing does.
func (d *Coverage) By(part shell.Command, cwd string, depth int) stack.Doer {
	c := &Call{Words: part.Words, Text: part.Text, Cwd: cwd, depth: depth}
	for len(c.Words) > 0 && slices.Contains([]string{"sudo", "time", "exec"}, c.Words[0]) {
		c.Words = c.Words[1:]
	}
	if len(c.Words) == 0 || depth > command.Deepest || MadeUp.MatchString(c.Text) {
		return ""
	}
	if cwd == ".." || strings.HasPrefix(cwd, "../") || !d.Commands.IsFolder(cwd) {
		if c.Cwd = d.Commands.Folder(cwd); depth == 0 && c.Cwd == "." &&
			strings.Contains(strings.TrimPrefix(cwd, "../"), "/") {
			return "" // of all that the path names, nothing is here
		}
	}
	c.Words, c.Cwd = d.Commands.Member(c.Words, c.Cwd)
	return rule.First(coverRules, c).Then(d, c)
}

// MadeUp is a path that stands for one of the reader's own.
var MadeUp = expr.New(`(?i)(^|[\s=:"'])/?(path/to|your([_-]?(path|folder|dir\w*))?|some|somewhere)/`)

// gitBy covers what brings this code: its own clone, its submodules, and the branch, tag or commit
// that is here.
func (d *Coverage) gitBy(c *Call) stack.Doer {
	plain := slices.DeleteFunc(slices.Clone(c.Words[1:]),
		func(w string) bool { return strings.HasPrefix(w, "-") })
	switch {
	case len(plain) == 0:
	case plain[0] == "submodule" || plain[0] == "clone" && len(plain) > 1 && d.ClonesThis(plain[1]):
		return stack.ByClone
	case len(plain) == 2 && (plain[0] == "checkout" || plain[0] == "switch") &&
		slices.ContainsFunc(d.Stack.Checkouts, func(at stack.Checkout) bool {
			return plain[1] == at.Branch || plain[1] == at.Tag ||
				len(plain[1]) > 6 && strings.HasPrefix(at.Commit, plain[1])
		}):
		return stack.ByClone
	}
	return ""
}

// ClonesThis reports whether an address is that of a checkout here, as far as names tell: one that
// is called like it, or like the first that the instructions clone.
func (d *Coverage) ClonesThis(address string) bool {
	names := []string{filepath.Base(d.Root)}
	for _, at := range d.Stack.Checkouts {
		names = append(names, path.Base(at.Path))
	}
	for i := range d.Stack.Projects {
		names = append(names, path.Base(d.Stack.Projects[i].Name))
	}
	base := readme.ClonedInto([]string{"git", "clone", address})
	if slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, base) }) {
		return true
	}
	for _, asked := range d.Demands {
		for _, part := range asked.Parts {
			if readme.ClonedInto(part.Words) != "" {
				return slices.ContainsFunc(part.Words[2:], func(w string) bool {
					return readme.ClonedInto([]string{"git", "clone", w}) == base
				})
			}
		}
	}
	return true
}

// Service is the node of a service, as coverage names it.
func Service(name string) stack.Doer { return stack.ByNode(stack.ServiceNode(name)) }

// databaseBy covers the making of a database by a database that makes it itself, or by a step.
func (d *Coverage) databaseBy(command, cwd string) stack.Doer {
	if !strings.Contains(command, "create") && !strings.Contains(strings.ToLower(command),
		"create database") {
		return ""
	}
	for _, v := range d.Stack.Services {
		if p := protocol.OfImage(v.Image); p != nil && p.SignIn != nil && p.SignIn.Made(v.Env) {
			return Service(v.Name)
		}
	}
	return d.stepBy(stack.Create, cwd, "")
}

// copiedByFill covers the copying of a template by fill.
func (d *Coverage) copiedByFill(args []string, cwd string) stack.Doer {
	var files []string
	for _, a := range args {
		if !strings.HasPrefix(a, "-") {
			files = append(files, path.Join(cwd, strings.Trim(a, `"'`)))
		}
	}
	if len(files) != 2 {
		return ""
	}
	for _, e := range d.Stack.EnvFiles {
		if e.Path == files[1] || e.Template == files[0] && (files[1] == path.Dir(e.Path)) {
			return stack.ByFill
		}
	}
	return ""
}

func (d *Coverage) setting(key string) stack.Doer {
	if slices.ContainsFunc(d.Stack.EnvFiles, func(e stack.EnvFile) bool {
		return d.Names(&e, key)
	}) {
		return stack.ByFill
	}
	return ""
}

// targetBy covers tasks by what covers all of their lines, or by the service or step that one is.
func (d *Coverage) targetBy(words []string, cwd string, depth int) stack.Doer {
	dir, _, names := command.Tasks(words, cwd)
	call := append(words[:1:1], names[:min(len(names), 1)]...)
	for i := range d.Stack.Services {
		v := &d.Stack.Services[i]
		if v.Runs == stack.Native && v.Dir() == dir && slices.Equal(v.Command, call) {
			return Service(v.Name)
		}
	}
	for i := range d.Stack.Projects {
		p := &d.Stack.Projects[i]
		if p.Path != dir {
			continue
		}
		for _, st := range p.Steps {
			if len(call) == 2 && slices.Equal(st.Command, call) && d.UsesSteps(p) {
				return stack.ByNode(stack.StepNode(st.ID))
			}
		}
	}
	var lines []string
	for _, t := range d.Commands.Targets(words, cwd) {
		lines = append(lines, t.Lines...)
	}
	return d.linesBy(command.Lines(lines), dir, depth)
}

// stepBy finds a step of that role in the folder's project, or the container that the project runs
// in.
func (d *Coverage) stepBy(role stack.Role, cwd, ecosystem string) stack.Doer {
	for i := range d.Stack.Projects {
		p := &d.Stack.Projects[i]
		if p.Path != cwd && !slices.Contains(p.Members, cwd) || ecosystem != "" &&
			p.Ecosystem != ecosystem {
			continue
		}
		for _, st := range p.Steps {
			if st.Role == role && (st.Folder == "" || st.Folder == cwd || role == stack.Install) {
				if d.UsesSteps(p) {
					return stack.ByNode(stack.StepNode(st.ID))
				}
				if role.Rank() < stack.Create.Rank() {
					return d.ContainerOf(p.Path)
				}
			}
		}
		if role.Rank() < stack.Create.Rank() && !d.UsesSteps(p) {
			return d.ContainerOf(p.Path)
		}
	}
	return ""
}

// projectRules lead from a command of a package manager or a framework to what does the same. A
// rule without when always applies; the first that gives an answer counts.
var projectRules = []coverRule{
	covers("a tool of the machine", does(ecosystem.SetsUp),
		func(d *Coverage, c *Call) stack.Doer { return d.neededBy(c.Words) }),
	covers("exactly what a step runs", nil,
		func(d *Coverage, c *Call) stack.Doer { return d.exactly(d.Commands.Key(c.Words), c.Cwd) }),
	covers("what a service runs", nil, func(d *Coverage, c *Call) stack.Doer {
		for i := range d.Stack.Services {
			v := &d.Stack.Services[i]
			if names, given := d.ProgramOf(v); v.Dir() == c.Cwd &&
				slices.Contains(names, path.Base(c.Words[0])) && slices.Equal(given, c.Words[1:]) {
				return Service(v.Name)
			}
			same := d.Commands.Key(v.Command) == d.Commands.Key(c.Words) ||
				slices.ContainsFunc(v.Expands, func(line string) bool {
					_, script, named := strings.Cut(line, ": ")
					return named && !strings.ContainsAny(script, "&|;") &&
						d.Commands.Key(strings.Fields(script)) == d.Commands.Key(c.Words)
				})
			if usual := ecosystem.Canonical(c.Words); len(usual) > 1 && usual[0] == "script" &&
				!d.HasScript(usual[1], c.Cwd) && !slices.Equal(c.Words, v.Command) {
				same = false // words for a tool, and not for a script of its name
			}
			if v.Runs == stack.Native && v.Dir() == c.Cwd && same &&
				!slices.ContainsFunc(c.Words[1:], func(w string) bool {
					return !slices.Contains(v.Command, w) && OnlyLooks.MatchString(w)
				}) {
				return Service(v.Name)
			}
		}
		return ""
	}),
	covers("a secret of the application", does(ecosystem.MakesKey),
		func(*Coverage, *Call) stack.Doer { return stack.ByFill }),
	covers("a name for other commands", nil,
		func(d *Coverage, c *Call) stack.Doer { return d.scriptBy(c) }),
	covers("serving", func(c *Call) bool { return c.role == ecosystem.Serves },
		func(d *Coverage, c *Call) stack.Doer {
			if d.NamesBuilt(c) || strings.HasPrefix(ecosystem.ScriptRun(c.Words), "preview") {
				return ""
			}
			by := d.ServiceAt(c.Cwd, c.Of)
			v := d.Stack.ServiceOf(by)
			if v != nil && (d.runsOther(c, v) || v.Runs == stack.Native && d.leadsToBuilt(c)) {
				return ""
			}
			return by
		}),
	covers("what a container runs", nil, func(d *Coverage, c *Call) stack.Doer {
		return d.runBy(c.Words, nil)
	}),
	covers("an install of the project as it is published", does(stack.Install),
		func(d *Coverage, c *Call) stack.Doer {
			if !d.installs().itself(c) {
				return ""
			}
			return d.stepBy(c.role, c.Cwd, c.Of.Name)
		}),
	covers("a step of the same kind", func(c *Call) bool {
		return c.role == stack.Install || c.role == stack.Build && !buildsOther(c.Words)
	},
		func(d *Coverage, c *Call) stack.Doer {
			if d.otherManager(c) || d.installs().installsMore(c) {
				return ""
			}
			by := d.stepBy(c.role, c.Cwd, c.Of.Name)
			if st := d.Stack.StepOf(by); st != nil && ecosystem.Packs(c.Words) &&
				!ecosystem.Packs(st.Command) {
				return "" // classes are no package
			}
			return by
		}),
	// Managers that install while they build have no step of their own for it.
	covers("an install that comes with the build", does(stack.Install),
		func(d *Coverage, c *Call) stack.Doer {
			if d.otherManager(c) || d.installs().installsMore(c) {
				return ""
			}
			return d.stepBy(stack.Build, c.Cwd, c.Of.Name)
		}),
	covers("an install of nothing", does(stack.Install), func(d *Coverage, c *Call) stack.Doer {
		p := d.OwnProject(c.Cwd, c.Of)
		if p == nil || !d.UsesSteps(p) || d.otherManager(c) || d.installs().installsMore(c) ||
			slices.ContainsFunc(p.Steps,
				func(st stack.Step) bool { return st.Role == stack.Install }) {
			return ""
		}
		return d.ServiceAt(c.Cwd, c.Of)
	}),
}

// does holds for commands that are for one of these.
func does(roles ...stack.Role) func(*Call) bool {
	return func(c *Call) bool { return slices.Contains(roles, c.role) }
}

// projectBy covers a command of a package manager or a framework: by the project of the folder,
// else by the only one that knows the command.
func (d *Coverage) projectBy(c *Call) stack.Doer {
	if len(c.Words) == 1 {
		c.Words = append(slices.Clone(c.Words), d.Alone(c.Cwd, ecosystem.Canonical(c.Words)[0])...)
	}
	c.role, c.Of = ecosystem.Meaning(c.Words)
	for r := range rule.Holding(projectRules, c) {
		if by := r.Then(d, c); by != "" {
			return by
		}
	}
	return ""
}

// exactly finds the step that runs a command, in the folder or, if there is only one, elsewhere.
func (d *Coverage) exactly(key, cwd string) stack.Doer {
	var elsewhere []stack.Doer
	for i := range d.Stack.Projects {
		p := &d.Stack.Projects[i]
		inside := p.Path == cwd || slices.Contains(p.Members, cwd)
		for _, st := range p.Steps {
			if !d.runsKey(&st, key) || st.Role == stack.Install || st.Role == stack.Test ||
				!d.UsesSteps(p) {
				continue
			}
			if inside && (st.Folder == "" || st.Folder == cwd || cwd == p.Path) {
				return stack.ByNode(stack.StepNode(st.ID))
			}
			elsewhere = append(elsewhere, stack.ByNode(stack.StepNode(st.ID)))
		}
	}
	if len(elsewhere) == 1 {
		return elsewhere[0]
	}
	return ""
}

// runsKey reports whether a step runs the command, by its own words or by those that they lead to.
func (d *Coverage) runsKey(st *stack.Step, key string) bool {
	return d.Commands.Key(st.Command) == key || slices.ContainsFunc(st.Expands,
		func(line string) bool {
			_, script, ok := strings.Cut(line, ": ")
			return ok && d.Commands.Key(strings.Fields(script)) == key
		})
}

// OnlyLooks are words by which a program is asked for something that ends at once.
var OnlyLooks = expr.New(`^(-h|-V|--?help|--?version|help|version|check|config|status|list|show|test|` +
	`--?(generate|init|create|migrate|upgrade|install|list|show|check|dump|export|import)([-=].*)?)$`)
