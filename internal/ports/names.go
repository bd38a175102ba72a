package ports

import (
	"maps"
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
)

var (
	// A name below localhost, which every system takes for this machine (RFC 6761, section 6.3),
	// with its port.
	belowLocalhost = expr.New(`(?i)\b((?:[a-z0-9](?:[a-z0-9-]*[a-z0-9])?\.)+localhost)(?::(\d{2,5}))?\b`)
	// A rule of a reverse proxy for the name that it is called by, as labels of containers hold it.
	hostRule = expr.New("Host\\(`([^`]+)`\\)")
)

// HostNames collects the names by which services want to be called: from READMEs' addresses, from
// their own settings, and, for the one service that looks at the engine and passes calls on, from
// the labels of the others.
func (s *Ports) HostNames() {
	for _, file := range s.Instructions {
		for i, line := range s.ReadmeOf(file).Lines {
			for _, m := range belowLocalhost.FindAllStringSubmatch(line, -1) {
				port, _ := strconv.Atoi(m[2])
				s.nameHost(s.atPort(port), m[1], port, stack.Place{File: file, Line: i + 1})
			}
		}
	}
	for i := range s.Stack.Services {
		v := &s.Stack.Services[i]
		for _, key := range slices.Sorted(maps.Keys(v.Env)) {
			if m := belowLocalhost.FindStringSubmatch(v.Env[key]); m != nil {
				port, _ := strconv.Atoi(m[2])
				if port == 0 || s.atPort(port) == v {
					s.nameHost(v, m[1], 0, v.EnvAt[key])
				}
			}
		}
	}
	proxy := s.proxy()
	for i := range s.Stack.Services {
		v := &s.Stack.Services[i]
		if v.Container == nil || proxy == nil {
			continue
		}
		for _, key := range slices.Sorted(maps.Keys(v.Container.Labels)) {
			for _, m := range hostRule.FindAllStringSubmatch(v.Container.Labels[key], -1) {
				if belowLocalhost.MatchString(m[1]) {
					s.nameHost(proxy, strings.ToLower(m[1]), 0, v.At)
				}
			}
		}
	}
}

// maxNames bounds how many names of one service are kept.
const maxNames = 8

func (s *Ports) nameHost(v *stack.Service, host string, port int, at stack.Place) {
	if v == nil || len(v.Names) >= maxNames || v.Kind == stack.Once || slices.ContainsFunc(v.Names,
		func(n stack.HostName) bool { return strings.EqualFold(n.Host, host) && n.Port == port }) {
		return
	}
	if !slices.ContainsFunc(v.Ports, func(p stack.Port) bool { return p.Host > 0 && p.Speaks == "http" }) {
		return
	}
	v.Names = append(v.Names, stack.HostName{Host: strings.ToLower(host), Port: port, At: at})
}

// atPort is the service that publishes a port, 0 meaning 80.
func (s *Ports) atPort(port int) *stack.Service {
	if port == 0 {
		port = 80
	}
	for i := range s.Stack.Services {
		if slices.ContainsFunc(s.Stack.Services[i].Ports,
			func(p stack.Port) bool { return p.Host == port }) {
			return &s.Stack.Services[i]
		}
	}
	return nil
}

// proxy is the one service that looks at the engine's socket and publishes a port: it finds the
// others by their labels.
func (s *Ports) proxy() (out *stack.Service) {
	for i := range s.Stack.Services {
		v := &s.Stack.Services[i]
		looks := v.Container != nil && slices.ContainsFunc(v.Container.Mounts,
			func(m stack.Mount) bool { return strings.HasSuffix(m.Source, "docker.sock") })
		if !looks || len(v.Ports) == 0 {
			continue
		}
		if out != nil {
			return nil
		}
		out = v
	}
	return out
}

// Debuggers tells the ports of debuggers by the options that open them: by number alone they would
// be taken for pages, and spoken to.
func (s *Ports) Debuggers() {
	for i := range s.Stack.Services {
		v := &s.Stack.Services[i]
		lines := []string{
			strings.Join(v.Command, " "),
			strings.Join(v.NativeCommand, " "),
			strings.Join(v.Expands, " "),
		}
		if v.Container != nil {
			lines = append(lines, strings.Join(v.Container.Entrypoint, " "))
		}
		for _, key := range slices.Sorted(maps.Keys(v.Env)) {
			lines = append(lines, v.Env[key])
		}
		for port, speaks := range protocol.Debuggers(strings.Join(lines, " \n ")) {
			for k := range v.Ports {
				if p := &v.Ports[k]; p.Target == port {
					p.Speaks = speaks
				}
			}
		}
	}
}
