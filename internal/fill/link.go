package fill

import (
	"fmt"
	"maps"
	"net/url"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
	values "nimbleharbor/internal/value"
)

func isURL(v string) bool {
	u, err := url.Parse(strings.TrimPrefix(v, "jdbc:"))
	return err == nil && u.Scheme != "" && u.Host != ""
}

// isCarrier reports whether a value carries a password inside.
func isCarrier(v string) bool { return values.IsSecret("", v) }

// linkUp finds the settings that hold one secret, and gives them one value: the same key in several
// files, the password of one service under several names, and the password inside an address.
func (m linking) linkUp() {
	byKey := map[string][]place{}
	var carriers []place
	groups := map[string][]place{}
	for i, f := range m.plan.Files {
		for k, s := range f.Settings {
			p := place{i, k}
			switch {
			case s.Origin == Missing || s.value == "" || s.expands && !isCarrier(s.value) ||
				!s.Secret && !isCarrier(s.value):
			case isCarrier(s.value):
				carriers = append(carriers, p)
			case publicKey.MatchString(s.Key):
			default:
				byKey[s.Key] = append(byKey[s.Key], p)
			}
		}
	}
	m.sameService()
	m.places, m.grouped = make(map[Member]place), make(map[place]bool)
	for i, f := range m.plan.Files {
		for k, s := range f.Settings {
			m.places[Member{f.Path, s.Key}] = place{i, k}
		}
	}
	passwords := map[string]map[string]bool{} // the values that a password's key had, by the key
	for key, places := range byKey {
		if passwordKey.MatchString(key) {
			passwords[key] = map[string]bool{}
			for _, p := range places {
				passwords[key][m.at(p).was] = true
			}
		}
	}
	for _, key := range slices.Sorted(maps.Keys(byKey)) {
		places := byKey[key]
		for _, p := range places {
			s := m.at(p)
			if s.service != "" && m.byService(p, key, groups) {
				continue
			}
			if first := m.at(places[0]); s.was == first.was ||
				s.Origin != Template && s.Origin != Generated || first.Origin == Kept {
				groups[key] = append(groups[key], p)
			}
		}
	}
	for _, p := range carriers {
		s := m.at(p)
		if s.service != "" && m.byService(p, "", groups) {
			continue
		}
		pw := values.PasswordOf(s.value)
		if m.committed(pw) {
			s.remark("", "the compose file itself holds the same password")
			continue
		}
		if key := passwordFor(s.value, pw, passwords); key != "" {
			groups[key] = append(groups[key], p)
		} else if values.Placeholder(pw) {
			s.remark(stack.Warning, "the password in it is a placeholder")
		}
	}
	for _, key := range slices.Sorted(maps.Keys(groups)) {
		m.unify(key, groups[key])
	}
}

// committed reports whether a compose file itself holds the password of a service.
func (m linking) committed(password string) bool {
	return password != "" && slices.ContainsFunc(m.stack.Services, func(v stack.Service) bool {
		for key, value := range v.Env {
			if value == password && v.Literal(key) && values.IsSecret(key, value) {
				return true
			}
		}
		return false
	})
}

// sameService finds the variables by which compose files give the password of one service to
// others, under another name.
func (m linking) sameService() {
	for i := range m.facts {
		if c := &m.facts[i]; c.passwordFrom != "" {
			m.belongsTo(c.passwordFrom, m.fileOf(c), c.svc.Name)
		}
	}
	for i := range m.stack.Services {
		v := &m.stack.Services[i]
		for key, from := range v.EnvFrom {
			prefix, ok := passwordPrefix(key)
			if !ok {
				continue
			}
			for _, host := range []string{prefix + "HOST", prefix + "HOSTNAME"} {
				for _, c := range m.facts {
					if c.of() != nil && v.Env[host] != "" && v.Env[host] == c.svc.Address {
						m.belongsTo(from, path.Join(path.Dir(v.At.File), ".env"), c.svc.Name)
					}
				}
			}
		}
	}
}

// fileOf is the settings file that holds the password of a service.
func (m linking) fileOf(c *facts) string {
	if c.passwordFile != "" {
		return c.passwordFile
	}
	return path.Join(path.Dir(c.svc.At.File), ".env")
}

func (m linking) belongsTo(key, file, service string) {
	m.each(func(f *File, s *Setting) {
		if f.Path == file && s.Key == key {
			s.service = service
		}
	})
}

