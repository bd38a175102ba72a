// Package plan turns a survey into what is to be launched: which services run where (Mix), and
// with which commands, settings and ports (Make). It starts nothing; package execute does the
// plan.
package plan

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"nimbleharbor/internal/consent"
	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/hide"
	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/order"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/workspace"
)

// Plan is all that a steward needs to know. It goes to the steward as JSON, may hold secrets, and
// is never written to disk.
type Plan struct {
	Root       string
	ID         string // of the workspace
	Background bool
	Halt       bool // stop starting things at the first failure
	Shift      int
	Options    Options
	Inputs     []string          // files that the plan was made from
	Commits    map[string]string // by checkout
	Prints     *Prints           // what all of it was when the plan was made
	Order      order.Order
	Steps      map[stack.NodeID]Step
	Services   map[stack.NodeID]Service
	Networks   map[string]stack.Network
	Volumes    map[string]stack.Volume
	Secrets    []string         // values that no log may show
	Causes     []stack.OwnCause // that the workspace knows of its own
	// Leads is where bind mounts lead that are links out of the workspace, as they were when
	// consent was asked for.
	Leads map[string]string
	// Rewritten are the settings that follow the mix; they are told before the launch.
	Rewritten []Rewritten `json:"-"`
	// Asks are what a person is to be asked once everything is up; they are no business of the
	// steward's.
	Asks []Ask `json:"-"`
	// Tests are the projects' own, in the order of the projects; nor are they.
	Tests []Test `json:"-"`
}

// Test is how a project tests itself.
type Test struct {
	ID          stack.NodeID
	Project     string
	Command     []string
	Expands     []string // what the command leads to, where that stands in the checkout
	Dir         string   // where it runs on this machine
	Environment []string // KEY=VALUE, all of it
	At          stack.Place
}

// Ask is a command that asks a person something, ready to run.
type Ask struct {
	stack.Ask
	Dir         string   // where it runs on this machine
	Environment []string // KEY=VALUE, all of it
}

// ID is by what an ask is known: it is offered once.
func (a *Ask) ID() string { return fmt.Sprintf("%s %q %q", a.Folder, a.Service, a.Command) }

// Step is a piece of preparation to run.
type Step struct {
	memory.Work
	Dir  string            // where it runs
	Set  map[string]string // on top of its environment
	Data []string          // the services whose data it works on
}

// Service is a service to run, with its environment and ports worked out for the mix.
type Service struct {
	Name    string
	Runs    stack.Way
	Kind    stack.Lifetime
	Ports   []stack.Port
	Command []string
	// KEY=VALUE: of a native service the whole, of a container what is added to the image's
	Environment []string
	Watches     bool // as in stack.NativeWay
	Remembered  bool // as in stack.FromFiles
	Restarts    stack.Restarts
	Data        []string // the services whose data it works on

	Dir string // where it runs natively

	Image     string
	Build     string // the folder that its image is built from; empty for one that is fetched
	ImageTag  string // what a built image is called
	Container *stack.ContainerSpec
	// Across is where a container finds services that are not in its networks, NAME=ADDRESS each.
	Across []string
	// Exposed are its ports as they are published for those on other engines, on top of Ports.
	Exposed []stack.Port

	// of the environment, what settings and compose files give; known only where the plan is made
	own   []string
	files []string // settings files that it reads; the same
	dir   string   // Dir, relative to the workspace; the same
}

