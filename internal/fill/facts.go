package fill

import (
	"maps"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// facts are what is known of a service that others connect to.
type facts struct {
	svc   *stack.Service
	kind  string // a key of kinds, or "http"
	inner int    // its port inside the network, or of this machine if it runs natively
	outer int    // its port on this machine; 0 if there is none

	user, database string
	password       string // as the compose file itself holds it, with where
	passwordAt     stack.Place
	passwordFrom   string // the variable or key that gives it
	passwordFile   string // the settings file that holds the key, if it is not a variable
	fallback       string // what the variable's default is
	root           *facts // the same service for its first user, where that has a password of its own
	chosen         bool   // the compose file names the user
	tls            bool
}

// kind is what a service speaks.
type kind struct {
	name         string
	scheme, key  *expr.Expr
	image        *expr.Expr
	port         int
	usual        string // the scheme of an address that is put together
	user, store  []string
	password     []string
	defaultUser  string
	wantsNoUser  bool
	pathIsNoName bool
}

// kinds are what services speak, with the schemes of addresses and the names of keys that mean them.
var kinds = []kind{
	{name: "postgres", scheme: expr.New(`^(postgres(ql)?|postgis|jdbc:postgresql|psql)(\+\w+)?$`),
		key:   expr.New(`(?i)(^|[_.-])(db|database|postgres(ql)?|pg|sql)`),
		image: expr.New(`postg(res|is)|timescale|pgvector`), port: 5432, usual: "postgres",
		user: []string{"POSTGRES_USER", "POSTGRESQL_USERNAME"}, store: []string{"POSTGRES_DB", "POSTGRESQL_DATABASE"},
		password: []string{"POSTGRES_PASSWORD", "POSTGRESQL_PASSWORD"}, defaultUser: "postgres"},
	{name: "mysql", scheme: expr.New(`^(mysql2?|mariadb|jdbc:(mysql|mariadb))(\+\w+)?$`),
		key:   expr.New(`(?i)(^|[_.-])(db|database|mysql|mariadb|sql)`),
		image: expr.New(`mysql|mariadb|percona`), port: 3306, usual: "mysql",
		user: []string{"MYSQL_USER", "MARIADB_USER"}, store: []string{"MYSQL_DATABASE", "MARIADB_DATABASE"},
		password:    []string{"MYSQL_PASSWORD", "MARIADB_PASSWORD", "MYSQL_ROOT_PASSWORD", "MARIADB_ROOT_PASSWORD"},
		defaultUser: "root"},
	{name: "mongodb", scheme: expr.New(`^mongodb(\+srv)?$`),
		key: expr.New(`(?i)(^|[_.-])(db|database|mongo(db)?)`), image: expr.New(`mongo`),
		port: 27017, usual: "mongodb",
		user: []string{"MONGO_INITDB_ROOT_USERNAME"}, store: []string{"MONGO_INITDB_DATABASE"},
		password: []string{"MONGO_INITDB_ROOT_PASSWORD"}, wantsNoUser: true},
	{name: "redis", scheme: expr.New(`^(rediss?|valkeys?)$`),
		key:   expr.New(`(?i)(^|[_.-])(redis|valkey|cache|queue|celery|sidekiq)`),
		image: expr.New(`redis|valkey|keydb|dragonfly`), port: 6379, usual: "redis",
		password: []string{"REDIS_PASSWORD", "VALKEY_PASSWORD"}, wantsNoUser: true, pathIsNoName: true},
	{name: "amqp", scheme: expr.New(`^amqps?$`),
		key:   expr.New(`(?i)(^|[_.-])(rabbit(mq)?|amqp|broker|queue|celery)`),
		image: expr.New(`rabbit`), port: 5672, usual: "amqp",
		user: []string{"RABBITMQ_DEFAULT_USER"}, password: []string{"RABBITMQ_DEFAULT_PASS"}, defaultUser: "guest",
		pathIsNoName: true},
	{name: "smtp", scheme: expr.New(`^smtps?$`),
		key: expr.New(`(?i)(^|[_.-])(smtp|mail(er)?|email)`), image: expr.New(`mail`), port: 1025,
		usual: "smtp", wantsNoUser: true, pathIsNoName: true},
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
		v := &s.Services[i]
		f := facts{svc: v}
		for k, p := range v.Ports {
			if k == 0 || p.Speaks != "tcp" && p.Speaks != "http" {
				f.inner, f.outer, f.kind = p.Target, p.Host, p.Speaks
			}
		}
		for _, k := range kinds {
			if v.Image != "" && k.image.MatchString(path.Base(v.Image)) && !strings.Contains(path.Base(v.Image),
				"admin") {
				f.kind = k.name
				if f.inner == 0 {
					f.inner = k.port
				}
				for _, p := range v.Ports {
					if p.Target == k.port {
						f.inner, f.outer = p.Target, p.Host
					}
				}
				if k.name == "smtp" &&
					!slices.ContainsFunc(v.Ports, func(p stack.Port) bool { return p.Target == f.inner }) {
					f.kind = ""
				}
			}
		}
		for _, p := range v.Ports {
			if p.Speaks == "smtp" {
				f.kind, f.inner, f.outer = "smtp", p.Target, p.Host
			}
		}
		k := slices.IndexFunc(kinds, func(k kind) bool { return k.name == f.kind })
		if k >= 0 {
			f.credentials(s, k)
			words := strings.Join(v.Command, " ")
			if v.Container != nil {
				words += " " + strings.Join(v.Container.Entrypoint, " ")
			}
			f.tls = turnsOnTLS.MatchString(words)
			if m := requirePass.FindStringSubmatch(words); m != nil && f.password == "" && f.passwordFrom == "" {
				f.password, f.passwordAt = m[1], v.At
			}
		}
		if f.kind != "" {
			out = append(out, f)
		}
	}
	return out
}

