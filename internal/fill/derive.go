package fill

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/address"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
	values "nimbleharbor/internal/value"
)

// reader tells from where a settings file is read: by containers, natively, or by a browser.
type reader struct {
	container, native bool
	names             []string
}

func (m deriving) readerOf(f *File) reader {
	r := reader{names: m.byFile[f.Path]}
	for _, name := range r.names {
		if m.stack.Service(name).Runs == stack.Container {
			r.container = true
		} else {
			r.native = true
		}
	}
	if len(r.names) == 0 {
		r.native = true
	}
	return r
}

// address is where a reader finds the service; ok is false if it can't reach it.
func (f *facts) address(r reader) (host string, port int, ok bool) {
	if r.container && !r.native && f.svc.Runs == stack.Container {
		return f.svc.Name, f.inner, f.inner > 0
	}
	if f.outer > 0 && (!r.container || r.native) {
		return "localhost", f.outer, true
	}
	if f.svc.Runs == stack.Container && f.svc.Address != "" {
		return f.svc.Address, f.inner, f.inner > 0 // a launch opens the port, or both are inside
	}
	return "", 0, false
}

// standsForHost are hosts that only stand for one to come.
var standsForHost = expr.New(
	`(?i)^(host(name)?|your[-_.].*|my[-_.]?host|([a-z0-9-]+\.)*example\.(com|org|net)|db[-_.]?host|<.*>|server|xxx+|` +
		`change[-_]?me)$`)

// meant finds the service that a host and a port of a settings file mean, from where that is read.
// Exact is false if the address has to be corrected to reach it.
func (m deriving) meant(r reader, k *protocol.Protocol, host string,
	port int) (f *facts, exact bool) {
	host = strings.ToLower(strings.Trim(host, "[]"))
	if ref, ok := address.Resolve(m.stack.Services, m.alone(r), false, host, port); ok {
		inside := r.container && !r.native && !address.ThisMachine(host)
		if c := m.factsOf(ref.Service); c != nil &&
			(ref.Named || !slices.Contains(r.names, c.svc.Name)) {
			return c, ref.Named && (ref.Port >= 0 || port == 0 || c.inner == port) ||
				!ref.Named && !inside
		}
	}
	var same []*facts
	for i := range m.facts {
		if c := &m.facts[i]; k != nil && c.kind == k.Name && !slices.Contains(r.names, c.svc.Name) {
			same = append(same, c)
		}
	}
	local := address.Local(host)
	if len(same) == 1 && (local || standsForHost.MatchString(host) || host == "") {
		return same[0], false
	}
	return nil, false
}

// alone is the one service that reads a file, by name; empty if there are several, or none.
func (m deriving) alone(r reader) string {
	if len(r.names) == 1 {
		return r.names[0]
	}
	return ""
}

// factsOf is what is known of a service; nil for one that nobody connects to.
func (m *maker) factsOf(service string) *facts {
	for i := range m.facts {
		if m.facts[i].svc.Name == service {
			return &m.facts[i]
		}
	}
	return nil
}

// derive gives the settings that follow from the stack their values: addresses, ports, names of
// databases and users.
func (m deriving) derive() {
	for i := range m.plan.Files {
		f := &m.plan.Files[i]
		r := m.readerOf(f)
		for k := range f.Settings {
			s := &f.Settings[k]
			if s.Origin == Answered || s.Origin == Generated || s.expands && s.Origin != Missing {
				continue
			}
			switch {
			case isURL(s.value):
				m.deriveURL(f, r, s)
			case s.value == "" || values.Placeholder(s.value):
				m.deriveEmpty(f, r, s)
			}
		}
		m.deriveParts(f, r)
	}
}

var (
	standsForUser = expr.New(
		`(?i)^(user(name)?|johndoe|your[-_]?.*|<.*>|db[-_]?user|my[-_]?user|xxx+|change[-_]?me)$`)
	standsForStore = expr.New(
		`(?i)^(db(name)?|database|my[-_]?db|mydatabase|your[-_]?.*|<.*>|db[-_]?name|xxx+|change[-_]?me)$`)
)

