package stack

import (
	"path"
	"strings"
)

// NodeID names a node of an order: a service by its name, or a step by its id.
type NodeID string

const (
	serviceMark = "service:"
	stepMark    = "step:"
)

// ServiceNode is the node of the service of that name.
func ServiceNode(name string) NodeID { return NodeID(serviceMark + name) }

// StepNode is the node of the step with that id, ROLE:PROJECT-PATH.
func StepNode(id string) NodeID { return NodeID(stepMark + id) }

// Service gives the name of the service; ok is false for a step.
func (id NodeID) Service() (name string, ok bool) {
	return strings.CutPrefix(string(id), serviceMark)
}

// Step gives the id of the step; ok is false for a service.
func (id NodeID) Step() (step string, ok bool) { return strings.CutPrefix(string(id), stepMark) }

// IsStep tells a step from a service.
func (id NodeID) IsStep() bool { return strings.HasPrefix(string(id), stepMark) }

// Title is the node as a person reads it.
func (id NodeID) Title() string {
	if s, ok := id.Service(); ok {
		return s
	}
	step, _ := id.Step()
	role, where, _ := strings.Cut(step, ":")
	where, what, _ := strings.Cut(where, "+")
	where, manager, several := strings.Cut(where, "@")
	out := role
	if where != "." && where != "" {
		out += " " + path.Clean(where)
	}
	if what != "" {
		out += " " + what
	}
	if several {
		out += " by " + manager
	}
	return out
}
