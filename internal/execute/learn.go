package execute

import (
	"context"
	"fmt"
	"slices"
	"time"

	"nimbleharbor/internal/engines"
	"nimbleharbor/internal/logs"
	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/process"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/run"
	"nimbleharbor/internal/sockets"
	"nimbleharbor/internal/stack"
)

// A native service may listen on another port than expected. What its own processes have opened is
// believed before anything that is written; it is asked, shown, and remembered for the next survey.

// lookAgain is how often the sockets of a service are looked at while it is waited for. A port
// counts that is seen twice, or that the service has announced in its log.
const lookAgain = 500 * time.Millisecond

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

// found takes over a port that a service has opened in the place of the one with that index, or as
// its only one.
func (x listening) found(n *node, index int, p stack.Port, said int) {
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

// awaitPort waits until a port answers, as protocol.Await does. A native service that has opened
// one other port instead, which answers, is taken at its deed: the port is the one that is given
// back. Of a service in a container that listens inside on another port than the one which is
// published, it is told at once, and no more waited for than patienceInside: nothing leads to it.
// That is the last value.
func (x listening) awaitPort(ctx context.Context, n *node, proc run.Process, log *logs.Log,
	index int) (stack.PortCheck, stack.Port, string) {
	p := n.svc.Ports[index]
	waiting, cancel := context.WithCancel(ctx)
	defer cancel()
	answered := make(chan stack.PortCheck, 1)
	go func() { answered <- x.awaitAnswer(waiting, proc, p) }()
	look := time.NewTicker(lookAgain)
	defer look.Stop()
	progress := time.NewTicker(progressEvery)
	defer progress.Stop()
	begin, last, told := time.Now(), 0, ""
	for {
		select {
		case c := <-answered:
			return c, p, told
		case <-progress.C:
			text := fmt.Sprintf("for %.0f s, port %d", time.Since(begin).Seconds(), p.Host)
			if told != "" {
				text += "; " + told
			} else if s := log.Last(); s != "" {
				text += "; it last said: " + s
			}
			x.move(n, change{kind: tells, text: text, process: proc})
		case <-look.C:
			switch proc := proc.(type) {
			case *run.Native:
				other := otherPort(proc.PID, n.svc.Ports, p.Host)
				if other == 0 || other != last && other != announced(log) {
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
				return c, p, ""
			case *run.Container:
				text := x.elsewhereInside(ctx, proc, p, time.Since(begin))
				if text != "" && text != told {
					told = text
					x.move(n, change{kind: tells, text: text, process: proc})
					time.AfterFunc(patienceInside, cancel)
				}
			}
		}
	}
}

// patienceInside is how long a service is waited for that listens on another port inside of its
// container.
const patienceInside = 10 * time.Second

// awaitAnswer waits until a port answers. In front of a container the engine accepts before anybody
// is there, so that a port which is asked nothing answers only once somebody listens inside, as far
// as that can be seen.
func (x listening) awaitAnswer(ctx context.Context, proc run.Process,
	p stack.Port) stack.PortCheck {
	c, ok := proc.(*run.Container)
	if !ok && protocol.IsGentle(p.Speaks) {
		return awaitBound(ctx, p)
	}
	if ok && (p.Speaks == protocol.Plain || protocol.IsGentle(p.Speaks)) {
		for pause := 10 * time.Millisecond; ; pause = min(2*pause, 200*time.Millisecond) {
			list, known := engines.Listening(ctx, c.Engine(), c.ID)
			if !known {
				break
			}
			if slices.ContainsFunc(list,
				func(l sockets.Listening) bool { return l.Port == p.Target && !l.Loopback }) {
				break
			}
			select {
			case <-ctx.Done():
				return refusing(p)
			case <-time.After(pause):
			}
		}
		if protocol.IsGentle(p.Speaks) {
			out := refusing(p)
			out.Verdict = stack.Answers
			return out
		}
	}
	return protocol.Await(ctx, p.Host, p.Speaks, erring)
}

func refusing(p stack.Port) stack.PortCheck {
	return stack.PortCheck{Address: fmt.Sprintf("127.0.0.1:%d", p.Host), Expected: p.Speaks,
		Verdict: stack.Refuses}
}

// awaitBound waits until somebody listens on a port that is not spoken to.
func awaitBound(ctx context.Context, p stack.Port) stack.PortCheck {
	out := refusing(p)
	for {
		if sockets.Owner(p.Host) != nil {
			out.Verdict = stack.Answers
			return out
		}
		select {
		case <-ctx.Done():
			return out
		case <-time.After(lookAgain / 2):
		}
	}
}

// elsewhereInside says where a container listens in the place of the port that is published; empty
// while that is not known, or too early to tell.
func (x listening) elsewhereInside(ctx context.Context, c *run.Container, p stack.Port,
	since time.Duration) string {
	if since < 3*lookAgain {
		return ""
	}
	list, known := engines.Listening(ctx, c.Engine(), c.ID)
	if !known {
		return ""
	}
	other := ""
	for _, l := range list {
		switch {
		case l.Port == p.Target && !l.Loopback:
			return ""
		case l.Port == p.Target:
			return fmt.Sprintf("inside its container it listens on port %d of the loopback "+
				"address alone", l.Port)
		case !l.Loopback && l.Port < 32768:
			other = fmt.Sprintf("inside its container it listens on %d, not on %d", l.Port,
				p.Target)
		}
	}
	return other
}

// announced is the port that a service has announced in its log by now; 0 for none.
func announced(log *logs.Log) int {
	for _, line := range slices.Backward(log.Tail()) {
		if port := logs.AnnouncedIn(line); port > 0 {
			return port
		}
	}
	return 0
}

// otherPort is the one port that a process group listens on and that nobody has spoken of; 0 if
// there is none, or several, or if the group listens on the expected one.
func otherPort(group int, known []stack.Port, expected int) int {
	other := 0
	for port, owner := range sockets.Owners() {
		if process.GroupOf(owner.PID) != group {
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

// learn looks for the port of a native service of which none is known, until it opens one or has
// ended.
func (x listening) learn(n *node, proc run.Process) {
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
		if c := protocol.Ask(ctx, other, "http"); c.Verdict == stack.Answers ||
			c.Verdict == stack.Errs {
			p.Speaks = "http"
		}
		x.found(n, 0, p, 0)
		x.move(n, change{kind: learns,
			text:    fmt.Sprintf("%s on %d, which nothing here says", p.Speaks, other),
			process: proc})
		return
	}
}
