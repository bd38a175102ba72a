package diagnose

import (
	"fmt"
	"strconv"

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
	Launched bool // the service is part of the launch
	Runs     stack.Way
	State    stack.State
	Text     string // what was said of the state
	Foreign  bool   // the process that holds the port is known, and is not the service's
	HungUp   bool   // it accepted, and hung up without a word
}

const seeLogs = "See what it says: nharbor logs {service}"

func refused(when func(*Port) bool) func(*Port) bool {
	return func(p *Port) bool { return p.Check.Verdict == stack.Refuses && when(p) }
}

// Ports are the rules for a port.
var Ports = []Rule[Port]{
	{"stranger-without-stack",
		func(p *Port) bool { return !p.Alive && spoke(p) },
		"another program answers on this port{owner}; this stack is not launched",
		"Stop it, or launch on other ports: nharbor launch --shift 100", stack.Stranger},
	{"stranger",
		func(p *Port) bool { return p.Foreign && p.Check.Verdict != stack.Refuses },
		"another program answers on this port{owner}",
		"Stop it, or launch on other ports: nharbor launch --shift 100", stack.Stranger},
	// In front of a container it is the engine's forwarder that hangs up.
	{"hangs-up",
		func(p *Port) bool { return p.HungUp && p.Launched && p.Runs == stack.Native },
		"", seeLogs, stack.Silent},
	{"not-launched",
		refused(func(p *Port) bool { return !p.Alive }),
		"the stack is not launched", "Launch it: nharbor launch", ""},
	{"left-out",
		refused(func(p *Port) bool { return !p.Launched }),
		"it is not part of this launch", "Launch it too: nharbor stop, then nharbor launch", ""},
	{"failed",
		refused(func(p *Port) bool { return p.State == stack.Failed }),
		"the service failed: {said}", seeLogs, ""},
	{"skipped",
		refused(func(p *Port) bool { return p.State == stack.Skipped }),
		"the service was skipped, since {said}", "Mend that first, then launch again.", ""},
	{"stopped",
		refused(func(p *Port) bool { return p.State == stack.Stopped }),
		"the service was stopped", "Start it again: nharbor restart {service}", ""},
	{"starts-again",
		refused(func(p *Port) bool { return p.State == stack.Starting && p.Text != "" }),
		"{said}", seeLogs, ""},
	{"loopback-inside",
		refused(func(p *Port) bool { return p.Runs == stack.Container }),
		"the container runs, but nothing listens on its port {target}; a program that binds to the container's own " +
			"loopback " +
			"can't be reached from outside",
		"Let it listen on 0.0.0.0:{target}. " + seeLogs, ""},
	{"does-not-listen",
		refused(func(p *Port) bool { return true }),
		"the process runs, but does not listen on this port", seeLogs, ""},
	{"silent",
		func(p *Port) bool { return p.Check.Verdict == stack.Silent && p.Check.Cause == "" },
		"it accepts the connection and says nothing within {patient} seconds", seeLogs, ""},
	{"errs",
		func(p *Port) bool { return p.Check.Verdict == stack.Errs || p.Check.Verdict == stack.Silent },
		"", seeLogs, ""},
	{"other-protocol",
		func(p *Port) bool { return p.Check.Verdict == stack.Stranger },
		"{expected} was expected, and {speaks} answers", "Correct the port at {at}, or see who it is.", ""},
}

func spoke(p *Port) bool { return p.Check.Verdict == stack.Answers || p.Check.Verdict == stack.Errs }

// Explain completes the verdict on a port by why, and what to do.
func (p *Port) Explain() stack.PortCheck {
	owner, speaks := "", p.Check.Speaks
	if o := p.Check.Owner; o != nil {
		owner = fmt.Sprintf(": %s, process %d", o.Command, o.PID)
	}
	if speaks == "" || speaks == "tcp" {
		speaks = "something that was not recognised"
	}
	f := first(Ports, p, map[string]string{"service": p.Service, "target": strconv.Itoa(p.Target), "said": p.Text,
		"expected": p.Check.Expected, "speaks": speaks, "owner": owner, "patient": strconv.Itoa(p.Patient),
		"at": fmt.Sprintf("%s:%d", p.At.File, p.At.Line)})
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
