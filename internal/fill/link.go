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
	byKey, carriers := m.secrets()
	groups := map[string][]place{}
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
		m.sameKey(key, byKey[key], groups)
	}
	for _, p := range carriers {
		m.carried(p, passwords, groups)
	}
	for _, key := range slices.Sorted(maps.Keys(groups)) {
		m.unify(key, groups[key])
	}
}

// secrets are the places of secrets by their keys, and of addresses that carry a password.
func (m linking) secrets() (byKey map[string][]place, carriers []place) {
	byKey = map[string][]place{}
	for i, f := range m.plan.Files {
		for k, s := range f.Settings {
			p := place{i, k}
			switch {
			case s.Origin == Missing || s.value == "":
			case isCarrier(s.value):
				carriers = append(carriers, p)
			case s.expands || !s.Secret || publicKey.MatchString(s.Key):
			default:
				byKey[s.Key] = append(byKey[s.Key], p)
			}
		}
	}
	return byKey, carriers
}

// sameKey groups places of one key that agreed until now, or of which one was made up.
func (m linking) sameKey(key string, places []place, groups map[string][]place) {
	for _, p := range places {
		s := m.at(p)
		if s.service != "" && m.byService(p, key, groups) {
			continue
		}
		first := m.at(places[0])
		if s.was == first.was || s.Origin != Template && s.Origin != Generated ||
			first.Origin == Kept {
			groups[key] = append(groups[key], p)
		}
	}
}

// carried groups an address with the password that it carries.
func (m linking) carried(p place, passwords map[string]map[string]bool, groups map[string][]place) {
	s := m.at(p)
	if s.service != "" && m.byService(p, "", groups) {
		return
	}
	pw := values.PasswordOf(s.value)
	if m.committed(pw) {
		s.remark("", "the compose file itself holds the same password")
		return
	}
	if key := passwordFor(s.value, pw, passwords); key != "" {
		groups[key] = append(groups[key], p)
	} else if values.Placeholder(pw) {
		s.remark(stack.Warning, "the password in it is a placeholder")
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
	g := &group{linking: m, key: key, places: places}
	rank := -1
	for _, p := range places {
		if n := weight(m.at(p)); n > rank {
			g.master, rank = m.at(p), n
		}
	}
	if g.value = g.master.value; isCarrier(g.value) {
		g.value = values.PasswordOf(g.value)
	}
	l := Link{Name: key}
	for _, p := range places {
		s := m.at(p)
		l.Members = append(l.Members, Member{m.plan.Files[p.file].Path, s.Key})
		switch {
		case s == g.master || s.Origin == Answered:
		case isCarrier(s.value):
			g.followCarrying(s)
		default:
			g.follow(s)
		}
	}
	m.plan.Links = append(m.plan.Links, l)
}

// weight is how much a member's value counts: what a person has said most, what an address of a
// template carries least.
func weight(s *Setting) int {
	n := map[string]int{Answered: 5, Kept: 3, Locker: 2, Generated: 1}[s.Origin]
	if !isCarrier(s.value) {
		return n
	}
	if s.Origin != Kept && s.Origin != Answered || values.Placeholder(values.PasswordOf(s.value)) {
		return 0
	}
	return min(n, 2)
}

// group are settings that must hold the same: the value of the master.
type group struct {
	linking
	key    string
	places []place
	master *Setting
	value  string
}

// moves reports whether a value that is kept follows all the same: it agreed with the master until
// a person has changed that.
func (g *group) moves(was string) bool {
	return g.master.Origin == Answered && g.master.there && was == g.master.was
}

// followCarrying has an address carry the master's value.
func (g *group) followCarrying(s *Setting) {
	own := values.PasswordOf(s.value)
	switch {
	case own == g.value:
		if s.Origin == Template {
			s.Origin = Derived
			s.remark("", "holds the password of "+g.key)
		}
	case s.Origin == Kept && !g.moves(own):
		s.remark(stack.Warning, "holds another password than %s", g.key)
	default:
		s.value, s.Origin = values.WithPassword(s.value, g.value), Derived
		s.remark("", "takes its password from %s", g.key)
	}
}

// follow gives a setting the master's value.
func (g *group) follow(s *Setting) {
	file := g.fileWith(g.places, g.master)
	switch {
	case s.value == g.value && (s.Origin == Kept || s.Origin == Locker):
	case s.Origin == Kept && !g.moves(s.was):
		s.remark(stack.Warning, "differs from %s in %s", g.master.Key, file)
	default:
		s.value, s.Origin, s.Level = g.value, Derived, ""
		s.Remark = "the same as " + g.master.Key + " in " + file
		if g.master.Key == s.Key {
			s.Remark = "the same as in " + file
		}
	}
}

func (m linking) fileWith(places []place, s *Setting) string {
	for _, p := range places {
		if m.at(p) == s {
			return m.plan.Files[p.file].Path
		}
	}
	return ""
}
