package execute

import (
	"context"
	"slices"
	"sync"
	"time"

	"nimbleharbor/internal/keeper"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/stack"
)

// Grace is how long a native service may take to end by itself.
const Grace = 10 * time.Second

// StopTimes is how long all services of a plan are given to end by themselves, one after the other.
func StopTimes(p *plan.Plan) (sum time.Duration) {
	for _, s := range p.Services {
		sum += stopTime(&s)
	}
	return sum
}

// stopTime is how long a service is given to end by itself.
func stopTime(s *plan.Service) time.Duration {
	if s.Container != nil && s.Runs == stack.Container && s.Container.StopGrace > 0 {
		return seconds(s.Container.StopGrace)
	}
	return Grace
}

// Stop stops the services named, and those that need them; without names all. Each is stopped when
// everything that needs it has ended. It returns when they all have.
func (x *Executor) Stop(names []string) {
	targets := x.dependants(names)
	needs := map[stack.NodeID][]*node{} // by id: the targets that wait for it
	for _, o := range x.Plan().Order.Nodes {
		if !targets[o.ID] {
			continue
		}
		for _, e := range o.After {
			needs[e.ID] = append(needs[e.ID], x.at(o.ID))
		}
	}
	var wait sync.WaitGroup
	for id := range targets {
		n := x.at(id)
		wait.Go(func() {
			for _, user := range needs[id] {
				user.over()
			}
			x.stop(n)
		})
	}
	wait.Wait()
	if len(names) == 0 {
		return // the steward looks for all that is left
	}
	for id := range targets { // what has left its service's group, to go on in the background
		if n := x.at(id); n.svc != nil && n.svc.Runs == stack.Native {
			keeper.AskMarked(x.Plan().ID, string(id), Grace)
		}
	}
}

// dependants gives the ids of the services named and of all that need them.
func (x *Executor) dependants(names []string) map[stack.NodeID]bool {
	out := map[stack.NodeID]bool{}
	for _, o := range x.Plan().Order.Nodes { // each comes after those it waits for
		hit := len(names) == 0 || !o.ID.IsStep() && slices.Contains(names, o.ID.Title())
		for _, e := range o.After {
			hit = hit || out[e.ID]
		}
		if hit {
			out[o.ID] = true
		}
	}
	return out
}

func (x *Executor) stop(n *node) {
	x.move(n, change{kind: wishes, wish: toStop})
	n.mu.Lock()
	l := n.life
	if n.giveUp != nil {
		n.giveUp()
	}
	n.mu.Unlock()
	if l.Process != nil && !l.Over {
		l.Process.Stop(stopTime(n.svc))
	}
	n.over() // without a process it waits or is being started, and is given up
}

// Kill ends every service that runs, without Grace and without order.
func (x *Executor) Kill() {
	for _, n := range x.all() {
		x.move(n, change{kind: wishes, wish: toStop})
		if p := n.now().Process; p != nil {
			go p.Stop(0)
		}
	}
}

// Running counts the services that have a process, or will have one again.
func (x State) Running() int {
	count := int(x.renewing.Load())
	for _, n := range x.all() {
		if l := n.now(); !l.Over && (l.Process != nil || l.Again > 0) {
			count++
		}
	}
	return count
}

// Idle waits until no service has a process any more, or ctx ends.
func (x *Executor) Idle(ctx context.Context) {
	for {
		_, more := x.journal.since(0)
		if x.State().Running() == 0 {
			return
		}
		select {
		case <-more:
		case <-ctx.Done():
			return
		}
	}
}

// Results tells how every service stands.
func (x State) Results() []stack.ServiceResult {
	var out []stack.ServiceResult
	for _, o := range x.Plan().Order.Nodes {
		if n := x.at(o.ID); n.svc != nil {
			l := n.now()
			out = append(out, stack.ServiceResult{Name: n.svc.Name, State: l.State,
				Seconds: float64(l.Since.Milliseconds()) / 1000})
		}
	}
	return out
}

// Good reports whether every step and service stands as a launch wants it.
func (x State) Good() bool {
	for _, n := range x.all() {
		if s := n.now().State; !s.Good() {
			return false
		}
	}
	return true
}

// GoodOrStopped reports the same of all but the services that somebody has stopped.
func (x State) GoodOrStopped() bool {
	for _, n := range x.all() {
		if s := n.now().State; !s.Good() && s != stack.Stopped {
			return false
		}
	}
	return true
}

// Failures lists, in a line each, what failed and why; what was skipped follows.
func (x State) Failures() []stack.Failure {
	r := record.Record{Services: x.Services(), Steps: x.Steps()}
	return r.Failures()
}
