package plan

import (
	"fmt"
	"net/netip"
	"path/filepath"
	"slices"

	"nimbleharbor/internal/stack"
)

// A stack that is spread over several engines has no network in common: a service on another engine
// is found at the address of that engine's machine, on the port that it is published on.

// elsewhere is the address at which a container finds a service that runs on another engine or, for
// one on another machine, on this one; empty where names of the network, or this machine's own,
// lead there.
func (m *mixer) elsewhere(reader, other *stack.Service) string {
	if len(m.Engines) == 0 || reader.Runs != stack.Container {
		return ""
	}
	from, to := m.plan.Options.On[reader.Name], m.plan.Options.On[other.Name]
	if other.Runs == stack.Native {
		to = ""
	}
	switch {
	case from == to:
		return ""
	case to != "":
		return m.Engines[to].Host
	}
	return m.Engines[from].Here
}

// expose publishes a port of a service for containers on other engines, where it is not published
// for them already.
func (m *mixer) expose(reader, svc *stack.Service, p stack.Port, address string) {
	to := m.plan.Options.On[svc.Name]
	if svc.Runs != stack.Container || to != "" && !m.Engines[to].Tunnel {
		return // an engine on another machine publishes where it is reached
	}
	p.HostIP = address
	if _, err := netip.ParseAddr(address); err != nil {
		p.HostIP = "0.0.0.0"
	}
	if m.exposed == nil {
		m.exposed = map[string][]stack.Port{}
	}
	if !slices.ContainsFunc(m.exposed[svc.Name], func(o stack.Port) bool {
		return o.Target == p.Target && o.HostIP == p.HostIP
	}) {
		m.exposed[svc.Name] = append(m.exposed[svc.Name], p)
	}
}

// across lists where a container finds what it waits for that is not in its networks, by its names:
// on other engines, or on this machine itself. What names it in no setting, such as a web server's
// own file, follows too, as far as the ports are the same inside and outside.
func (m *mixer) across(svc *stack.Service) (out []string) {
	for _, a := range svc.After {
		other := m.Stack.Service(a.Service)
		if other == nil {
			continue
		}
		if svc.Runs != stack.Container {
			continue
		}
		address := m.elsewhere(svc, other)
		switch _, err := netip.ParseAddr(address); {
		case address == "" && other.Runs == stack.Native && other.Source == stack.FromCompose:
			out = append(out, other.Name+"=host-gateway") // it is on this machine now, and in no network
			continue
		case err != nil:
			continue
		}
		for _, p := range other.Ports {
			if p.Host == 0 {
				p.Host = m.open(other, p.Target)
			}
			m.expose(svc, other, p, address)
		}
		names := []string{other.Name}
		if other.Container != nil {
			names = append(names, other.Container.Aliases...)
		}
		for _, name := range names {
			if line := fmt.Sprintf("%s=%s", name, address); !slices.Contains(out, line) {
				out = append(out, line)
			}
		}
	}
	return out
}

// handedHere lets settings that name a secret's or a config's place in a container name its file on
// this machine.
func (m *mixer) handedHere(svc *stack.Service, values map[string]string) {
	for i := range svc.Container.Handed {
		h := &svc.Container.Handed[i]
		if h.File == "" {
			continue
		}
		file := h.File
		if filepath.IsLocal(filepath.FromSlash(file)) {
			file = filepath.Join(m.root, filepath.FromSlash(file))
		}
		for key, value := range values {
			if value == h.Target {
				values[key] = file
			}
		}
	}
}
