// Package judge looks at a stack and concludes how it stands, in one place: what was launched, what
// each port says that is asked, who holds it, and why. A launch asks it while it comes up and when
// it has settled; check, board and report ask it afterwards. What is a cause stands in diagnose.
package judge

import (
	"cmp"
	"context"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"

	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/engines"
	"nimbleharbor/internal/logs"
	"nimbleharbor/internal/process"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/sockets"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/workspace"
)

// Judging asks for the one judgement of a stack: what was launched, how each service stands, and
// what each port says that is asked. Launch, check, restart and report show the same one.
type Judging struct {
	Root     string
	Stack    *stack.Stack    // of the survey: sign-ins, pages and own checks
	Services []stack.Service // as they are to run; those of Stack for nil
	Record   *record.Record  // how they were launched; nil for never
	// Part says which of the launched services count; nil for all.
	Part func(*record.Service) bool
	// Value gives the value of a setting as a service sees it, for the workspace's own checks; nil
	// for none.
	Value func(service, key string) (string, bool)
}

// Ask judges. A service that failed, was skipped or left out is never said to answer, whoever does;
// where nothing was launched, nothing is well.
func (q Judging) Ask(ctx context.Context) stack.Check {
	r := q.Record
	services := q.Services
	if services == nil {
		services = q.Stack.Services
	}
	j := &judgement{Judging: q, alive: r.Alive(), owners: sockets.Owners()}
	j.out = stack.Check{Schema: "nharbor.check/1", Ports: []stack.PortCheck{},
		Services: []stack.ServiceCheck{}}
	j.out.Launched = j.alive
	if r != nil {
		j.out.Failures = r.Failures()
	}
	if j.alive && r.InContainers() || !j.alive &&
		slices.ContainsFunc(services, func(s stack.Service) bool {
			return s.Runs == stack.Container && len(s.Ports) > 0
		}) {
		j.lookInto(ctx)
		defer engines.Close(j.engines)
	}
	now := r.Merge(services)
	targets := j.targets(now)
	j.ask(ctx, targets)
	j.conclude(targets)
	if q.Stack != nil {
		j.out.SignIns = SignIns(q.Root, q.Stack)
		j.pages(ctx, services, now)
		j.own(ctx)
	}
	j.open()
	j.mask()
	return j.out
}

// judgement is what is known while a stack is judged.
type judgement struct {
	Judging
	alive      bool
	owners     map[int]*stack.Owner
	containers []engine.Listed  // all of the engine's, where it could be asked
	known      bool             // and it could
	engines    []*engine.Engine // only while they are asked
	out        stack.Check
}

// target is a port that is asked, of a service.
type target struct {
	service *stack.Service
	index   int // of the service in the answer
	port    stack.Port
	name    string // by which it is called
	extra   bool   // announced, or by another name: beyond what is declared
	check   stack.PortCheck
}

// targets enters every service into the answer, and lists the ports that are asked.
func (j *judgement) targets(services []stack.Service) []*target {
	var out []*target
	for i := range services {
		s := &services[i]
		c := stack.ServiceCheck{Name: s.Name, Runs: s.Runs, Kind: s.Kind}
		if rec := j.Record.Service(s.Name); rec != nil {
			if j.Part != nil && !j.Part(rec) {
				continue
			}
			c.State, c.Runs, c.Kind = rec.State, rec.Runs, rec.Kind
		} else if j.alive {
			if c.LeftOut = true; len(s.Profiles) > 0 {
				continue
			}
		}
		j.out.Services = append(j.out.Services, c)
		if c.LeftOut || c.Kind == stack.Once { // a job is asked nothing
			continue
		}
		add := func(t target) {
			t.service, t.index = s, len(j.out.Services)-1
			out = append(out, &t)
		}
		for _, p := range s.Ports {
			if p.Host == 0 {
				continue
			}
			add(target{port: p})
			for _, n := range s.Names {
				if p.Speaks == "http" && (n.Port == 0 || n.Port == p.Host) {
					add(target{port: p, name: n.Host, extra: true})
				}
			}
		}
		for _, p := range j.announced(s) {
			add(target{port: p, extra: true})
		}
	}
	return out
}

// announced are the ports that a native service has announced in its log and opened, and that are
// declared nowhere.
func (j *judgement) announced(s *stack.Service) []stack.Port {
	rec := j.Record.Service(s.Name)
	if !j.alive || j.Root == "" || rec == nil || rec.Runs != stack.Native || rec.PID == 0 {
		return nil
	}
	var out []stack.Port
	for _, port := range logs.Announced(j.Root, s.Name) {
		o := j.owners[port]
		if o == nil || process.GroupOf(o.PID) != rec.PID ||
			slices.ContainsFunc(s.Ports, func(p stack.Port) bool { return p.Host == port }) {
			continue
		}
		out = append(out, stack.Port{Host: port, Target: port, Transport: "tcp", Speaks: "http"})
	}
	return out[:min(len(out), maxAnnounced)]
}

