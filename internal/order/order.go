// Package order puts the steps and services of a stack into a graph, with a reason for every edge.
package order

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
)

// Edge says that a node waits for the node ID.
type Edge struct {
	ID      stack.NodeID `json:"id"`
	Until   stack.Until  `json:"until"`
	Because string       `json:"because"`
	Sure    stack.Sure   `json:"sure,omitempty"`
	Reason  string       `json:"reason"`
	At      stack.Place  `json:"at"`
}

// Node is one step or service. Rank is the length of the longest way to it.
type Node struct {
	ID    stack.NodeID `json:"id"`
	Kind  string       `json:"kind"` // "service" or "step"
	Rank  int          `json:"rank"`
	After []Edge       `json:"after"`
}

// Order is the graph, its nodes so sorted that each comes after those it waits for: contract
// nharbor.order/1. With a cycle there are no ranks and no critical path.
type Order struct {
	Schema       string         `json:"schema"`
	Nodes        []Node         `json:"nodes"`
	CriticalPath []stack.NodeID `json:"criticalPath"`
	Estimate     float64        `json:"estimate"` // seconds; 0 if nothing is known
	Cycle        []stack.NodeID `json:"cycle"`
	Remarks      []stack.Remark `json:"remarks"`
}

// Options say what goes into the order.
type Options struct {
	Services []string                 // only these and what they need; empty for all
	Except   []string                 // without these
	Literal  bool                     // keep a plain depends_on to the letter: begun, not answering
	Seconds  map[stack.NodeID]float64 // how long nodes took last time, by id
}

// Build makes the order of a stack. Its error is a *stack.Fault: an unknown service name, or a
// cycle of declared edges, with the Order that shows it.
func Build(s *stack.Stack, opt Options) (*Order, error) {
	b := builder{stack: s, opt: opt, byName: make(map[string]*stack.Service, len(s.Services)),
		nodes: make(map[stack.NodeID]*Node,
			len(s.Services)), out: &Order{Schema: "nharbor.order/1"}}
	for i := range s.Services {
		b.byName[s.Services[i].Name] = &s.Services[i]
	}
	for _, name := range slices.Concat(opt.Services, opt.Except) {
		if s.Service(name) == nil {
			return nil, unknown(s, name)
		}
	}
	b.services()
	b.steps()
	b.dropCycles()
	if len(b.out.Cycle) > 0 {
		f := &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeOrderCycle,
			Text: "the declared order goes in a circle: " +
				joined(b.out.Cycle), Remedy: "Remove one of these declarations."}
		for _, e := range b.nodes[b.out.Cycle[0]].After {
			if e.ID == b.out.Cycle[1] {
				f.At = e.At
			}
		}
		return b.out, f
	}
	b.rank()
	b.criticalPath()
	return b.out, nil
}

// joined shows a way from node to node.
func joined(way []stack.NodeID) string {
	var out []string
	for _, id := range way {
		out = append(out, string(id))
	}
	return strings.Join(out, " → ")
}

func unknown(s *stack.Stack, name string) error {
	var names []string
	for _, v := range s.Services {
		names = append(names, v.Name)
	}
	slices.Sort(names)
	return &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeServiceUnknown,
		Text: fmt.Sprintf("there is no service %q", name), Remedy: "There are: " +
			strings.Join(names, ", ")}
}

type builder struct {
	stack  *stack.Stack
	byName map[string]*stack.Service
	opt    Options
	nodes  map[stack.NodeID]*Node
	list   []*Node
	out    *Order
}

func (b *builder) add(id stack.NodeID, kind string) *Node {
	n := &Node{ID: id, Kind: kind}
	b.nodes[id] = n
	b.list = append(b.list, n)
	return n
}

// wait adds an edge, or strengthens the one that is there; a declared reason wins.
func (n *Node) wait(e Edge) {
	for i := range n.After {
		old := &n.After[i]
		if old.ID != e.ID {
			continue
		}
		if e.Until.Strength() > old.Until.Strength() {
			old.Until = e.Until
		}
		if old.Because != stack.Declared && e.Because == stack.Declared {
			old.Because, old.Reason, old.At = e.Because, e.Reason, e.At
		}
		if e.Sure == stack.Said {
			old.Sure = e.Sure
		}
		return
	}
	n.After = append(n.After, e)
}