// Make works out the plan of a launch: which environment each service gets, and where it finds the
// others. Settings files are read through files, a file system of the workspace at root. Faults
// come back together.
func Make(root string, files fs.FS, mixed *Mixed, ord *order.Order, opt Options) (*Plan, error) {
	s := mixed.Stack
	p := &Plan{Root: root, ID: workspace.ID(root), Background: opt.Background, Halt: opt.Halt,
		Shift: opt.Shift, Options: opt,
		Order: *ord, Steps: map[stack.NodeID]Step{}, Services: map[stack.NodeID]Service{},
		Networks: s.Networks, Volumes: s.Volumes}
	m := &mixer{
		root:    root,
		files:   files,
		Mixed:   mixed,
		plan:    p,
		shell:   ofShell(os.Environ()),
		secrets: map[string]bool{},
	}
	var faults stack.Faults
	for _, n := range ord.Nodes {
		name, ok := n.ID.Service()
		if !ok {
			continue
		}
		ready, err := m.service(s.Service(name))
		if err != nil {
			faults = append(faults, stack.AllFaults(err)...)
		}
		ready.Data = m.data(n.ID, "")
		p.Services[n.ID] = ready
	}
	if len(faults) > 0 {
		return nil, faults
	}
	// Ports that a native service needs of a container and that no file publishes are published on
	// the loopback alone.
	for id, svc := range p.Services {
		svc.Ports = append(svc.Ports, m.opened[svc.Name]...)
		svc.Exposed = m.exposed[svc.Name]
		p.Services[id] = svc
	}
	for i := range s.Projects {
		for k := range s.Projects[i].Steps {
			m.step(&s.Projects[i], &s.Projects[i].Steps[k])
		}
	}
	for _, a := range s.Asks {
		m.ask(a)
	}
	p.inputs(s)
	p.Prints = p.prints()
	m.learnFiles(mixed.Survey)
	p.Causes, p.Leads = mixed.Survey.Causes, map[string]string{}
	for _, svc := range p.Services {
		if svc.Container == nil || svc.Runs != stack.Container {
			continue
		}
		for _, source := range svc.Container.Binds() {
			if to := consent.Leads(root, source); to != "" {
				p.Leads[source] = to
			}
		}
	}
	for _, v := range mixed.Survey.Secrets {
		m.secrets[v] = true
	}
	maps.DeleteFunc(m.secrets, func(v string, _ bool) bool { return hide.Ordinary(m.Stack, v) })
	// a shorter one may be a part of a longer
	p.Secrets = slices.SortedFunc(maps.Keys(m.secrets),
		func(a, b string) int { return len(b) - len(a) })
	return p, nil
}

// ask adds a command that asks a person something, if what it is about takes part.
func (m *mixer) ask(a stack.Ask) {
	out := Ask{Ask: a, Dir: filepath.Join(m.root, filepath.FromSlash(a.Folder))}
	takes := func(v *stack.Service) bool {
		_, planned := m.plan.Services[stack.ServiceNode(v.Name)]
		return planned && (v.Name == a.Service ||
			a.Service == "" && v.Runs == stack.Native && v.Project == a.Project &&
				v.Manager == a.Manager)
	}
	i := slices.IndexFunc(m.Stack.Services, func(v stack.Service) bool { return takes(&v) })
	if i < 0 || a.Service != "" && m.Stack.Services[i].Runs != stack.Container {
		return
	}
	if p := m.Stack.Project(a.Project, a.Manager); p != nil && a.Service == "" {
		out.Environment = m.stepEnv(p, a.Folder)
	}
	for _, key := range slices.Sorted(maps.Keys(a.Env)) {
		out.Environment = append(out.Environment, key+"="+a.Env[key])
	}
	m.plan.Asks = append(m.plan.Asks, out)
}

// step adds a step of a project, if the order has it.
func (m *mixer) step(proj *stack.Project, step *stack.Step) {
	id := stack.StepNode(step.ID)
	if step.Role == stack.Test {
		m.test(proj, step)
		return
	}
	if !slices.ContainsFunc(m.plan.Order.Nodes, func(n order.Node) bool { return n.ID == id }) {
		return
	}
	dir := proj.Path
	if step.Folder != "" {
		dir = step.Folder
	}
	out := Step{Dir: filepath.Join(m.root, filepath.FromSlash(dir)), Set: step.Env,
		Work: memory.Work{ID: step.ID,
			Role: step.Role, Command: step.Command, As: step.As, Env: m.stepEnv(proj,
				dir), Inputs: step.Inputs, Outputs: step.Outputs, EveryTime: step.EveryTime}}
	if step.Role.Rank() >= stack.Create.Rank() {
		out.Data = m.data(id, proj.Path)
	}
	m.plan.Steps[id] = out
}

// test adds a project's own tests. They get what its services and steps get, and know that nobody
// sits there.
func (m *mixer) test(proj *stack.Project, step *stack.Step) {
	dir := proj.Path
	if step.Folder != "" {
		dir = step.Folder
	}
	t := Test{
		ID:          stack.StepNode(step.ID),
		Project:     proj.Path,
		Command:     step.Command,
		Expands:     step.Expands,
		At:          step.At,
		Dir:         filepath.Join(m.root, filepath.FromSlash(dir)),
		Environment: m.stepEnv(proj, dir),
	}
	t.Environment = append(slices.Clone(t.Environment), "CI=true")
	for _, key := range slices.Sorted(maps.Keys(step.Env)) {
		t.Environment = append(t.Environment, key+"="+step.Env[key])
	}
	m.plan.Tests = append(m.plan.Tests, t)
}