// credentials finds with what others sign in at the service.
func (f *facts) credentials(s *stack.Stack, k int) {
	v := f.svc
	find := func(names []string, any *expr.Expr) (key, value string) {
		for _, n := range names {
			if v.Env[n] != "" || v.EnvFrom[n] != "" {
				return n, v.Env[n]
			}
		}
		if len(names) == 0 {
			return "", ""
		}
		for _, key := range slices.Sorted(maps.Keys(v.Env)) {
			if any.MatchString(key) && (v.Env[key] != "" || v.EnvFrom[key] != "") && !strings.Contains(key, "ROOT") {
				return key, v.Env[key]
			}
		}
		return "", ""
	}
	if _, f.user = find(kinds[k].user, userKey); f.user == "" {
		f.user = kinds[k].defaultUser
	} else {
		f.chosen = true
	}
	if _, f.database = find(kinds[k].store, storeKey); f.database == "" && !kinds[k].pathIsNoName {
		f.database = f.user
	}
	key, value := find(kinds[k].password, passwordEnv)
	if key == "" {
		// It may stand in a settings file that the service reads.
		for _, ref := range v.EnvFiles {
			for _, name := range kinds[k].password {
				f.passwordFile, f.passwordFrom = ref.Path, name
				return
			}
		}
		return
	}
	f.secret(key, value)
	if strings.Contains(key, "_ROOT_") {
		f.user = "root"
		return
	}
	for _, key := range []string{"MYSQL_ROOT_PASSWORD", "MARIADB_ROOT_PASSWORD"} {
		if value := v.Env[key]; value != "" || v.EnvFrom[key] != "" {
			root := *f
			root.user, root.password, root.passwordFrom = "root", "", ""
			root.secret(key, value)
			f.root = &root
		}
	}
}

// secret notes where the password comes from that a key of the service's environment holds.
func (f *facts) secret(key, value string) {
	f.passwordAt = f.svc.EnvAt[key]
	switch {
	case f.svc.EnvFrom[key] != "":
		f.passwordFrom, f.fallback = f.svc.EnvFrom[key], value
	case f.svc.EnvLiteral[key]:
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

// PasswordKeys lists the keys of a service's environment whose values a database takes over into its store of data
// when that is made, and never again; none for any other service.
func PasswordKeys(v *stack.Service) []string {
	for _, k := range kinds {
		if v.Image == "" || !k.image.MatchString(path.Base(v.Image)) || len(k.user) == 0 {
			continue
		}
		var out []string
		for _, list := range [][]string{k.password, {"MYSQL_ROOT_PASSWORD", "MARIADB_ROOT_PASSWORD"}} {
			for _, key := range list {
				if !slices.Contains(out, key) {
					out = append(out, key)
				}
			}
		}
		return out
	}
	return nil
}

func (f *facts) of() *kind {
	for i := range kinds {
		if kinds[i].name == f.kind {
			return &kinds[i]
		}
	}
	return nil
}