// wanted lists the services that take part.
func (b *builder) wanted() []*stack.Service {
	if len(b.opt.Services) == 0 && len(b.opt.Except) == 0 {
		out := make([]*stack.Service, len(b.stack.Services))
		for i := range b.stack.Services {
			out[i] = &b.stack.Services[i]
		}
		return out
	}
	in := map[string]bool{}
	var take func(name string)
	take = func(name string) {
		s := b.byName[name]
		if s == nil || in[name] || slices.Contains(b.opt.Except, name) {
			return
		}
		in[name] = true
		for _, a := range s.After {
			take(a.Service)
		}
	}
	if len(b.opt.Services) > 0 {
		for _, name := range b.opt.Services {
			take(name)
		}
	} else {
		for _, s := range b.stack.Services {
			take(s.Name)
		}
	}
	var out []*stack.Service
	for i := range b.stack.Services {
		if in[b.stack.Services[i].Name] {
			out = append(out, &b.stack.Services[i])
		}
	}
	return out
}

func (b *builder) services() {
	wanted := b.wanted()
	type entry struct {
		service *stack.Service
		node    *Node
		askable bool
	}
	in := make(map[string]entry, len(wanted))
	for _, s := range wanted {
		n := b.add(stack.ServiceNode(s.Name), "service")
		n.After = make([]Edge, 0, len(s.After)+1)
		in[s.Name] = entry{s, n, Askable(s)}
	}
	for _, s := range wanted {
		n := in[s.Name].node
		for _, a := range s.After {
			to, ok := in[a.Service]
			if !ok {
				continue
			}
			other := to.service
			e := Edge{ID: to.node.ID, Until: a.Until, Because: a.Because, Sure: a.Sure,
				Reason: a.Reason, At: a.At}
			if a.Until == stack.Begun && !b.opt.Literal && other.Kind == stack.Lasting &&
				to.askable {
				e.Until = stack.Answering
				e.Reason += ", and it can be asked whether it answers"
			}
			if a.Until == stack.Begun && !b.opt.Literal && other.Kind == stack.Once {
				e.Until = stack.Finished
				e.Reason += ", and it is a job that ends"
			}
			n.wait(e)
		}
	}
}

// Askable reports whether there is a way to find out that a service answers.
func Askable(s *stack.Service) bool {
	if s.Container != nil && s.Container.Health != nil && len(s.Container.Health.Test) > 0 &&
		s.Container.Health.Test[0] != "NONE" {
		return true
	}
	return slices.ContainsFunc(s.Ports,
		func(p stack.Port) bool { return p.Host > 0 && p.Transport == "tcp" })
}

// needsDatabase tells the roles of steps that talk to a database.
func needsDatabase(r stack.Role) bool {
	return r == stack.Create || r == stack.Migrate || r == stack.Seed
}

// keepsData reports whether a service may hold the data that such a step works on: whatever is not
// known to be something else.
func keepsData(s *stack.Service) bool {
	for _, p := range s.Ports {
		if known := protocol.Named(p.Speaks); known != nil &&
			(known.SignIn == nil || len(known.SignIn.Database) == 0) {
			return false
		}
	}
	known := protocol.OfImage(s.Image)
	return known == nil || known.SignIn != nil && len(known.SignIn.Database) > 0
}

// steps adds the steps of the projects whose services run natively: install before build before
// generate before migrate before seed before serve.
func (b *builder) steps() {
	for i := range b.stack.Services {
		s := &b.stack.Services[i]
		service := b.nodes[stack.ServiceNode(s.Name)]
		if service == nil {
			continue
		}
		if s.Runs != stack.Native {
			b.builtFirst(s, service)
			continue
		}
		p := b.stack.Project(s.Project, s.Manager)
		if p == nil {
			continue
		}
		var last *Node
		for i := range p.Steps {
			step := &p.Steps[i]
			if step.Role == stack.Test || step.ForOthers ||
				step.Folder != "" && step.Folder != s.Folder && !b.inherits(p, step, s) {
				continue
			}
			n := b.step(step, service, last)
			last = n
		}
		for _, id := range s.AfterSteps {
			of := p
			if other := b.projectOf(id); other != nil {
				of = other
			}
			if n := b.stepByID(id, of, service); n != nil {
				service.wait(Edge{ID: n.ID, Until: stack.Finished, Because: stack.Inferred,
					Sure:   stack.Said,
					Reason: fmt.Sprintf("it uses what %s makes", n.ID.Title()), At: s.At})
			}
		}
		if last != nil {
			service.wait(Edge{ID: last.ID, Until: stack.Finished, Because: stack.Inferred,
				Sure:   stack.Usual,
				Reason: fmt.Sprintf("%s comes before it is served", role(last.ID)), At: s.At})
		}
	}
}

