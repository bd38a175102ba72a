package supervise

import (
	"context"
	"fmt"
	"slices"
	"time"

	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/run"
	"nimbleharbor/internal/sockets"
	"nimbleharbor/internal/stack"
)

// A native service may listen on another port than expected. What its own processes have opened is believed before
// anything that is written; it is asked, shown, and remembered for the next survey.

// lookAgain is how often the sockets of a service are looked at while it is waited for. A port counts that is seen
// twice.
const lookAgain = 1500 * time.Millisecond

// learning is for how long a service of which no port is known is looked at.
const learning = 2 * time.Minute

// portsNow are the ports of a service as far as they are known by now.
func (n *node) portsNow() []stack.Port {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.opened != nil {
		return n.opened
	}
	return n.svc.Ports
}

// found takes over a port that a service has opened in the place of the one with that index, or as its only one.
func (x *Executor) found(n *node, index int, p stack.Port, said int) {
	n.mu.Lock()
	ports := slices.Clone(n.svc.Ports)
	if n.opened != nil {
		ports = slices.Clone(n.opened)
	}
	if index < len(ports) {
		ports[index] = p
	} else {
		ports = append(ports, p)
	}
	n.opened = ports
	n.mu.Unlock()
	if index == 0 {
		x.memory.Saw(n.svc.Name, memory.Seen{Port: p.Host, Speaks: p.Speaks, Said: said})
	}
}

// awaitPort waits until a port answers, as protocol.Await does. A native service that has opened one other port
// instead, which answers, is taken at its deed: the port is the one that is given back.
func (x *Executor) awaitPort(ctx context.Context, n *node, proc run.Process, index int) (stack.PortCheck, stack.Port) {
	p := n.svc.Ports[index]
	native, ok := proc.(*run.Native)
	if !ok {
		return protocol.Await(ctx, p.Host, p.Speaks, erring), p
	}
	waiting, cancel := context.WithCancel(ctx)
	defer cancel()
	answered := make(chan stack.PortCheck, 1)
	go func() { answered <- protocol.Await(waiting, p.Host, p.Speaks, erring) }()
	look := time.NewTicker(lookAgain)
	defer look.Stop()
	last := 0
	for {
		select {
		case c := <-answered:
			return c, p
		case <-look.C:
			other := otherPort(native.PID, n.svc.Ports, p.Host)
			if other == 0 || other != last {
				last = other
				continue
			}
			c := protocol.Ask(ctx, other, p.Speaks)
			if c.Verdict != stack.Answers && c.Verdict != stack.Errs {
				continue
			}
			said := p.Host
			p.Host, p.Target = other, other
			x.found(n, index, p, said)
			return c, p
		}
	}
}

// otherPort is the one port that a process group listens on and that nobody has spoken of; 0 if there is none, or
// several, or if the group listens on the expected one.
func otherPort(group int, known []stack.Port, expected int) int {
	other := 0
	for port, owner := range sockets.Owners() {
		if groupOf(owner.PID) != group {
			continue
		}
		switch {
		case port == expected:
			return 0
		case slices.ContainsFunc(known, func(p stack.Port) bool { return p.Host == port }):
		case other != 0:
			return 0
		default:
			other = port
		}
	}
	return other
}

// learn looks for the port of a native service of which none is known, until it opens one or has ended.
func (x *Executor) learn(n *node, proc run.Process) {
	native, ok := proc.(*run.Native)
	if !ok || n.svc.Watches || n.svc.Kind == stack.Once {
		return
	}
	ctx, cancel := context.WithTimeout(x.ctx, learning)
	defer cancel()
	look := time.NewTicker(lookAgain)
	defer look.Stop()
	for last := 0; ; {
		select {
		case <-ctx.Done():
			return
		case <-proc.Done():
			return
		case <-look.C:
		}
		other := otherPort(native.PID, nil, 0)
		if other == 0 || other != last {
			last = other
			continue
		}
		p := stack.Port{Host: other, Target: other, Transport: "tcp", Speaks: protocol.Plain}
		if c := protocol.Ask(ctx, other, "http"); c.Verdict == stack.Answers || c.Verdict == stack.Errs {
			p.Speaks = "http"
		}
		x.found(n, 0, p, 0)
		x.move(n, change{kind: learns, text: fmt.Sprintf("%s on %d, which nothing here says", p.Speaks, other),
			process: proc})
		return
	}
}
