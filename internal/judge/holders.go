package judge

import (
	"context"
	"fmt"
	"os"
	"slices"
	"time"

	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/engines"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/process"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/stack"
)

// Who holds a port: the system says which process, the engine which container; the mark in a
// process's environment, and the labels of a container, say of which stack.

// lookInto asks the engine for its containers.
func (j *judgement) lookInto(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	opt := plan.Options{}
	if j.Record != nil {
		opt = j.Record.Options
	}
	j.engines, _ = engines.All(ctx, opt)
	for _, e := range j.engines {
		list, err := e.List(ctx, nil)
		for i := range list {
			list[i].On = e
		}
		j.containers = append(j.containers, list...)
		j.known = j.known || err == nil
	}
}

// holder is the running container for which the engine holds a port.
func (j *judgement) holder(port int) *engine.Listed {
	for i := range j.containers {
		if j.containers[i].Publishes(port) {
			return &j.containers[i]
		}
	}
	return nil
}

// ours reports whether a container is that of the service in this stack.
func (j *judgement) ours(c *engine.Listed, service string) bool {
	return c.Service == service && j.Record != nil && c.Labels[engine.LabelStack] == j.Record.ID
}

// isOwn reports whether a process is of a native service: of its group, or one that has left the
// group and still carries the stack's mark or, without it, descends from the steward.
func (j *judgement) isOwn(pid int, rec *record.Service) bool {
	group := process.GroupOf(pid)
	if group == rec.PID {
		return true
	}
	if slices.ContainsFunc(j.Record.Services,
		func(s record.Service) bool { return s.PID == group }) {
		return false
	}
	return j.Record.ID != "" && process.MarkOf(pid) == j.Record.ID ||
		j.alive && process.IsBelow(pid, j.Record.PID)
}

// strange names who holds a port that is not the service's.
func (j *judgement) strange(known *diagnose.Port, port int) {
	c := j.holder(port)
	switch {
	case c == nil:
		if o := known.Check.Owner; o != nil {
			known.Holder = j.process(o)
		}
	case c.Labels[engine.LabelRoot] != "" &&
		(j.Record == nil || c.Labels[engine.LabelStack] != j.Record.ID):
		known.Holder = fmt.Sprintf("the service %s of the stack in %s", c.Service,
			c.Labels[engine.LabelRoot])
	default:
		known.Holder = "the container " + c.Name
	}
}

// process says of a process what is known beyond its number; empty for nothing.
func (j *judgement) process(o *stack.Owner) string {
	group := process.GroupOf(o.PID)
	if j.Record != nil && j.alive {
		for _, s := range j.Record.Services {
			if s.PID > 0 && s.PID == group {
				return fmt.Sprintf("the service %s of this stack", s.Name)
			}
		}
	}
	if id := process.MarkOf(o.PID); id != "" && (j.Record == nil || id != j.Record.ID) {
		if dir, err := os.Readlink(fmt.Sprintf("/proc/%d/cwd", o.PID)); err == nil {
			return fmt.Sprintf("%s, process %d, of another stack of nharbor's, in %s", o.Command,
				o.PID, dir)
		}
	}
	return ""
}