// maxAnnounced is how many addresses of one service are asked beyond those that are declared.
const maxAnnounced = 4

// ask asks all targets at once.
func (j *judgement) ask(ctx context.Context, targets []*target) {
	var wait sync.WaitGroup
	for _, t := range targets {
		wait.Go(func() {
			known := j.about(ctx, t, j.put(ctx, t))
			t.check = known.Explain()
		})
	}
	wait.Wait()
}

// put asks one target.
func (j *judgement) put(ctx context.Context, t *target) stack.PortCheck {
	p := t.port
	q := protocol.Question{Port: p.Host, Speaks: p.Speaks, Name: t.name}
	switch {
	case protocol.IsGentle(p.Speaks):
		return j.bound(t, "")
	case p.Transport == "udp" && !protocol.Datagrams(p.Speaks):
		return j.bound(t, "bound, but not asked: there is no question that every UDP service "+
			"answers")
	case p.Transport == "udp":
		q.UDP = true
	}
	c := q.Put(ctx)
	if slow := 1000.0; c.Status > 0 && c.Verdict == stack.Answers && c.LatencyMs > slow {
		// The first page warms a server up: what the next one takes tells that apart from a slow
		// server.
		if next := q.Put(ctx); next.Verdict == stack.Answers && next.LatencyMs < c.LatencyMs/2 {
			next.FirstMs = c.LatencyMs
			c = next
		}
	}
	return c
}

// bound is the verdict on a port that is looked at and not asked.
func (j *judgement) bound(t *target, says string) stack.PortCheck {
	c := stack.PortCheck{Address: net.JoinHostPort("127.0.0.1", strconv.Itoa(t.port.Host)),
		Expected: t.port.Speaks, Verdict: stack.Refuses}
	held := j.owners[t.port.Host] != nil || j.holder(t.port.Host) != nil
	if t.port.Transport == "udp" {
		held = sockets.UDPBound(t.port.Host)
	}
	if held {
		c.Verdict, c.Cause = stack.Answers, says
	}
	return c
}

// about gathers what is known of a target that was asked.
func (j *judgement) about(ctx context.Context, t *target, c stack.PortCheck) *diagnose.Port {
	s, p := t.service, t.port
	c.Service, c.Name, c.Announced = s.Name, t.name, t.extra && t.name == ""
	if c.Owner == nil {
		c.Owner = j.owners[p.Host]
	}
	known := &diagnose.Port{Check: c, Service: s.Name, Target: p.Target, At: p.At, Alive: j.alive,
		Patient: int(protocol.Patience.Seconds()), HungUp: c.Cause == protocol.HungUp,
		Gentle: protocol.IsGentle(p.Speaks) && c.Verdict == stack.Answers}
	holder := j.holder(p.Host)
	known.Left = j.isLeft(holder, c.Owner)
	rec := j.Record.Service(s.Name)
	if rec == nil {
		j.strange(known, p.Host)
		return known
	}
	known.Launched, known.Runs, known.State, known.Text = true, rec.Runs, rec.State, rec.Text
	known.Doing = rec.Doing
	known.Why, known.Mend = rec.Cause, rec.Remedy
	known.Foreign = j.isForeign(rec, holder, c.Owner)
	ours := rec.Runs == stack.Container && holder != nil && !known.Foreign
	if ours && j.alive {
		known.Check.Owner = nil // the engine's forwarder is no news
	}
	if known.Foreign || slices.Contains([]stack.State{stack.Failed, stack.Stopped, stack.Skipped},
		rec.State) {
		j.strange(known, p.Host)
	}
	if ours && p.Transport != "udp" {
		j.lookInside(ctx, known, holder)
	}
	if c.Said != "" && c.Verdict == stack.Errs {
		if cause := reasonOf(c.Said); cause != nil {
			known.Reason, known.Fix = cause.Cause, cause.Remedy
		}
	}
	return known
}

// isLeft reports whether what holds a port is of a launch of this workspace whose steward is gone.
func (j *judgement) isLeft(holder *engine.Listed, owner *stack.Owner) bool {
	if j.alive || j.Root == "" {
		return false
	}
	id := workspace.ID(j.Root)
	return holder != nil && holder.Labels[engine.LabelStack] == id ||
		owner != nil && process.MarkOf(owner.PID) == id
}

// isForeign reports whether a port that a launched service should have is somebody else's, by the
// container that holds it and the process that owns it, either of which may be nil.
func (j *judgement) isForeign(rec *record.Service, holder *engine.Listed, owner *stack.Owner) bool {
	switch {
	case !j.alive:
		return true
	case rec.Runs == stack.Native:
		return holder != nil || rec.PID > 0 && owner != nil && !j.isOwn(owner.PID, rec)
	case holder != nil:
		return !j.ours(holder, rec.Name)
	}
	return j.known // no container has it, and somebody answers
}