// builtFirst adds the builds that a container's service waits for, each behind its project's
// install.
func (b *builder) builtFirst(s *stack.Service, service *Node) {
	for _, id := range s.AfterSteps {
		p := b.projectOf(id)
		if p == nil {
			continue
		}
		var last *Node
		for i := range p.Steps {
			if st := &p.Steps[i]; st.Role == stack.Install && st.Folder == "" || st.ID == id {
				last = b.step(st, service, last)
			}
		}
		service.wait(Edge{ID: last.ID, Until: stack.Finished, Because: stack.Inferred,
			Sure:   stack.Said,
			Reason: fmt.Sprintf("its container holds what %s makes", last.ID.Title()), At: s.At})
	}
}

// inherits reports whether a service needs a step of another folder of its project: what prepares
// the code or the data of a part that the service uses, and that is served nowhere itself.
func (b *builder) inherits(p *stack.Project, step *stack.Step, s *stack.Service) bool {
	if step.Role.Rank() < stack.Generate.Rank() ||
		!slices.Contains(p.Reaches(s.Dir()), step.Folder) {
		return false
	}
	return !slices.ContainsFunc(b.stack.Services, func(o stack.Service) bool {
		return o.Runs == stack.Native && o.Project == p.Path && o.Dir() == step.Folder
	})
}

// step adds a step of a service's project, behind the one before it.
func (b *builder) step(step *stack.Step, service, last *Node) *Node {
	id := stack.StepNode(step.ID)
	n := b.nodes[id]
	if n == nil {
		n = b.add(id, "step")
		for _, other := range step.AfterSteps {
			if p := b.projectOf(step.ID); p != nil {
				if before := b.stepByID(other, p, service); before != nil {
					n.wait(Edge{ID: before.ID, Until: stack.Finished, Because: stack.Inferred,
						Sure: stack.Said, Reason: fmt.Sprintf("it uses what %s makes",
							before.ID.Title()), At: step.At})
				}
			}
		}
	}
	if needsDatabase(step.Role) {
		own := b.byName[service.ID.Title()]
		for _, e := range service.After {
			if other := b.byName[e.ID.Title()]; other != nil && other.Kind == stack.Lasting &&
				other.Project != own.Project && keepsData(other) {
				e.Reason = fmt.Sprintf("%s talks to it: %s", step.Role, e.Reason)
				n.wait(e)
			}
		}
	}
	if last != nil && last != n {
		n.wait(Edge{ID: last.ID, Until: stack.Finished, Because: stack.Inferred, Sure: stack.Usual,
			Reason: fmt.Sprintf("%s comes before %s", role(last.ID), step.Role), At: step.At})
	}
	return n
}

func (b *builder) projectOf(stepID string) *stack.Project {
	for i := range b.stack.Projects {
		if slices.ContainsFunc(b.stack.Projects[i].Steps,
			func(s stack.Step) bool { return s.ID == stepID }) {
			return &b.stack.Projects[i]
		}
	}
	return nil
}

// stepByID adds a step that another folder of the project needs, behind the project's install.
func (b *builder) stepByID(id string, p *stack.Project, service *Node) *Node {
	i := slices.IndexFunc(p.Steps, func(s stack.Step) bool { return s.ID == id })
	if i < 0 {
		return nil
	}
	var install *Node
	for k := range p.Steps {
		if p.Steps[k].Role == stack.Install && p.Steps[k].Folder == "" {
			install = b.nodes[stack.StepNode(p.Steps[k].ID)]
		}
	}
	return b.step(&p.Steps[i], service, install)
}

func role(id stack.NodeID) string {
	step, _ := id.Step()
	r, _, _ := strings.Cut(step, ":")
	return r
}