// data lists the lasting services that a node waits for: those whose data it may work on. Steps
// wait for each other, and only the first may wait for the database itself; then it is that of the
// project's services.
func (m *mixer) data(id stack.NodeID, project string) []string {
	var out []string
	add := func(name string) {
		if v := m.Stack.Service(name); v != nil && v.Kind == stack.Lasting && m.taking(name) {
			out = append(out, name)
		}
	}
	for _, n := range m.plan.Order.Nodes {
		for _, e := range n.After {
			if name, ok := e.ID.Service(); ok && n.ID == id {
				add(name)
			}
		}
	}
	if id.IsStep() && len(out) == 0 {
		for _, v := range m.Stack.Services {
			if v.Runs != stack.Native || v.Project != project || !m.taking(v.Name) {
				continue
			}
			for _, a := range v.After {
				add(a.Service)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// taking reports whether a service takes part in the launch.
func (m *mixer) taking(name string) bool {
	return slices.ContainsFunc(m.plan.Order.Nodes,
		func(n order.Node) bool { return n.ID == stack.ServiceNode(name) })
}

type mixer struct {
	*Mixed
	root    string
	files   fs.FS
	plan    *Plan
	shell   []string
	secrets map[string]bool
	exposed map[string][]stack.Port // by service: ports published for containers on other engines
	opened  map[string][]stack.Port // by service: ports published for native services
}

// service works out one service's environment.
func (m *mixer) service(svc *stack.Service) (Service, error) {
	out := Service{Name: svc.Name, Runs: svc.Runs, Kind: svc.Kind, Ports: slices.Clone(svc.Ports),
		Command: svc.Command,
		Watches: svc.Watches, Remembered: svc.Remembered, Restarts: svc.Restarts, Image: svc.Image,
		Build: svc.Build,
		dir:   svc.Dir(), Dir: filepath.Join(m.root, filepath.FromSlash(svc.Dir()))}
	if svc.Runs == stack.Container &&
		(svc.Build != "" || svc.Container != nil && svc.Container.Remote != "") {
		out.ImageTag = workspace.ImageOf(m.plan.Root, svc.Name)
	}
	values := map[string]string{}
	var faults stack.Faults
	for _, ref := range svc.EnvFiles {
		out.files = append(out.files, ref.Path)
		if err := m.envFile(svc, ref, values); err != nil {
			faults = append(faults, stack.AllFaults(err)...)
		}
	}
	maps.Copy(values, svc.Env)
	if svc.Container != nil {
		m.learnHanded(svc.Container)
	}
	if svc.Runs == stack.Native && svc.Container != nil {
		m.handedHere(svc, values)
	}
	m.rewrite(svc, values)
	out.Across = m.across(svc)
	out.Container = svc.Container // it may have come to need this machine's name
	if svc.Runs == stack.Native {
		out.Command = m.ownPort(svc, values)
	}
	for key, value := range values {
		m.learn(key, value)
	}
	if svc.Runs == stack.Native {
		out.Environment = m.path(svc.Bin)
	}
	for _, key := range slices.Sorted(maps.Keys(values)) {
		out.own = append(out.own, key+"="+values[key])
	}
	out.Environment = append(out.Environment, out.own...)
	if len(faults) > 0 {
		return out, faults
	}
	return out, nil
}

// envFile adds what a settings file says to a service's values. One outside of the workspace is
// read where it lies.
func (m *mixer) envFile(svc *stack.Service, ref stack.EnvFileRef, values map[string]string) error {
	var f *dotenv.File
	var data []byte
	var err error
	switch inside := fs.ValidPath(ref.Path); {
	case inside && !ref.Raw:
		f, err = dotenv.Read(m.files, ref.Path)
	case inside:
		data, err = fs.ReadFile(m.files, ref.Path)
	default:
		data, err = reading.File(filepath.Join(m.root, filepath.FromSlash(ref.Path)),
			reading.Usual/4)
		if err == nil && !ref.Raw {
			f, err = dotenv.Parse(ref.Path, data)
		}
	}
	switch {
	case errors.Is(err, fs.ErrNotExist) && !ref.Required:
		return nil
	case errors.Is(err, fs.ErrNotExist):
		return &stack.Fault{Kind: stack.Missing, Code: stack.CodeEnvFileMissing, At: ref.At,
			Text: fmt.Sprintf("%s wants the settings file %s, which doesn't exist", svc.Name,
				ref.Path), Remedy: "Make it: nharbor fill"}
	case dotenv.Unread(err):
		return &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeEnvUnreadable,
			At:   stack.Place{File: ref.Path},
			Text: "the settings file can't be read", Remedy: "Check its rights.", Cause: err}
	case err != nil:
		return err
	case ref.Raw:
		maps.Copy(values, dotenv.RawValues(data, os.LookupEnv))
		return nil
	}
	set, err := f.Values(os.LookupEnv)
	if err != nil {
		return err
	}
	maps.Copy(values, set)
	return nil
}

// ownPort tells a native service the port that it is to take in this mix: by the variable that it
// heeds, by the number in its command, or by the words that its server takes.
func (m *mixer) ownPort(svc *stack.Service, values map[string]string) []string {
	command := slices.Clone(svc.Command)
	was := m.Survey.Service(svc.Name)
	if len(svc.Ports) == 0 || was == nil || len(was.Ports) == 0 {
		return command
	}
	port, before := fmt.Sprint(svc.Ports[0].Host), fmt.Sprint(was.Ports[0].Host)
	if was.Runs == stack.Container {
		before = fmt.Sprint(was.Ports[0].Target)
	}
	switch said := svc.Ports[0].Said; {
	case said < 0 && port == before:
		return command // it took its port without being told
	case said > 0 && port == before:
		// it is told what it was told when it took another one
		port, before = fmt.Sprint(said), fmt.Sprint(said)
	}
	if _, told := values["PORT"]; told || svc.PortBy.Env == "PORT" {
		values["PORT"] = port
	}
	if svc.PortBy.Env != "" {
		values[svc.PortBy.Env] = port
	}
	if port == before && was.Runs == svc.Runs {
		return command
	}
	replaced := replacePort(command, before, port)
	if !replaced {
		for _, w := range svc.PortBy.Words {
			command = append(command, strings.ReplaceAll(w, "{port}", port))
		}
	}
	if svc.PortBy.Env == "" && len(svc.PortBy.Words) == 0 && !replaced {
		values["PORT"] = port
	}
	return command
}

// replacePort puts a port in the place of another in a command's words, also behind a colon or an
// equals sign; it is false where the other doesn't stand in them.
func replacePort(command []string, before, port string) (replaced bool) {
	for i, word := range command {
		for _, sign := range []string{"", ":", "="} {
			rest, ok := strings.CutSuffix(word, sign+before)
			if ok && (sign != "" || rest == "") {
				command[i], replaced = rest+sign+port, true
				break
			}
		}
	}
	return replaced
}

// TestsOf are those of the folders named, or all, in the order in which the launch comes to
// their projects.
func (p *Plan) TestsOf(folders []string) ([]Test, error) {
	place := func(t Test) int {
		i := slices.IndexFunc(p.Order.Nodes, func(n order.Node) bool {
			step, ok := n.ID.Step()
			return ok && strings.Contains(step+"@", ":"+t.Project+"@")
		})
		if i < 0 {
			return len(p.Order.Nodes)
		}
		return i
	}
	tests := slices.Clone(p.Tests)
	slices.SortStableFunc(tests, func(x, y Test) int { return place(x) - place(y) })
	known := map[string]bool{}
	for _, t := range tests {
		known[t.Project] = true
	}
	for _, f := range folders {
		if !known[strings.TrimSuffix(f, "/")] {
			var names []string
			for _, t := range tests {
				names = append(names, t.Project)
			}
			f := &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeProjectUnknown,
				Text: "no project with tests of its own is in " +
					f, Remedy: "No project here has any."}
			if len(names) > 0 {
				f.Remedy = "There are: " + strings.Join(names, ", ")
			}
			return nil, f
		}
	}
	if len(folders) > 0 {
		tests = slices.DeleteFunc(tests, func(t Test) bool {
			return !slices.ContainsFunc(folders,
				func(f string) bool { return strings.TrimSuffix(f, "/") == t.Project })
		})
	}
	return tests, nil
}
