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
		var c *facts
		var exact bool
		var k *protocol.Protocol
		port := sibling(f, prefix, "port")
		number := 0
		if port != nil {
			number, _ = strconv.Atoi(port.value)
		}
		for _, k = range m.kindsFor(f, prefix) {
			if c, exact = m.meant(r, k, host.value, or(number, k.Ports[0])); c != nil {
				break
			}
		}
		if c == nil || c.kind != k.Name {
			continue
		}
		if to, toPort, ok := c.address(r); ok && !exact {
			m.set(host, to, c.svc.Name+" from here")
			if port != nil {
				m.set(port, strconv.Itoa(toPort), c.svc.Name+"'s port from here")
			} else if toPort != k.Ports[0] {
				host.remark(stack.Warning,
					"%s answers on port %d and not on the usual one; no setting here names a "+
						"port", c.svc.Name, toPort)
			}
		} else if port != nil && number == 0 && ok {
			m.set(port, strconv.Itoa(toPort), c.svc.Name+"'s port from here")
		}
		m.signIn(f, prefix, c)
		if name := sibling(f, prefix, "name", "database", "db", "dbname",
			"database_name"); name != nil && c.database != "" && !k.SignIn.NoDatabase &&
			(name.value == "" || standsForStore.MatchString(name.value) ||
				k.SignIn.OneDatabase && c.chosen && name.value != c.database &&
					m.notRoot(f, prefix)) {
			m.set(name, c.database, c.svc.Name+"'s database")
		}
		for _, end := range []string{"sslmode", "ssl_mode", "ssl", "tls", "use_ssl", "use_tls",
			"ssl_require"} {
			if s := sibling(f, prefix, end); s != nil && !c.tls {
				switch strings.ToLower(s.value) {
				case "require", "verify-ca", "verify-full":
					m.set(s, "disable", c.svc.Name+" has no TLS")
				case "true", "1", "yes", "on":
					m.set(s, map[string]string{"true": "false", "1": "0", "yes": "no",
						"on": "off"}[strings.ToLower(s.value)], c.svc.Name+" has no TLS")
				}
			}
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