// dropCycles leaves out inferred edges that would close a cycle; a cycle of declared ones stays in
// Cycle.
func (b *builder) dropCycles() {
	for {
		cycle := b.findCycle()
		if cycle == nil {
			return
		}
		weakest, from := -1, stack.NodeID("")
		for i := 0; i+1 < len(cycle); i++ {
			for k, e := range b.nodes[cycle[i]].After {
				// The weakest is the one that asks for least; of equals the last.
				if e.ID == cycle[i+1] && e.Because == stack.Inferred &&
					(weakest < 0 || e.Until.Strength() <= b.nodes[from].After[weakest].Until.Strength()) {
					weakest, from = k, cycle[i]
				}
			}
		}
		if weakest < 0 {
			b.out.Cycle = cycle
			return
		}
		n := b.nodes[from]
		e := n.After[weakest]
		n.After = slices.Delete(n.After, weakest, weakest+1)
		b.out.Remarks = append(b.out.Remarks,
			stack.Remark{Level: stack.Warning, Code: stack.CodeOrderEdgeDropped, At: e.At,
				Text: fmt.Sprintf("%s does not wait for %s, although %s: that would be a circle",
					from.Title(), e.ID.Title(),
					e.Reason), Remedy: "None, if both start without each other."})
	}
}

// findCycle gives the ids along a cycle, each waiting for the next, the first again at the end.
func (b *builder) findCycle() []stack.NodeID {
	const (
		unseen = iota
		open
		closed
	)
	marks := make(map[stack.NodeID]int, len(b.list))
	type frame struct {
		node *Node
		next int
	}
	for _, start := range b.list {
		if marks[start.ID] != unseen {
			continue
		}
		way := []frame{{node: start}}
		marks[start.ID] = open
		for len(way) > 0 {
			top := &way[len(way)-1]
			if top.next == len(top.node.After) {
				marks[top.node.ID] = closed
				b.out.Nodes = append(b.out.Nodes, *top.node)
				way = way[:len(way)-1]
				continue
			}
			other := b.nodes[top.node.After[top.next].ID]
			top.next++
			switch {
			case other == nil:
			case marks[other.ID] == unseen:
				marks[other.ID] = open
				way = append(way, frame{node: other})
			case marks[other.ID] == open:
				b.out.Nodes = nil
				at := slices.IndexFunc(way, func(f frame) bool { return f.node == other })
				var cycle []stack.NodeID
				for _, f := range way[at:] {
					cycle = append(cycle, f.node.ID)
				}
				return append(cycle, other.ID)
			}
		}
	}
	return nil
}

// rank sorts the nodes by the length of the longest way to them, then by kind and name.
func (b *builder) rank() {
	ranks := make(map[stack.NodeID]int, len(b.out.Nodes))
	// in the order in which findCycle closed them: after what they wait for
	for i := range b.out.Nodes {
		n := &b.out.Nodes[i]
		for _, e := range n.After {
			n.Rank = max(n.Rank, ranks[e.ID]+1)
		}
		ranks[n.ID] = n.Rank
		slices.SortFunc(n.After, func(a, b Edge) int { return cmp.Compare(a.ID, b.ID) })
	}
	slices.SortFunc(b.out.Nodes, func(a, b Node) int {
		return cmp.Or(cmp.Compare(a.Rank, b.Rank), -strings.Compare(a.Kind, b.Kind),
			cmp.Compare(a.ID, b.ID))
	})
}

// guess is the time in seconds that a node is taken to need while nothing is known: it only decides
// which way is called critical.
func guess(n *Node) float64 {
	if n.Kind == "step" {
		return 10
	}
	return 1
}

// criticalPath finds the way that decides how long the launch takes.
func (b *builder) criticalPath() {
	total := make(map[stack.NodeID]float64, len(b.out.Nodes))
	before := make(map[stack.NodeID]stack.NodeID, len(b.out.Nodes))
	end, known := stack.NodeID(""), len(b.opt.Seconds) > 0
	for i := range b.out.Nodes {
		n := &b.out.Nodes[i]
		for _, e := range n.After {
			if t := total[e.ID]; t > total[n.ID] || before[n.ID] == "" {
				total[n.ID], before[n.ID] = t, e.ID
			}
		}
		own, ok := b.opt.Seconds[n.ID]
		if !ok {
			own = guess(n)
		}
		total[n.ID] += own
		if end == "" || total[n.ID] > total[end] {
			end = n.ID
		}
	}
	for id := end; id != ""; id = before[id] {
		b.out.CriticalPath = append(b.out.CriticalPath, id)
	}
	slices.Reverse(b.out.CriticalPath)
	if known {
		b.out.Estimate = total[end]
	}
}
