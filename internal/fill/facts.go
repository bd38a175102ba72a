package fill

import (
	"maps"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
)

// facts are what is known of a service that others connect to.
type facts struct {
	svc   *stack.Service
	kind  string // a protocol's name
	inner int    // its port inside the network, or of this machine if it runs natively
	outer int    // its port on this machine; 0 if there is none

	user, database string
	password       string // as the compose file itself holds it, with where
	passwordAt     stack.Place
	passwordFrom   string // the variable or key that gives it
	passwordFile   string // the settings file that holds the key, if it is not a variable
	fallback       string // what the variable's default is
	// the same service for its first user, where that has a password of its own
	root   *facts
	chosen bool // the compose file names the user
	tls    bool
}

var (
	userKey     = expr.New(`(?i)(^|_)(USER(NAME)?|LOGIN)$`)
	storeKey    = expr.New(`(?i)(^|_)(DB|DATABASE)(_NAME)?$`)
	passwordEnv = expr.New(`(?i)(^|_)(PASSWORD|PASS)$`)
	requirePass = expr.New(`--requirepass[ =]"?([^\s"]+)`)
	turnsOnTLS  = expr.New(`(?i)\bssl=on\b|--tls-port|--require[-_]secure[-_]transport|--ssl-cert|tlsMode`)
)

func factsOf(s *stack.Stack) []facts {
	var out []facts
	for i := range s.Services {
		if f := factsOn(s, &s.Services[i]); f.kind != "" {
			out = append(out, f)
		}
	}
	return out
}

// factsOn is what is known of one service; its kind is empty where nothing is.
func factsOn(s *stack.Stack, v *stack.Service) facts {
	f := facts{svc: v}
	for k, p := range v.Ports {
		if k == 0 || p.Speaks != protocol.Plain && p.Speaks != "http" {
			f.inner, f.outer, f.kind = p.Target, p.Host, p.Speaks
		}
	}
	if p := protocol.OfImage(v.Image); p != nil {
		f.byImage(p)
	}
	for _, p := range v.Ports {
		if p.Speaks == "smtp" {
			f.kind, f.inner, f.outer = p.Speaks, p.Target, p.Host
		}
	}
	if f.of() == nil {
		return f
	}
	f.credentials(s)
	words := strings.Join(v.Command, " ")
	if v.Container != nil {
		words += " " + strings.Join(v.Container.Entrypoint, " ")
	}
	f.tls = turnsOnTLS.MatchString(words)
	if m := requirePass.FindStringSubmatch(words); m != nil && f.password == "" &&
		f.passwordFrom == "" {
		f.password, f.passwordAt = m[1], v.At
	}
	return f
}

// byImage takes kind and ports from what an image is known to be.
func (f *facts) byImage(p *protocol.Protocol) {
	ports := f.svc.Ports
	on := func(port int) int {
		return slices.IndexFunc(ports, func(o stack.Port) bool { return o.Target == port })
	}
	f.kind = p.Name
	if f.inner == 0 {
		f.inner = p.Ports[0]
	}
	switch usual := on(p.Ports[0]); {
	case usual >= 0:
		f.inner, f.outer = ports[usual].Target, ports[usual].Host
	case p.Name == "smtp" && on(f.inner) < 0:
		f.kind = "" // an image that has to do with mail, and catches none
	}
}

// credentials finds with what others sign in at the service.
func (f *facts) credentials(s *stack.Stack) {
	v, in := f.svc, f.of().SignIn
	if _, f.user = toldTo(v, in.User, userKey); f.user == "" {
		f.user = in.DefaultUser
	} else {
		f.chosen = true
	}
	if _, f.database = toldTo(v, in.Database, storeKey); f.database == "" && !in.NoDatabase {
		f.database = f.user
	}
	key, value := toldTo(v, in.Password, passwordEnv)
	if key == "" {
		// It may stand in a settings file that the service reads.
		if len(v.EnvFiles) > 0 && len(in.Password) > 0 {
			f.passwordFile, f.passwordFrom = v.EnvFiles[0].Path, in.Password[0]
		}
		return
	}
	f.secret(key, value)
	namesRoot := slices.ContainsFunc(in.User,
		func(user string) bool { return strings.Contains(user, "_ROOT_") })
	if strings.Contains(key, "_ROOT_") && !namesRoot { // whose name would be told too
		f.user = "root"
		return
	}
	for _, key := range []string{"MYSQL_ROOT_PASSWORD", "MARIADB_ROOT_PASSWORD"} {
		if isGiven(v, key) {
			root := *f
			root.user, root.password, root.passwordFrom = "root", "", ""
			root.secret(key, v.Env[key])
			f.root = &root
		}
	}
}

// isGiven reports whether a service gets a variable, with a value or from another one.
func isGiven(v *stack.Service, key string) bool { return v.Env[key] != "" || v.EnvFrom[key] != "" }

// toldTo finds what a server is told by one of the variables or, where there are such at all, by
// one whose name fits and is not root's; both empty for nothing.
func toldTo(v *stack.Service, names []string, fits *expr.Expr) (key, value string) {
	for _, n := range names {
		if isGiven(v, n) {
			return n, v.Env[n]
		}
	}
	if len(names) == 0 {
		return "", ""
	}
	for _, key := range slices.Sorted(maps.Keys(v.Env)) {
		if fits.MatchString(key) && isGiven(v, key) && !strings.Contains(key, "ROOT") {
			return key, v.Env[key]
		}
	}
	return "", ""
}

// secret notes where the password comes from that a key of the service's environment holds.
func (f *facts) secret(key, value string) {
	f.passwordAt = f.svc.EnvAt[key]
	switch {
	case f.svc.EnvFrom[key] != "":
		f.passwordFrom, f.fallback = f.svc.EnvFrom[key], value
	case f.svc.Literal(key):
		f.password = value
	}
}

// as is what is known of the service for one of its users.
func (f *facts) as(user string) *facts {
	if user == "root" && f.root != nil {
		return f.root
	}
	return f
}

// of is the protocol in which one signs in at the service; nil where nobody does.
func (f *facts) of() *protocol.Protocol {
	if p := protocol.Named(f.kind); p != nil && p.SignIn != nil {
		return p
	}
	return nil
}
