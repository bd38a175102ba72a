package supervise

import (
	"context"
	"fmt"
	"slices"
	"sync"

	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/sockets"
	"nimbleharbor/internal/stack"
)

// CheckPorts speaks to every port that the services publish and gives the verdicts, each with cause and
// remedy where it isn't good. The record tells how the stack was launched; it may be nil.
func CheckPorts(ctx context.Context, services []stack.Service, r *Record) stack.Check {
	out := stack.Check{Schema: "nharbor.check/1", Answers: true, Ports: []stack.PortCheck{}}
	type target struct {
		service stack.Service
		port    stack.Port
	}
	var targets []target
	for _, s := range services {
		for _, p := range s.Ports {
			if p.Host > 0 && s.Kind != stack.Once { // a job is asked nothing
				targets = append(targets, target{s, p})
			}
		}
	}
	out.Ports = make([]stack.PortCheck, len(targets))
	owners := sockets.Owners()
	alive := r.Alive()
	var wait sync.WaitGroup
	for i, t := range targets {
		wait.Go(func() {
			c := &out.Ports[i]
			if t.port.Transport == "udp" {
				*c = stack.PortCheck{Address: fmt.Sprintf("127.0.0.1:%d", t.port.Host), Expected: t.port.Speaks,
					Verdict: stack.Refuses}
				if sockets.UDPBound(t.port.Host) {
					c.Verdict, c.Cause = stack.Answers,
						"bound, but not asked: there is no question that every UDP service answers"
				}
			} else {
				*c = protocol.Ask(ctx, t.port.Host, t.port.Speaks)
			}
			c.Service, c.Owner = t.service.Name, owners[t.port.Host]
			*c = r.about(*c, t.service, t.port, alive).Explain()
		})
	}
	wait.Wait()
	for _, c := range out.Ports {
		out.Answers = out.Answers && c.Verdict == stack.Answers
	}
	return out
}

// about gathers what is known of a service's port that was asked.
func (r *Record) about(c stack.PortCheck, s stack.Service, p stack.Port, alive bool) *diagnose.Port {
	known := &diagnose.Port{Check: c, Service: s.Name, Target: p.Target, At: p.At, Alive: alive,
		Patient: int(protocol.Patience.Seconds()), HungUp: c.Cause == protocol.HungUp}
	if rec := r.Service(s.Name); rec != nil {
		known.Launched, known.Runs, known.State, known.Text = true, rec.Runs, rec.State, rec.Text
		known.Foreign = rec.Runs == stack.Native && rec.PID > 0 && c.Owner != nil && alive &&
			groupOf(c.Owner.PID) != rec.PID
	}
	return known
}

// Merge takes over from the record what the launch has changed: which services run, and on which ports.
func (r *Record) Merge(services []stack.Service) []stack.Service {
	out := slices.Clone(services)
	if !r.Alive() {
		return out
	}
	for i := range out {
		if rec := r.Service(out[i].Name); rec != nil {
			out[i].Ports, out[i].Runs = rec.Ports, rec.Runs
		}
	}
	return out
}
