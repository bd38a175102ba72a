package launch

import (
	"slices"
	"strings"
	"sync"
	"time"

	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
)

// grace is how long a native service may take to end by itself.
const grace = 10 * time.Second

// Stop stops the services named, and those that need them; without names all. Each is stopped when
// everything that needs it has ended. It returns when they all have.
func (x *Executor) Stop(names []string) {
	targets := x.dependants(names)
	needs := map[string][]*node{} // by id: the targets that wait for it
	for _, o := range x.plan().Order.Nodes {
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
				<-user.over
			}
			x.stop(n)
		})
	}
	wait.Wait()
}

// dependants gives the ids of the services named and of all that need them.
func (x *Executor) dependants(names []string) map[string]bool {
	out := map[string]bool{}
	for _, o := range x.plan().Order.Nodes { // each comes after those it waits for
		hit := len(names) == 0 || slices.Contains(names, strings.TrimPrefix(o.ID, "service:"))
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
	n.mu.Lock()
	proc := n.proc
	n.stopping = true
	if n.giveUp != nil {
		n.giveUp()
	}
	n.mu.Unlock()
	select {
	case <-n.over:
		return
	default:
	}
	if proc == nil { // it waits or is being started, and is given up
		<-n.over
		return
	}
	wait := grace
	if n.svc.Container != nil && n.svc.Runs == stack.Container && n.svc.Container.StopGrace > 0 {
		wait = seconds(n.svc.Container.StopGrace)
	}
	proc.Stop(wait)
	<-n.over
}

// Kill ends every service that runs, without grace and without order.
func (x *Executor) Kill() {
	for _, n := range x.all() {
		n.mu.Lock()
		if n.stopping = true; n.proc != nil {
			go n.proc.Stop(0)
		}
		n.mu.Unlock()
	}
}

// Running counts the services that have a process.
func (x *Executor) Running() int {
	count := 0
	for _, n := range x.all() {
		n.mu.Lock()
		started := n.proc != nil || n.again > 0
		n.mu.Unlock()
		if !started {
			continue
		}
		select {
		case <-n.over:
		default:
			count++
		}
	}
	return count
}

// Results tells how every service stands.
func (x *Executor) Results() []stack.ServiceResult {
	var out []stack.ServiceResult
	for _, o := range x.plan().Order.Nodes {
		if n := x.at(o.ID); n.svc != nil {
			n.mu.Lock()
			out = append(out, stack.ServiceResult{Name: n.svc.Name, State: n.state,
				Seconds: float64(n.since.Milliseconds()) / 1000})
			n.mu.Unlock()
		}
	}
	return out
}

// Good reports whether every step and service stands as a launch wants it.
func (x *Executor) Good() bool {
	for _, n := range x.all() {
		if s, _ := n.is(); !s.Good() {
			return false
		}
	}
	return true
}

// GoodOrStopped reports the same of all but the services that somebody has stopped.
func (x *Executor) GoodOrStopped() bool {
	for _, n := range x.all() {
		if s, _ := n.is(); !s.Good() && s != stack.Stopped {
			return false
		}
	}
	return true
}

// Failures lists, in a line each, what failed and why; what was skipped follows.
func (x *Executor) Failures() []string {
	var failed, skipped []string
	for _, o := range x.plan().Order.Nodes {
		s, text := x.at(o.ID).is()
		switch s {
		case stack.Failed, stack.Quiet:
			failed = append(failed, order.Title(o.ID)+": "+text)
		case stack.Skipped:
			skipped = append(skipped, order.Title(o.ID)+": skipped, since "+text)
		}
	}
	return append(failed, skipped...)
}