// deriveURL corrects an address that means a service of the stack.
func (m deriving) deriveURL(file *File, r reader, s *Setting) {
	u, err := url.Parse(strings.TrimPrefix(s.value, "jdbc:"))
	if err != nil {
		return
	}
	port, _ := strconv.Atoi(u.Port())
	k := protocol.OfScheme(u.Scheme)
	if k == nil {
		if port == 0 && address.Local(u.Hostname()) && ownURLKey.MatchString(s.Key) &&
			s.Origin != Kept {
			m.ownURL(r, s)
		}
		m.deriveHTTP(r, s, u, port)
		return
	}
	d := &storeURL{reader: r, s: s, url: u, k: k, port: or(port, k.Ports[0]), value: s.value}
	d.facts, d.exact = m.meant(r, k, u.Hostname(), d.port)
	if d.facts == nil {
		return
	}
	s.service = d.svc.Name
	if prefix := urlEnd.ReplaceAllString(s.Key, ""); prefix != s.Key && prefix != "" &&
		d.kind == k.Name {
		m.signIn(file, prefix, d.facts)
	}
	d.takeAddress()
	if d.facts = d.as(u.User.Username()); d.user == "root" {
		s.user = "root"
	}
	d.takeUser()
	d.takeDatabase()
	d.dropPassword()
	d.dropTLS()
	switch {
	case d.value == s.value:
	case s.Origin == Kept:
		s.remark(stack.Warning, "would have to differ: %s", strings.Join(d.why, ", "))
	default:
		s.value, s.Origin, s.Level = d.value, Derived, ""
		s.Remark = strings.Join(d.why, ", ")
	}
}

// storeURL is the address of a store while it is made to fit what is known of that.
type storeURL struct {
	*facts
	reader reader
	s      *Setting
	url    *url.URL
	k      *protocol.Protocol
	port   int
	exact  bool // it leads to the store as it is
	value  string
	why    []string
}

// takeAddress puts in where the store is from the reader.
func (d *storeURL) takeAddress() {
	host, to, ok := d.address(d.reader)
	if d.exact || !ok || host == d.url.Hostname() && to == d.port {
		return
	}
	there := host + ":" + strconv.Itoa(to)
	d.value = strings.Replace(d.value, "@"+d.url.Host, "@"+there, 1)
	if d.url.User == nil {
		d.value = strings.Replace(d.value, "://"+d.url.Host, "://"+there, 1)
	}
	d.why = append(d.why, fmt.Sprintf("%s is at %s from here", d.svc.Name, there))
}

// takeUser puts in the store's user, where one only stands for it, or somebody has chosen it.
func (d *storeURL) takeUser() {
	user := d.url.User.Username()
	if user == d.user || d.user == "" {
		return
	}
	chosen := d.chosen && user != "" && d.s.Origin != Kept && d.user != "root"
	if standsForUser.MatchString(user) || chosen {
		d.value = strings.Replace(d.value, "://"+user, "://"+url.User(d.user).String(), 1)
		d.why = append(d.why, d.svc.Name+"'s user")
	}
}

// takeDatabase puts in the store's database, where a name only stands for it.
func (d *storeURL) takeDatabase() {
	name := strings.Trim(d.url.Path, "/")
	if d.database == "" || name == d.database || !standsForStore.MatchString(name) ||
		d.k.SignIn.NoDatabase {
		return
	}
	d.value = replaceLast(d.value, "/"+name, "/"+url.PathEscape(d.database))
	d.why = append(d.why, d.svc.Name+"'s database")
}

// dropPassword takes a placeholder out for a store that asks for none.
func (d *storeURL) dropPassword() {
	if d.hasPassword() || !d.k.SignIn.NoUser || !values.Placeholder(values.PasswordOf(d.value)) {
		return
	}
	start, at := strings.Index(d.value, "://")+3, strings.LastIndexByte(d.value, '@')
	if at > start {
		d.value = d.value[:start] + d.value[at+1:]
		d.why = append(d.why, d.svc.Name+" asks for no password")
	}
}

// dropTLS takes out what asks for an encryption that the store does not have.
func (d *storeURL) dropTLS() {
	if plain, said := withoutTLS(d.value); said != "" && !d.tls {
		d.value = plain
		d.why = append(d.why, fmt.Sprintf("%s has no TLS: %s", d.svc.Name, said))
	}
}