// byService puts a setting that holds or carries a service's password into the group of that
// password.
func (m linking) byService(p place, key string, groups map[string][]place) bool {
	i := slices.IndexFunc(m.facts, func(c facts) bool { return c.svc.Name == m.at(p).service })
	if i < 0 {
		return false
	}
	c := m.facts[i].as(m.at(p).user)
	if c.password != "" {
		m.literal(p, c)
		return true
	}
	if c.passwordFrom == "" {
		return key == "" // an address of a service that asks for none has nothing to agree with
	}
	name := c.passwordFrom
	master, ok := m.places[Member{m.fileOf(c), name}]
	if !ok && c.fallback != "" {
		c.password = c.fallback // nobody sets the variable, and its default holds
		m.literal(p, c)
		return true
	}
	if !ok {
		return false
	}
	if len(groups[name]) == 0 || groups[name][0] != master {
		groups[name] = slices.Insert(slices.DeleteFunc(groups[name],
			func(o place) bool { return o == master }), 0, master)
	}
	if master != p && !m.grouped[p] {
		groups[name] = append(groups[name], p)
		m.grouped[p] = true
	}
	return true
}

// literal lets a setting agree with a password that the compose file itself holds.
func (m linking) literal(p place, c *facts) {
	s := m.at(p)
	value := c.password
	if isCarrier(s.value) {
		if values.PasswordOf(s.value) == c.password {
			if s.Origin == Template {
				s.remark("", "the compose file itself holds the same password")
			}
			return
		}
		value = values.WithPassword(s.value, c.password)
	}
	where := fmt.Sprintf("%s:%d", c.passwordAt.File, c.passwordAt.Line)
	switch {
	case s.value == value && s.Origin != Template:
	case s.value == value:
		s.Remark = "the compose file itself holds the same value"
	case s.Origin == Kept || s.Origin == Answered:
		s.remark(stack.Warning, "differs from the password that %s has from %s", c.svc.Name, where)
	default:
		if s.Origin != Derived {
			s.Remark = ""
		}
		s.value, s.Origin, s.Level = value, Derived, ""
		s.remark("", "the password that %s has from %s", c.svc.Name, where)
	}
}

// passwordFor finds the key that holds the password of an address, by what the key's name says.
func passwordFor(value, pw string, passwords map[string]map[string]bool) string {
	scheme, _, _ := strings.Cut(strings.TrimPrefix(value, "jdbc:"), "://")
	k := protocol.OfScheme(scheme)
	best, score := "", 0
	for key, known := range passwords {
		n := 0
		if known[pw] {
			n = 2
		} else if !values.Placeholder(pw) && !weak.MatchString(pw) {
			continue
		}
		if k != nil && k.About(key) {
			n++
		}
		if n > score || n == score && n > 0 && key < best {
			best, score = key, n
		}
	}
	return best
}

// unify gives the members of a link one value: one that was given, else one that is there already,
// else the first made up.
func (m linking) unify(key string, places []place) {
	seen := map[place]bool{}
	places = slices.DeleteFunc(places, func(p place) bool {
		twice := seen[p]
		seen[p] = true
		return twice
	})
	if len(places) < 2 {
		return
	}
	master, rank := m.at(places[0]), -1
	for _, p := range places {
		s := m.at(p)
		n := map[string]int{Answered: 5, Kept: 3, Locker: 2, Generated: 1}[s.Origin]
		if isCarrier(s.value) {
			n = min(n, 2)
			if s.Origin != Kept && s.Origin != Answered ||
				values.Placeholder(values.PasswordOf(s.value)) {
				n = 0
			}
		}
		if n > rank {
			master, rank = s, n
		}
	}
	value := master.value
	if isCarrier(value) {
		value = values.PasswordOf(value)
	}
	before := master.was // what the members agreed on until now
	l := Link{Name: key}
	for _, p := range places {
		s, file := m.at(p), m.plan.Files[p.file].Path
		l.Members = append(l.Members, Member{file, s.Key})
		if s == master || s.Origin == Answered {
			continue
		}
		follows := master.Origin == Answered && master.there
		if isCarrier(s.value) {
			own := values.PasswordOf(s.value)
			switch {
			case own == value:
				if s.Origin == Template {
					s.Origin = Derived
					s.remark("", "holds the password of "+key)
				}
			case s.Origin == Kept && !(follows && own == before):
				s.remark(stack.Warning, "holds another password than %s", key)
			default:
				s.value, s.Origin = values.WithPassword(s.value, value), Derived
				s.remark("", "takes its password from %s", key)
			}
			continue
		}
		switch {
		case s.value == value && (s.Origin == Kept || s.Origin == Locker):
		case s.Origin == Kept && !(follows && s.was == before):
			s.remark(stack.Warning, "differs from %s in %s", master.Key, m.fileWith(places, master))
		default:
			s.value, s.Origin, s.Level = value, Derived, ""
			s.Remark = "the same as " + master.Key + " in " + m.fileWith(places, master)
			if master.Key == s.Key {
				s.Remark = "the same as in " + m.fileWith(places, master)
			}
		}
	}
	m.plan.Links = append(m.plan.Links, l)
}

func (m linking) fileWith(places []place, s *Setting) string {
	for _, p := range places {
		if m.at(p) == s {
			return m.plan.Files[p.file].Path
		}
	}
	return ""
}
