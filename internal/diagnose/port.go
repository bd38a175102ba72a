package diagnose

import (
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/stack"
)

// Port is what is known of a port that was asked.
type Port struct {
	Check   stack.PortCheck // verdict, who answers, and who holds the port, if that is known
	Service string
	Target  int         // the port inside of its container
	At      stack.Place // where the port is declared
	Patient int         // how long it was waited for an answer, in seconds

	Alive    bool // the stack is launched
	Launched bool // the service is, or was, part of the launch
	Runs     stack.Way
	State    stack.State
	Doing    stack.EventKind
	Text     string // what was said of the state
	Why      string // the cause of its failure, where its log names it
	Mend     string // and the remedy
	Holder   string // in words, who holds the port, where that is not the service
	Foreign  bool   // the port is known to be held by somebody else
	// who holds the port was started by a launch of this workspace whose steward is gone
	Left   bool
	HungUp bool // it accepted, and hung up without a word
	Gentle bool // it was looked at, and not spoken to

	// Inside is who listens inside of its container, where Known says that this could be seen.
	Inside []Listening
	Known  bool
	// Reason is what the page of an error names as its cause, and Fix what to do.
	Reason, Fix string
}

// Listening is a port on which somebody listens inside of a container.
type Listening struct {
	Port     int
	Loopback bool
}

// inside is what listens on the port's target inside of its container, and whether that is known.
func (p *Port) inside() (l Listening, listens bool) {
	for _, l := range p.Inside {
		if l.Port == p.Target {
			return l, true
		}
	}
	return Listening{}, false
}

// others are the ports on which the container listens for others than itself.
func (p *Port) others() string {
	var out []string
	for _, l := range p.Inside {
		// above, the engine's own and passing ones
		if !l.Loopback && l.Port != p.Target && l.Port < 32768 {
			out = append(out, strconv.Itoa(l.Port))
		}
	}
	return strings.Join(out, " and ")
}

const seeLogs = "See what it says: nharbor logs {service}"

func refused(when func(*Port) bool) func(*Port) bool {
	return func(p *Port) bool { return p.Check.Verdict == stack.Refuses && when(p) }
}

func unreached(p *Port) bool {
	return p.Check.Verdict == stack.Refuses && p.Runs == stack.Container && p.Known
}

func in(states ...stack.State) func(*Port) bool {
	return func(p *Port) bool { return p.Launched && slices.Contains(states, p.State) }
}

