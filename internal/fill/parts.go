package fill

import (
	"path"
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
	values "nimbleharbor/internal/value"
)

// hostPrefix is what stands before the word for a host in a key; ok is false for a key that names
// none.
func hostPrefix(key string) (prefix string, ok bool) {
	lower := strings.ToLower(key)
	for _, end := range []string{"hostname", "host", "server", "address", "addr"} {
		if strings.HasSuffix(lower, end) {
			return key[:len(key)-len(end)], true
		}
	}
	return "", false
}

// sibling finds the setting of the same prefix with one of the endings.
func sibling(f *File, prefix string, endings ...string) *Setting {
	for _, end := range endings {
		for i := range f.Settings {
			if strings.EqualFold(f.Settings[i].Key, prefix+end) {
				return &f.Settings[i]
			}
		}
	}
	return nil
}

// deriveParts fills addresses that are spread over several settings: host, port, user, name,
// password.
func (m deriving) deriveParts(f *File, r reader) {
	for i := range f.Settings {
		host := &f.Settings[i]
		prefix, ok := hostPrefix(host.Key)
		if !ok || isURL(host.value) || ecosystem.Public(host.Key) {
			continue
		}
		port, number := sibling(f, prefix, "port"), 0
		if port != nil {
			number, _ = strconv.Atoi(port.value)
		}
		var c *facts
		var exact bool
		var k *protocol.Protocol
		for _, k = range m.kindsFor(f, prefix) {
			if c, exact = m.meant(r, k, host.value, or(number, k.Ports[0])); c != nil {
				break
			}
		}
		if c == nil || c.kind != k.Name {
			continue
		}
		m.hostAndPort(r, c, host, port, exact, k.Ports[0])
		m.signIn(f, prefix, c)
		name := sibling(f, prefix, "name", "database", "db", "dbname", "database_name")
		if name != nil && c.database != "" && !k.SignIn.NoDatabase &&
			m.standsForDatabase(f, prefix, name, c, k) {
			m.set(name, c.database, c.svc.Name+"'s database")
		}
		if !c.tls {
			m.withoutTLS(f, prefix, c.svc.Name+" has no TLS")
		}
	}
}

// hostAndPort sets where a store is from the reader, unless that is so already.
func (m deriving) hostAndPort(r reader, c *facts, host, port *Setting, exact bool, usual int) {
	to, toPort, ok := c.address(r)
	switch {
	case !ok:
	case exact:
		if port != nil && !isNumber(port.value) {
			m.set(port, strconv.Itoa(toPort), c.svc.Name+"'s port from here")
		}
	default:
		m.set(host, to, c.svc.Name+" from here")
		if port != nil {
			m.set(port, strconv.Itoa(toPort), c.svc.Name+"'s port from here")
		} else if toPort != usual {
			host.remark(stack.Warning, "%s answers on port %d and not on the usual one; no "+
				"setting here names a port", c.svc.Name, toPort)
		}
	}
}

// isNumber reports whether a value is a number other than 0.
func isNumber(value string) bool {
	n, _ := strconv.Atoi(value)
	return n != 0
}

// standsForDatabase reports whether a setting's value only stands for the store's database, or can
// only be that.
func (m deriving) standsForDatabase(f *File, prefix string, name *Setting, c *facts,
	k *protocol.Protocol) bool {
	if name.value == "" || standsForStore.MatchString(name.value) {
		return true
	}
	return k.SignIn.OneDatabase && c.chosen && name.value != c.database && m.notRoot(f, prefix)
}

// plainly are the values that switch encryption off, by those that ask for it.
var plainly = map[string]string{"require": "disable", "verify-ca": "disable",
	"verify-full": "disable", "true": "false", "1": "0", "yes": "no", "on": "off"}

// withoutTLS switches the encryption off that settings of a store ask for.
func (m deriving) withoutTLS(f *File, prefix, why string) {
	for _, end := range []string{"sslmode", "ssl_mode", "ssl", "tls", "use_ssl", "use_tls",
		"ssl_require"} {
		if s := sibling(f, prefix, end); s != nil && plainly[strings.ToLower(s.value)] != "" {
			m.set(s, plainly[strings.ToLower(s.value)], why)
		}
	}
}

// notRoot reports whether the settings of a prefix name a user who can make no database.
func (m deriving) notRoot(f *File, prefix string) bool {
	user := sibling(f, prefix, "user", "username", "login")
	return user != nil && user.value != "root"
}

// kindsFor tells what the settings of a prefix may be about: by the prefix, or by what stands
// beside them.
func (m deriving) kindsFor(f *File, prefix string) []*protocol.Protocol {
	if strings.HasSuffix(prefix, ".") || prefix == "" {
		for _, name := range []string{"adapter", "client", "driver", "dialect", "type", "engine"} {
			s := sibling(f, prefix, name)
			if i := slices.IndexFunc(f.Settings,
				func(o Setting) bool { return strings.HasSuffix(o.Key, "."+name) }); s == nil &&
				i >= 0 && strings.Contains(path.Base(f.Path), "database") {
				s = &f.Settings[i] // one that others take over
			}
			if s != nil && s.value != "" {
				if k := protocol.OfScheme(s.value); k != nil {
					return []*protocol.Protocol{k}
				}
			}
		}
		if !strings.Contains(path.Base(f.Path), "database") && prefix == "" {
			return nil
		}
	}
	return protocol.OfKey(prefix)
}

// set gives a setting a value that follows from the stack. What a person has written stays, with a
// remark.
func (m *maker) set(s *Setting, value, why string) {
	switch {
	case s.value == value || s.Origin == Answered || s.expands:
	case s.Origin == Kept && !values.Placeholder(s.value):
		s.remark(stack.Warning, "would have to be %s: %s", value, why)
	default:
		s.value, s.Origin, s.Remark, s.Level = value, Derived, why, ""
	}
}
