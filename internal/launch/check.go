package launch

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

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
			if p.Host > 0 {
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
			explain(c, t.service, t.port, r, alive)
		})
	}
	wait.Wait()
	for _, c := range out.Ports {
		out.Answers = out.Answers && c.Verdict == stack.Answers
	}
	return out
}

// explain completes a verdict by who it is, why, and what to do.
func explain(c *stack.PortCheck, s stack.Service, p stack.Port, r *Record, alive bool) {
	rec := r.Service(s.Name)
	ours := true
	if rec != nil && rec.Runs == stack.Native && rec.PID > 0 && c.Owner != nil && alive {
		ours = groupOf(c.Owner.PID) == rec.PID
	}
	if !alive && (c.Verdict == stack.Answers || c.Verdict == stack.Errs) {
		ours = false
	}
	if !ours && c.Verdict != stack.Refuses {
		c.Verdict = stack.Stranger
		c.Cause = "another program answers on this port"
		if c.Owner != nil {
			c.Cause = fmt.Sprintf("another program answers on this port: %s, process %d", c.Owner.Command, c.Owner.PID)
		}
		c.Remedy = "Stop it, or launch on other ports: nharbor launch --shift 100"
		if !alive {
			c.Cause += "; this stack is not launched"
		}
		return
	}
	if c.Cause == protocol.HungUp && rec != nil && rec.Runs == stack.Native {
		c.Verdict = stack.Silent // in front of a container it is the engine's forwarder that hangs up
	}
	logs := fmt.Sprintf("See what it says: nharbor logs %s", s.Name)
	switch c.Verdict {
	case stack.Refuses:
		switch {
		case !alive:
			c.Cause, c.Remedy = "the stack is not launched", "Launch it: nharbor launch"
		case rec == nil:
			c.Cause, c.Remedy = "it is not part of this launch", "Launch it too: nharbor stop, then nharbor launch"
		case rec.State == stack.Failed:
			c.Cause, c.Remedy = "the service failed: "+rec.Text, logs
		case rec.State == stack.Skipped:
			c.Cause, c.Remedy = "the service was skipped, since "+rec.Text, "Mend that first, then launch again."
		case rec.State == stack.Stopped:
			c.Cause, c.Remedy = "the service was stopped", "Start it again: nharbor restart "+s.Name
		case rec.State == stack.Starting && rec.Text != "":
			c.Cause, c.Remedy = rec.Text, logs
		case rec.Runs == stack.Container:
			c.Cause = fmt.Sprintf(
				"the container runs, but nothing listens on its port %d; a program that binds to the container's own "+
					"loopback can't be reached from outside", p.Target)
			c.Remedy = fmt.Sprintf("Let it listen on 0.0.0.0:%d. %s", p.Target, logs)
		default:
			c.Cause, c.Remedy = "the process runs, but does not listen on this port", logs
		}
	case stack.Silent:
		if c.Cause == "" {
			c.Cause = fmt.Sprintf("it accepts the connection and says nothing within %d seconds",
				int(protocol.Patience.Seconds()))
		}
		c.Remedy = logs
	case stack.Errs:
		c.Remedy = logs
	case stack.Stranger:
		who := c.Speaks
		if who == "" || who == "tcp" {
			who = "something that was not recognised"
		}
		c.Cause = fmt.Sprintf("%s was expected, and %s answers", c.Expected, who)
		c.Remedy = fmt.Sprintf("Correct the port at %s:%d, or see who it is.", p.At.File, p.At.Line)
	}
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

// AddressOf is a port as one writes it into a browser's or a client's address line.
func AddressOf(p stack.PortCheck) string {
	if p.Expected == "http" {
		return "http://" + strings.Replace(p.Address, "127.0.0.1", "localhost", 1)
	}
	return p.Address
}
