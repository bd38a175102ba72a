package launch

import (
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/survey"
)

// gateway is the name by which a container reaches this machine.
const gateway = "host.docker.internal"

// rewrite changes the addresses in a service's settings to where the others are in this mix: inside the
// network a service's name and its inner port, from this machine localhost and the published port.
func (m *mixer) rewrite(svc *stack.Service, values map[string]string) {
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

// addresses rewrites every host and port in a value.
func (m *mixer) addresses(svc *stack.Service, value string) string {
	found := survey.Endpoint.FindAllStringSubmatchIndex(value, -1)
	for _, at := range slices.Backward(found) {
		scheme, host, port := part(value, at, 1), part(value, at, 2), part(value, at, 3)
		if scheme == "" && port == "" {
			continue
		}
		number, _ := strconv.Atoi(port)
		if number == 0 {
			number = protocol.DefaultPort(scheme)
		}
		to, toPort, ok := m.locate(svc, host, number)
		if !ok {
			continue
		}
		replaced := to
		if port != "" || toPort != number {
			replaced += ":" + strconv.Itoa(toPort)
		}
		end := at[5]
		if port != "" {
			end = at[7]
		}
		value = value[:at[4]] + replaced + value[end:]
	}
	return value
}

func part(s string, at []int, group int) string {
	if at[2*group] < 0 {
		return ""
	}
	return s[at[2*group]:at[2*group+1]]
}

// locate finds which service an address of the settings means, and where the reader finds it now; ok is
// false when the address stays as it is.
func (m *mixer) locate(reader *stack.Service, host string, port int) (to string, toPort int, ok bool) {
	host = strings.ToLower(host)
	local := host == "localhost" || host == "127.0.0.1" || host == gateway
	for _, p := range m.pairs() {
		was, now := p.was, p.now
		if was.Name == reader.Name {
			continue
		}
		named := was.Address != "" && (strings.EqualFold(host, was.Address) || was.Container != nil &&
			slices.Contains(was.Container.Aliases, host))
		for k, p := range was.Ports {
			byName, byPort := named && (port == 0 || p.Target == port), local && p.Host > 0 && p.Host == port
			if !byName && !byPort {
				continue
			}
			at := now.Ports[k]
			switch {
			case reader.Runs == stack.Native && at.Host > 0:
				return "localhost", at.Host, host != "localhost" && host != "127.0.0.1" || at.Host != port
			case reader.Runs == stack.Native:
				return "localhost", m.open(now, at.Target), true
			case now.Runs == stack.Native: // a container reads, and the other runs on this machine
				m.reachHost(reader)
				return gateway, at.Host, true
			case byPort && host == gateway:
				return gateway, at.Host, at.Host != port
			}
			return "", 0, false
		}
		if named && reader.Runs == stack.Native && now.Runs == stack.Container && port > 0 {
			return "localhost", m.open(now, port), true
		}
	}
	return "", 0, false
}

// open publishes a port of a container on this machine's loopback, for native services that need it.
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
	m.opened[svc.Name] = append(m.opened[svc.Name], stack.Port{Host: host, Target: target, Transport: "tcp",
		Speaks: "tcp", HostIP: "127.0.0.1", At: svc.At})
	return host
}

// reachHost lets a container call this machine by name.
func (m *mixer) reachHost(svc *stack.Service) {
	if svc.Container == nil {
		return
	}
	c := *svc.Container
	if !slices.ContainsFunc(c.ExtraHosts, func(h string) bool { return strings.HasPrefix(h, gateway+"=") }) {
		c.ExtraHosts = append(slices.Clone(c.ExtraHosts), gateway+"=host-gateway")
	}
	svc.Container = &c
}