var urlEnd = expr.New(`(?i)(jdbc[_.-])?(url|uri)$`)

// signIn fills the settings beside an address with which its reader signs in.
func (m deriving) signIn(f *File, prefix string, c *facts) {
	user := sibling(f, prefix, "user", "username", "login")
	if user != nil {
		c = c.as(user.value)
	}
	if user != nil && c.user != "" &&
		(user.value == "" && !c.of().SignIn.NoUser || standsForUser.MatchString(user.value) ||
			c.chosen && c.user != "root" && user.value != c.user && user.value != "") {
		m.set(user, c.user, c.svc.Name+"'s user")
	}
	if password := sibling(f, prefix, "password", "pass", "passwd", "pwd"); password != nil {
		password.service = c.svc.Name
		if c.user == "root" {
			password.user = "root"
		}
	}
}

func replaceLast(s, old, with string) string {
	end := len(s)
	if i := strings.IndexAny(s, "?#"); i >= 0 {
		end = i
	}
	if i := strings.LastIndex(s[:end], old); i >= 0 {
		return s[:i] + with + s[i+len(old):]
	}
	return s
}

var tlsParameters = []struct {
	form *expr.Expr
	with string
}{
	{expr.New(`(?i)\b(sslmode)=(require|verify-ca|verify-full)\b`), "${1}=disable"},
	{expr.New(`(?i)\b(ssl-mode)=(required|verify_ca|verify_identity)\b`), "${1}=disabled"},
	{expr.New(`(?i)\b(sslmode)=(required|verify_ca|verify_identity)\b`), "${1}=disabled"},
	{expr.New(`(?i)\b(ssl|tls|usessl|encrypt)=(true|1|yes|require)\b`), "${1}=false"},
	{expr.New(`(?i)\b(sslaccept)=(strict)\b`), "${1}=accept_invalid_certs"},
	{expr.New(`^(redis|amqp|valkey|smtp)s(://)`), "${1}${2}"},
}

// withoutTLS takes out of an address what asks for TLS, and says what that was.
func withoutTLS(value string) (plain, said string) {
	for _, p := range tlsParameters {
		if at := p.form.FindString(value); at != "" {
			value = p.form.ReplaceAllString(value, p.with)
			said = strings.TrimSuffix(at, "://") + " became " +
				strings.TrimSuffix(p.form.ReplaceAllString(at, p.with), "://")
		}
	}
	return value, said
}

var (
	apiKeyName = expr.New(
		`(?i)(api|backend|back_end|server|gateway|graphql|office)[a-z_]*?(url|uri|base|host|endpoint|origin|address)?$`)
	ownURLKey = expr.New(
		`(?i)^(APP_URL|APP_BASE_URL|BASE_URL|SITE_URL|PUBLIC_URL|NEXTAUTH_URL|AUTH_URL|SERVER_URL|APPLICATION_URL|` +
			`NEXT_PUBLIC_(APP|SITE|BASE)_URL|ROOT_URL)$`)
)

// deriveHTTP lets a front end talk to the API of this stack and not to one elsewhere.
func (m deriving) deriveHTTP(r reader, s *Setting, u *url.URL, port int) {
	if !strings.HasPrefix(u.Scheme, "http") && !strings.HasPrefix(u.Scheme, "ws") ||
		!ecosystem.Public(s.Key) || !apiKeyName.MatchString(s.Key) {
		return
	}
	if address.Local(u.Hostname()) &&
		slices.ContainsFunc(m.facts, func(f facts) bool { return f.outer == port }) {
		return
	}
	for _, f := range m.facts {
		if u.Hostname() == f.svc.Address && f.svc.Address != "" {
			m.toBrowser(s, u, &f)
			return
		}
	}
	if f := m.api(s.Key); f != nil {
		m.toBrowser(s, u, f)
		return
	}
	if others := m.pagesBeside(r); len(others) > 0 && !address.Local(u.Hostname()) {
		s.remark(stack.Warning, "leads out of this stack; if one of its services is meant: %s",
			strings.Join(others, ", "))
	}
}

