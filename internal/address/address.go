// Package address finds the addresses in the values of settings, and which service and port of a
// stack each of them means. Where an order has its edges from, what fill derives and what a mix
// rewrites all go back to it, so that they agree.
package address

import (
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
)

// Gateway is the name by which a container reaches this machine.
const Gateway = "host.docker.internal"

// loopback are the hosts that mean the place itself that an address is read at.
var loopback = []string{"localhost", "127.0.0.1", "0.0.0.0", "::1"}

// gateways are the hosts by which a container means this machine.
var gateways = []string{Gateway, "host.containers.internal"}

// Local reports whether a host means this machine, or the container itself.
func Local(host string) bool {
	host = strings.ToLower(strings.Trim(host, "[]"))
	return slices.Contains(loopback, host) || slices.Contains(gateways, host)
}

// ThisMachine reports whether a host means this machine even inside of a container.
func ThisMachine(host string) bool { return slices.Contains(gateways, strings.ToLower(host)) }

// Address is one address in a value.
type Address struct {
	Scheme string // as it is written; empty for none
	Host   string // in lower case
	Port   int    // that is written; 0 for none

	start, end int // of host and port in the value
}

var form = expr.New(`(?i)\b(?:([a-z][a-z0-9+.-]*)://)?(?:[^\s/@,;"']*@)?` +
	`([a-z0-9](?:[a-z0-9_-]*[a-z0-9])?(?:\.[a-z0-9-]+)*)(?::(\d{2,5}))?`)

// Find lists what may be addresses in a value, in their order: each word that could name a host is
// among them.
func Find(value string) (out []Address) {
	for _, at := range form.FindAllStringSubmatchIndex(value, -1) {
		a := Address{Host: strings.ToLower(value[at[4]:at[5]]), start: at[4], end: at[5]}
		if at[2] >= 0 {
			a.Scheme = value[at[2]:at[3]]
		}
		if at[6] >= 0 {
			a.Port, _ = strconv.Atoi(value[at[6]:at[7]])
			a.end = at[7]
		}
		out = append(out, a)
	}
	return out
}

// Certain reports whether it is an address by its own form: it has a scheme or a port.
func (a Address) Certain() bool { return a.Scheme != "" || a.Port != 0 }

// Asked is the port that it leads to: the one that is written, else the one that its scheme means;
// 0 if there is none.
func (a Address) Asked() int {
	if a.Port != 0 {
		return a.Port
	}
	return protocol.DefaultPort(a.Scheme)
}

// In is the value, in which the address was found, with another host and port in its place. The
// port is left out where the address has none and its scheme means the same.
func (a Address) In(value, host string, port int) string {
	if a.Port != 0 || port != a.Asked() {
		host += ":" + strconv.Itoa(port)
	}
	return value[:a.start] + host + value[a.end:]
}

// Reference is what an address means: a service, and which of its ports.
type Reference struct {
	Service string
	// Port is the index of the port among the service's; -1 if the address leads to one that the
	// service does not declare.
	Port int
	// Named is true where the host is the service's own name in a network, and false where it is
	// this machine.
	Named bool
}

// Named reports whether a service is called so in its network.
func Named(v *stack.Service, host string) bool {
	return v.Address != "" && strings.EqualFold(host, v.Address) ||
		v.Container != nil && slices.ContainsFunc(v.Container.Aliases,
			func(a string) bool { return strings.EqualFold(a, host) })
}

// Resolve tells which of the services a host and a port mean, from where the reader of the setting
// runs; a port of 0 is not known. Inside of a container localhost is the container itself. ok is
// false if it means none of them, or the reader itself.
func Resolve(services []stack.Service, reader string, inside bool, host string,
	port int) (ref Reference, ok bool) {
	local := Local(host) && (!inside || ThisMachine(host))
	for i := range services {
		v := &services[i]
		if v.Name == reader {
			continue
		}
		if Named(v, host) {
			at := slices.IndexFunc(v.Ports,
				func(p stack.Port) bool { return port == 0 || p.Target == port })
			return Reference{v.Name, at, true}, true
		}
		if !local || port == 0 {
			continue
		}
		if at := slices.IndexFunc(v.Ports,
			func(p stack.Port) bool { return p.Host == port }); at >= 0 {
			return Reference{v.Name, at, false}, true
		}
	}
	return Reference{}, false
}