// Ports are the rules for a port. What became of the service goes first: where it does not run,
// whoever answers is somebody else.
var Ports = []Rule[Port]{
	says("failed-and-replaced", func(p *Port) bool {
		return in(stack.Failed)(p) && p.Check.Verdict != stack.Refuses
	}, "the service failed: {said}; what answers here is another "+
		"program{owner}", "{mend}", stack.Stranger),
	says("failed", in(stack.Failed), "the service failed: {said}", "{mend}", ""),
	says("skipped-and-replaced", func(p *Port) bool {
		return in(stack.Skipped)(p) && p.Check.Verdict != stack.Refuses
	}, "the service was skipped, since {said}; what answers here is another program{owner}",
		"Mend that first, then launch again.", stack.Stranger),
	says("skipped", in(stack.Skipped), "the service was skipped, since {said}",
		"Mend that first, then launch again.", ""),
	says("left-behind", func(p *Port) bool {
		return !p.Alive && p.Left && p.Check.Verdict != stack.Refuses
	}, "it still runs from a launch whose steward is gone{owner}", "End it: nharbor "+
		"stop", stack.Errs),
	says("stranger-without-stack",
		func(p *Port) bool { return !p.Alive && p.Check.Verdict != stack.Refuses },
		"another program answers on this port{owner}; this stack is not launched",
		"Stop it, or launch on other ports: nharbor launch --shift 100", stack.Stranger),
	says("not-launched", func(p *Port) bool { return !p.Alive },
		"the stack is not launched", "Launch it: nharbor launch", ""),
	says("left-out", func(p *Port) bool { return !p.Launched },
		"it is not part of this launch", "Launch it too: nharbor stop, then nharbor "+
			"launch", stack.Refuses),
	says("stopped-and-replaced", func(p *Port) bool {
		return in(stack.Stopped)(p) && p.Check.Verdict != stack.Refuses
	}, "the service was stopped; what answers here is another program{owner}",
		"Stop it, then start the service again: nharbor restart {service}", stack.Stranger),
	says("stopped", in(stack.Stopped), "the service was stopped",
		"Start it again: nharbor restart {service}", ""),
	says("waits", in(stack.Waiting), "it was not started yet: it waits {said}",
		"Wait, or see what it waits for: nharbor order", stack.Refuses),
	says("stranger", func(p *Port) bool { return p.Foreign && p.Check.Verdict != stack.Refuses },
		"another program answers on this port{owner}",
		"Stop it, or launch on other ports: nharbor launch --shift 100", stack.Stranger),
	says("starts-again", refused(func(p *Port) bool { return p.Doing == stack.StartsAgain }),
		"{said}", "{mend}", ""),
	// In front of a container it is the engine's forwarder that hangs up.
	says("hangs-up", func(p *Port) bool { return p.HungUp && p.Runs == stack.Native },
		"", seeLogs, stack.Silent),
	says("loopback-only",
		func(p *Port) bool { l, ok := p.inside(); return unreached(p) && ok && l.Loopback },
		"inside its container it listens on port {target} of the loopback address alone, where "+
			"nobody outside reaches it", "Let it listen on 0.0.0.0:{target}.", ""),
	says("other-port-inside",
		func(p *Port) bool { _, ok := p.inside(); return unreached(p) && !ok && p.others() != "" },
		"inside its container it listens on {others}, not on {target}, where {place} leads",
		"Let it listen on {target}, or correct the port at {place}.", ""),
	says("nothing-inside", func(p *Port) bool { _, ok := p.inside(); return unreached(p) && !ok },
		"the container runs, and nothing listens inside of it yet", seeLogs, ""),
	says("loopback-inside", refused(func(p *Port) bool { return p.Runs == stack.Container }),
		"the container runs, but nothing listens on its port {target}; a program that binds to "+
			"the container's own loopback can't be reached from outside",
		"Let it listen on 0.0.0.0:{target}. "+seeLogs, ""),
	says("still-starting", refused(func(p *Port) bool { return p.State == stack.Starting }),
		"it is still starting, and does not listen yet", seeLogs, ""),
	says("does-not-listen", refused(func(p *Port) bool { return true }),
		"the process runs, but does not listen on this port", seeLogs, ""),
	says("silent",
		func(p *Port) bool { return p.Check.Verdict == stack.Silent && p.Check.Cause == "" },
		"it accepts the connection and says nothing within {patient} seconds", seeLogs, ""),
	says("errs-for-a-reason",
		func(p *Port) bool { return p.Check.Verdict == stack.Errs && p.Reason != "" },
		"{check}: {reason}", "{fix}", ""),
	says("errs", func(p *Port) bool {
		return p.Check.Verdict == stack.Errs || p.Check.Verdict == stack.Silent
	}, "", seeLogs, ""),
	says("tls-or-not",
		func(p *Port) bool { return p.Check.Verdict == stack.Stranger && p.Check.Speaks == "tls" },
		"{expected} was expected, and it answers in TLS",
		"Speak TLS to it, or switch its TLS off for development.", ""),
	says("other-protocol", func(p *Port) bool { return p.Check.Verdict == stack.Stranger },
		"{expected} was expected, and {speaks} answers", "Correct the port at {place}, or see "+
			"who it is.", ""),
	says("not-spoken-to", func(p *Port) bool { return p.Gentle },
		"it listens; a debugger's port is not spoken to, since that could let its program go "+
			"on, or end it", "", ""),
	says("ipv6-only", func(p *Port) bool {
		return p.Check.Verdict == stack.Answers && strings.HasPrefix(p.Check.Address, "[") &&
			p.Check.Cause == ""
	}, "it listens on the IPv6 loopback alone: localhost reaches it, 127.0.0.1 does not", "", ""),
}

// Explain completes the verdict on a port by why, and what to do.
func (p *Port) Explain() stack.PortCheck {
	owner, speaks := "", p.Check.Speaks
	switch o := p.Check.Owner; {
	case p.Holder != "":
		owner = ": " + p.Holder
	case o != nil:
		owner = fmt.Sprintf(": %s, process %d", o.Command, o.PID)
	}
	if speaks == "" || speaks == "tcp" {
		speaks = "something that was not recognised"
	}
	said, mend, place := p.Text, p.Mend, p.At.File
	if p.Why != "" && !strings.Contains(said, p.Why) {
		said += ": " + p.Why
	}
	if mend == "" {
		mend = strings.ReplaceAll(seeLogs, "{service}", p.Service)
	}
	if p.At.Line > 0 {
		place += ":" + strconv.Itoa(p.At.Line)
	}
	if place == "" {
		_, port, _ := net.SplitHostPort(p.Check.Address)
		place = "port " + port
	}
	f := first(Ports, p, map[string]string{"service": p.Service, "target": strconv.Itoa(p.Target),
		"said": said, "expected": p.Check.Expected, "speaks": speaks, "owner": owner,
		"patient": strconv.Itoa(p.Patient),
		"place":   place, "others": p.others(), "mend": mend, "check": p.Check.Cause,
		"reason": p.Reason, "fix": p.Fix})
	out := p.Check
	if f.Code == "" {
		return out
	}
	if f.Cause != "" {
		out.Cause = f.Cause
	}
	if f.Verdict != "" {
		out.Verdict = f.Verdict
	}
	out.Remedy = f.Remedy
	return out
}
