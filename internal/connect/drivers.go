package connect

import (
	"fmt"
	"slices"

	"nimbleharbor/internal/address"
	"nimbleharbor/internal/facts"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
)

// Drivers lets a native service wait for the one service that speaks what a driver among its
// packages, or among those of the members that it asks for, is for; of several services of a
// project those that are closest to it. A setting is the better witness: where one holds an address
// of that protocol, nothing is concluded here.
func (s *Connections) Drivers() {
	for i := range s.Stack.Services {
		svc := &s.Stack.Services[i]
		p := s.Stack.Project(svc.Project, svc.Manager)
		if svc.Runs != stack.Native || svc.Watches || p == nil {
			continue
		}
		for _, known := range protocol.All {
			name, at, away, found := p.UsedBy(svc.Dir(), known.Drivers)
			if !found || s.nearer(p, known, away) || s.hasAddressOf(svc, known) {
				continue
			}
			var speak []string
			for _, other := range s.Stack.Services {
				if other.Name != svc.Name && other.Kind == stack.Lasting &&
					facts.Speaks(&other, known) {
					speak = append(speak, other.Name)
				}
			}
			if len(speak) != 1 || slices.ContainsFunc(svc.After,
				func(a stack.After) bool { return a.Service == speak[0] }) {
				continue
			}
			svc.After = append(svc.After, stack.After{Service: speak[0], Until: stack.Answering,
				Because: stack.Inferred, Sure: stack.Usual, At: at,
				Reason: fmt.Sprintf("it uses %s, and %s is the one here that speaks %s (%s:%d)",
					name, speak[0], known.Name, at.File, at.Line)})
		}
	}
}

// nearer reports whether another service of the project is closer to a driver of the protocol. A
// front end that takes a server's types from a member that it has in common with that server does
// not speak to its database.
func (s *Connections) nearer(p *stack.Project, known *protocol.Protocol, away int) bool {
	return slices.ContainsFunc(s.Stack.Services, func(other stack.Service) bool {
		if other.Project != p.Path || other.Runs != stack.Native {
			return false
		}
		_, _, closer, ok := p.UsedBy(other.Dir(), known.Drivers)
		return ok && closer < away
	})
}

// hasAddressOf reports whether a setting of a service holds an address of the protocol.
func (s *Connections) hasAddressOf(svc *stack.Service, p *protocol.Protocol) bool {
	return slices.ContainsFunc(s.Settings(svc), func(v Value) bool {
		return slices.ContainsFunc(address.Find(v.Text), func(a address.Address) bool {
			return protocol.OfScheme(a.Scheme) == p
		})
	})
}