// pagesBeside are the services, but those that read the settings, that a browser can reach.
func (m deriving) pagesBeside(r reader) (others []string) {
	for _, f := range m.facts {
		if f.kind == "http" && f.outer > 0 && !slices.Contains(r.names, f.svc.Name) {
			others = append(others, fmt.Sprintf("%s at http://localhost:%d", f.svc.Name, f.outer))
		}
	}
	return others
}

// toBrowser points a setting that a browser obeys at the service's port of this machine.
func (m deriving) toBrowser(s *Setting, u *url.URL, f *facts) {
	if f.outer == 0 {
		return
	}
	scheme := "http"
	if strings.HasPrefix(u.Scheme, "ws") {
		scheme = "ws"
	}
	value := fmt.Sprintf("%s://localhost:%d%s", scheme, f.outer, strings.TrimSuffix(u.Path, "/"))
	if strings.HasSuffix(u.Path, "/") {
		value += "/"
	}
	if s.Origin == Kept {
		s.remark(stack.Warning, "leads to %s and not to %s of this stack (%s)", u.Host, f.svc.Name,
			value)
		return
	}
	s.value, s.Origin, s.Level = value, Derived, ""
	s.Remark = f.svc.Name + " of this stack, as a browser finds it"
}

// api finds the one service that a key for an API means.
func (m deriving) api(key string) *facts {
	words := strings.FieldsFunc(strings.ToLower(key), func(c rune) bool { return c == '_' })
	var best *facts
	score, count := 0, 0
	for i := range m.facts {
		f := &m.facts[i]
		if f.kind != "http" || f.outer == 0 || m.isPage(f) {
			continue
		}
		switch n := likeAPI(f.svc.Name, words); {
		case n > score:
			best, score, count = f, n, 1
		case n == score:
			count++
		}
	}
	if count != 1 || score < 2 && len(m.facts) > 1 && !m.onlyHTTP(best) {
		return nil
	}
	return best
}

// isPage reports whether a service is what runs in a browser, and no server of data.
func (m deriving) isPage(f *facts) bool {
	p := m.stack.Project(f.svc.Project, f.svc.Manager)
	return p != nil && f.svc.Project != "" && inBrowser(p, f.svc) &&
		!ecosystem.FrameworkNamed(p.FrameworkAt(f.svc.Dir())).API
}

// likeAPI is how much a service's name speaks for the one that a key's words mean.
func likeAPI(service string, words []string) int {
	n := 1
	for _, part := range strings.FieldsFunc(strings.ToLower(service),
		func(c rune) bool { return c == '-' || c == '_' || c == '.' }) {
		if slices.Contains(words, part) {
			n += 2
		}
		if slices.Contains([]string{"api", "backend", "server"}, part) {
			n++
		}
	}
	return n
}

// inBrowser reports whether what a service of the project serves runs in a browser.
func inBrowser(p *stack.Project, v *stack.Service) bool {
	return ecosystem.FrameworkNamed(p.FrameworkAt(v.Dir())).Browser
}

func (m deriving) onlyHTTP(f *facts) bool {
	n := 0
	for _, o := range m.facts {
		if o.kind == "http" && o.outer > 0 {
			if p := m.stack.Project(o.svc.Project, o.svc.Manager); p == nil ||
				o.svc.Project == "" || !inBrowser(p, o.svc) {
				n++
			}
		}
	}
	return f != nil && n == 1
}

var urlKey = expr.New(
	`(?i)([_.-](url|uri|dsn|connection(_?string)?)|^(database|redis|mongo|amqp|broker)_?(url|uri))$`)

// deriveEmpty gives an empty address its value, where the stack says what it must be.
func (m deriving) deriveEmpty(f *File, r reader, s *Setting) {
	browser := ecosystem.Public(s.Key) && apiKeyName.MatchString(s.Key)
	switch {
	case values.Waives(s.Comment):
	case browser && urlKey.MatchString(s.Key):
		if a := m.api(s.Key); a != nil {
			m.toBrowser(s, &url.URL{Scheme: "http"}, a)
		}
	case ownURLKey.MatchString(s.Key), m.ofAuthLibrary(r, s.Key):
		m.ownURL(r, s)
	case originKey.MatchString(s.Key):
		m.callersOf(r, s)
	case urlKey.MatchString(s.Key):
		for _, k := range protocol.OfKey(s.Key) {
			if c, _ := m.meant(r, k, "", 0); c != nil && c.putTogether(r, k, s) {
				return
			}
		}
	}
}

