package connect

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"nimbleharbor/internal/address"
	"nimbleharbor/internal/facts"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
)

// Unplaced names what some file says and nothing here takes up: servers that containers are told to
// find where nobody is, and pages of instructions on ports that no service has. It is no lack by
// itself: the file may be out of date, or speak of something that lies elsewhere.
func (s *Connections) Unplaced() {
	for i := range s.Stack.Services {
		if v := &s.Stack.Services[i]; v.Runs == stack.Container && !facts.IsServer(v) {
			s.serversNowhere(v)
		}
	}
	known := map[int]bool{}
	for _, v := range s.Stack.Services {
		for _, p := range v.Ports {
			known[p.Host], known[p.Target] = true, true
		}
	}
	for i := range s.Stack.Services {
		s.proxiedNowhere(&s.Stack.Services[i], known)
	}
	for _, file := range s.Instructions {
		text := s.ReadmeOf(file)
		for _, a := range text.Addresses {
			at := stack.Place{File: file, Line: a.Line}
			contradicts := slices.ContainsFunc(s.Stack.Remarks, func(r stack.Remark) bool {
				return r.Code == stack.CodeContradiction && r.At == at
			})
			known[a.Port] = known[a.Port] || contradicts
			if !a.Page() || known[a.Port] || s.BesideWork(at) {
				continue
			}
			known[a.Port] = true
			s.unplaced("port", fmt.Sprint(a.Port), at)
		}
	}
}

func (s *Connections) unplaced(what, value string, at stack.Place) {
	s.Stack.Unplaced = append(s.Stack.Unplaced, stack.Unplaced{What: what, Value: value, At: at})
}

// proxiedNowhere are the servers on this machine to which a front end hands calls on, on ports that
// no service has.
func (s *Connections) proxiedNowhere(svc *stack.Service, known map[int]bool) {
	for _, v := range s.proxies(svc) {
		for _, a := range address.Find(v.Text) {
			if port := a.Asked(); address.Local(a.Host) && port > 0 && !known[port] {
				known[port] = true
				s.unplaced("server", fmt.Sprintf("%s at %s:%d, to which %s hands calls on",
					cmp.Or(a.Scheme, "http"), a.Host, port, svc.Name), v.At)
			}
		}
	}
}

// serversNowhere are the servers in a container's own environment that nothing which it can reach is
// called by. On networks of others anybody may be, as behind a name with a dot.
func (s *Connections) serversNowhere(svc *stack.Service) {
	if svc.Container == nil || len(svc.Container.ExternalLinks) > 0 ||
		slices.ContainsFunc(svc.Container.Networks,
			func(n string) bool { return s.Stack.Networks[n].External }) {
		return
	}
	for _, v := range s.Settings(svc) {
		if svc.EnvAt[v.Key] != v.At {
			continue // of a file, which fill may rewrite
		}
		for _, a := range address.Find(v.Text) {
			speaks := protocol.OfScheme(a.Scheme)
			if speaks == nil || speaks.SignIn == nil || strings.Contains(a.Host, ".") {
				continue
			}
			_, here := address.Resolve(s.Stack.Services, svc.Name, true, a.Host, a.Asked())
			given := slices.ContainsFunc(svc.Container.ExtraHosts, func(h string) bool {
				return strings.HasPrefix(strings.ToLower(h), a.Host+"=")
			})
			if here || given || address.ThisMachine(a.Host) {
				continue
			}
			where := fmt.Sprintf("%s at %s:%d, for %s", speaks.Name, a.Host, a.Asked(), svc.Name)
			if address.Local(a.Host) {
				where += ", which is the container itself"
			}
			s.unplaced("server", where, v.At)
		}
	}
}
