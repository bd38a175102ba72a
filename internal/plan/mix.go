package plan

import (
	"maps"
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/address"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
)

// rewrite changes the addresses in a service's settings to where the others are in this mix: inside
// the network a service's name and its inner port, from this machine localhost and the published
// port.
func (m *mixer) rewrite(svc *stack.Service, values map[string]string) {
	before := maps.Clone(values)
	defer m.tellRewritten(svc, before, values)
	for key, value := range values {
		values[key] = m.addresses(svc, value)
	}
	// HOST and PORT in two settings of the same prefix.
	for key, host := range values {
		prefix, ok := hostPrefix(key)
		if !ok {
			continue
		}
		port := 0
		if n, err := strconv.Atoi(values[prefix+"PORT"]); err == nil {
			port = n
		}
		if to, toPort, ok := m.locate(svc, host, port); ok {
			values[key] = to
			if port > 0 {
				values[prefix+"PORT"] = strconv.Itoa(toPort)
			}
		}
	}
}

func hostPrefix(key string) (string, bool) {
	for _, end := range []string{"HOSTNAME", "HOST", "SERVER", "ADDR"} {
		if p, ok := strings.CutSuffix(key, end); ok {
			return p, true
		}
	}
	return "", false
}

// addresses rewrites every host and port in a value, the last one first, so that the others stay
// where they are.
func (m *mixer) addresses(svc *stack.Service, value string) string {
	for _, a := range slices.Backward(address.Find(value)) {
		if !a.Certain() {
			continue
		}
		if host, port, ok := m.locate(svc, a.Host, a.Asked()); ok {
			value = a.In(value, host, port)
		}
	}
	return value
}

// locate finds which service an address of the settings means, and where the reader finds it now;
// ok is false when the address stays as it is. What a setting says holds for where its reader runs
// by the files.
func (m *mixer) locate(reader *stack.Service, host string,
	port int) (to string, toPort int, ok bool) {
	ref, ok := address.Resolve(m.Survey.Services, reader.Name, false, host, port)
	if !ok {
		return "", 0, false
	}
	now := m.Stack.Service(ref.Service)
	if address := m.elsewhere(reader, now); address != "" {
		if ref.Port < 0 && port <= 0 {
			return "", 0, false
		}
		at := stack.Port{Target: port}
		if ref.Port >= 0 {
			at = now.Ports[ref.Port]
		}
		if at.Host == 0 {
			at.Host = m.open(now, at.Target)
		}
		m.expose(reader, now, at, address)
		return address, at.Host, true
	}
	if ref.Port < 0 { // a port that no file declares
		if reader.Runs == stack.Native && now.Runs == stack.Container && port > 0 {
			return "localhost", m.open(now, port), true
		}
		return "", 0, false
	}
	switch at := now.Ports[ref.Port]; {
	case reader.Runs == stack.Native && at.Host > 0:
		return "localhost", at.Host, ref.Named || address.ThisMachine(host) || at.Host != port
	case reader.Runs == stack.Native:
		return "localhost", m.open(now, at.Target), true
	case now.Runs == stack.Native: // a container reads, and the other runs on this machine
		m.reachHost(reader)
		return address.Gateway, at.Host, true
	case address.ThisMachine(host):
		return address.Gateway, at.Host, at.Host != port
	}
	return "", 0, false
}

// open publishes a port of a container on this machine's loopback, for native services that need
// it.
func (m *mixer) open(svc *stack.Service, target int) int {
	if m.opened == nil {
		m.opened = map[string][]stack.Port{}
	}
	host := target + m.plan.Shift
	for _, p := range m.opened[svc.Name] {
		if p.Target == target {
			return p.Host
		}
	}
	ip := "127.0.0.1"
	if m.plan.Options.On[svc.Name] != "" {
		ip = "" // on another machine: where that one is reached
	}
	m.opened[svc.Name] = append(m.opened[svc.Name],
		stack.Port{Host: host, Target: target, Transport: "tcp",
			Speaks: protocol.OfPort(svc.Image, target), HostIP: ip, At: svc.At})
	return host
}

// reachHost lets a container call this machine by name.
func (m *mixer) reachHost(svc *stack.Service) {
	if svc.Container == nil {
		return
	}
	c := *svc.Container
	if !slices.ContainsFunc(c.ExtraHosts,
		func(h string) bool { return strings.HasPrefix(h, address.Gateway+"=") }) {
		c.ExtraHosts = append(slices.Clone(c.ExtraHosts), address.Gateway+"=host-gateway")
	}
	svc.Container = &c
}

// Rewritten is a setting that says another address in this mix than in the files, which stay as
// they are.
type Rewritten struct {
	Service, Key string
	From, To     string // the addresses alone: a value may hold a secret
}

// tellRewritten notes which addresses have changed.
func (m *mixer) tellRewritten(svc *stack.Service, before, after map[string]string) {
	for _, key := range slices.Sorted(maps.Keys(after)) {
		if before[key] != after[key] {
			m.plan.Rewritten = append(m.plan.Rewritten,
				Rewritten{svc.Name, key, addressesIn(before[key]), addressesIn(after[key])})
		}
	}
}

// addressesIn are the hosts with their ports that a value names; the value itself where it is no
// more than one of them.
func addressesIn(value string) string {
	var out []string
	for _, a := range address.Find(value) {
		host := a.Host
		if a.Port > 0 {
			host += ":" + strconv.Itoa(a.Port)
		}
		if a.Certain() && !slices.Contains(out, host) {
			out = append(out, host)
		}
	}
	if len(out) == 0 && plainValue.MatchString(value) {
		return value
	}
	return strings.Join(out, ", ")
}

// plainValue is a host's name or a number.
var plainValue = expr.New(`^[A-Za-z0-9.-]{1,64}$`)