// reasonOf looks for the reason in the text of an error page; nil where no rule knows it.
func reasonOf(page string) *diagnose.Cause {
	r, _ := diagnose.ReadLog(strings.NewReader(diagnose.PlainText(page) + "\n"))
	if len(r.Causes) == 0 {
		return nil
	}
	return &r.Causes[0]
}

// conclude gathers what the targets say into the answer.
func (j *judgement) conclude(targets []*target) {
	answered := make([]int, len(j.out.Services))
	wrong := make([]*stack.PortCheck, len(j.out.Services))
	byName(targets)
	for _, t := range targets {
		c := t.check
		j.out.Ports = append(j.out.Ports, c)
		// what nobody has promised is shown, and no failure
		if t.extra && c.Verdict != stack.Answers {
			continue
		}
		j.out.Services[t.index].Asked++
		if c.Verdict == stack.Answers {
			answered[t.index]++
		} else if wrong[t.index] == nil {
			wrong[t.index] = &c
		}
	}
	good := j.alive && j.Record != nil
	for i := range j.out.Services {
		s := &j.out.Services[i]
		if s.LeftOut {
			s.Cause, s.Remedy = "it is not part of this launch", ""
			continue
		}
		rec := j.Record.Service(s.Name)
		j.concludeOf(s, rec, wrong[i], answered[i])
		good = good && s.Good
		j.count(s, rec)
	}
	for _, f := range j.out.Failures {
		if _, isStep := f.ID.Step(); isStep {
			good = false
		}
	}
	j.out.Answers = good && len(j.out.Services) > 0
}

// concludeOf says whether a service is as it should be, or else why it isn't: by the first of its
// ports that is wrong, or by its state. Rec is nil for one that was not launched.
func (j *judgement) concludeOf(s *stack.ServiceCheck, rec *record.Service, wrong *stack.PortCheck,
	answered int) {
	switch {
	case wrong != nil:
		s.Cause, s.Remedy = wrong.Cause, wrong.Remedy
	case rec == nil || !j.alive && rec.State.Good():
		s.Cause, s.Remedy = "the stack is not launched", "Launch it: nharbor launch"
	case rec.State.Good(), rec.State == stack.Quiet && s.Asked > 0 && answered == s.Asked:
		s.Good = true
	default:
		s.Cause, s.Remedy = stateWords(rec), cmp.Or(rec.Remedy, stateRemedy(rec))
	}
}

// count counts a service that is to stay up: how many there are, run, answer.
func (j *judgement) count(s *stack.ServiceCheck, rec *record.Service) {
	if s.Kind == stack.Once {
		return
	}
	j.out.Counts.Expected++
	if j.alive && rec != nil && rec.Running() {
		j.out.Counts.Running++
	}
	if s.Good && s.Asked > 0 {
		j.out.Counts.Answering++
	}
}

// stateRemedy is what helps where a service is in such a state, and nothing else is known.
func stateRemedy(rec *record.Service) string {
	switch rec.State {
	case stack.Stopped:
		return "Start it again: nharbor restart " + rec.Name
	case stack.Skipped:
		return "Mend that first, then launch again."
	case stack.Waiting, stack.Starting:
		return "Wait until it is up: nharbor check --wait 60s"
	}
	return "See what it says: nharbor logs " + rec.Name
}

// stateWords says what a service's state is, where it is none that is wanted.
func stateWords(rec *record.Service) string {
	switch rec.State {
	case stack.Failed:
		return "the service failed: " + rec.Text
	case stack.Skipped:
		return "the service was skipped, since " + rec.Text
	case stack.Stopped:
		return "the service was stopped"
	case stack.Waiting:
		return "it waits " + rec.Text
	case stack.Starting:
		return cmp.Or(rec.Text, "it is still starting")
	}
	return cmp.Or(rec.Text, string(rec.State))
}

// byName lets an answer by a service's own name stand for that by localhost, where the server
// refuses localhost or has nothing there.
func byName(targets []*target) {
	for _, t := range targets {
		c := &t.check
		if t.extra || c.Verdict == stack.Answers && c.Status < 400 {
			continue
		}
		for _, o := range targets {
			if o.name != "" && o.index == t.index && o.port.Host == t.port.Host &&
				o.check.Verdict == stack.Answers && o.check.Status < 400 && c.Status > 0 {
				status := c.Status
				*c = o.check
				c.Cause = fmt.Sprintf("it answers to the name %s; called localhost, with status "+
					"%d", o.name, status)
				break
			}
		}
	}
}