// putTogether makes the address of a store out of what is known of it; it is false where nothing
// leads to the store from the reader.
func (c *facts) putTogether(r reader, k *protocol.Protocol, s *Setting) bool {
	host, port, ok := c.address(r)
	if !ok {
		return false
	}
	s.service = c.svc.Name
	u := url.URL{Scheme: k.Scheme, Host: fmt.Sprintf("%s:%d", host, port)}
	if c.hasPassword() {
		u.User = url.UserPassword(c.user, "x")
		u.RawQuery = k.SignIn.Query
	} else if c.user != "" && !k.SignIn.NoUser {
		u.User = url.User(c.user)
	}
	if c.database != "" && !k.SignIn.NoDatabase {
		u.Path = "/" + c.database
	}
	s.value, s.Origin, s.Secret = u.String(), Derived, s.Secret || c.hasPassword()
	s.Remark, s.Level = "put together: "+c.svc.Name+" at "+u.Host, ""
	return true
}

// ownURL is where the one service that reads the file answers.
func (m deriving) ownURL(r reader, s *Setting) {
	if len(r.names) != 1 {
		return
	}
	if v := m.stack.Service(r.names[0]); len(v.Ports) > 0 && v.Ports[0].Host > 0 &&
		v.Ports[0].Host != 80 {
		s.value, s.Origin = fmt.Sprintf("http://localhost:%d", v.Ports[0].Host), Derived
		s.Remark, s.Level = "where "+v.Name+" answers", ""
	}
}

func (f *facts) hasPassword() bool { return f.password != "" || f.passwordFrom != "" }

// originKey is a setting of a server that names the front end which may call it.
var originKey = expr.New(
	`(?i)^(CORS|ALLOWED|TRUSTED)_(CORS_)?ORIGINS?$|^(CORS_ALLOWED_ORIGINS?|FRONT_?END_URL|CLIENT_URL|WEB_APP_URL)$`,
)

// callersOf lets the one front end of the stack call the service that reads the file.
func (m deriving) callersOf(r reader, s *Setting) {
	var front []*facts
	for i := range m.facts {
		f := &m.facts[i]
		p := m.stack.Project(f.svc.Project, f.svc.Manager)
		if f.kind == "http" && f.outer > 0 && p != nil && inBrowser(p, f.svc) &&
			!slices.Contains(r.names, f.svc.Name) {
			front = append(front, f)
		}
	}
	if len(front) != 1 {
		return
	}
	s.value, s.Origin = fmt.Sprintf("http://localhost:%d", front[0].outer), Derived
	s.Remark, s.Level = front[0].svc.Name+" of this stack, as a browser finds it", ""
}

// authURL is how libraries that sign people in ask for the address at which they are found.
var authURL = expr.New(`^(\w*AUTH)_(BASE_)?URL$`)

// ofAuthLibrary reports whether a key asks for the address of such a library that the one reader of
// the file uses: of one that is called like the key's beginning.
func (m deriving) ofAuthLibrary(r reader, key string) bool {
	named := authURL.FindStringSubmatch(key)
	if named == nil || len(r.names) != 1 {
		return false
	}
	v := m.stack.Service(r.names[0])
	p := m.stack.Project(v.Project, v.Manager)
	if p == nil {
		return false
	}
	plain := func(name string) string {
		return strings.ToLower(strings.NewReplacer("-", "", "_", "", ".", "", "/", "", "@",
			"").Replace(name))
	}
	reaches := p.Reaches(v.Dir())
	return slices.ContainsFunc(p.Parts, func(part stack.Part) bool {
		if !slices.Contains(reaches, part.Folder) {
			return false
		}
		for name := range part.Uses {
			if plain(name) == plain(named[1]) {
				return true
			}
		}
		return false
	})
}
