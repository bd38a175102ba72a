package plan

import (
	"errors"
	"maps"
	"slices"
	"testing"

	"nimbleharbor/internal/stack"
)

func TestProvide(t *testing.T) {
	t.Parallel()
	at := stack.Place{File: ".env", Line: 2}
	want := func(speaks string, port int, user, database, password string) stack.Server {
		return stack.Server{Speaks: speaks, Port: port, For: "office", Key: "URL", At: at,
			User: user, Database: database, Password: password}
	}
	for name, c := range map[string]struct {
		server stack.Server
		image  string
		env    map[string]string
		volume string
	}{
		"a user of its own": {want("postgres", 5433, "clerk", "office", "x"), "postgres:16",
			map[string]string{
				"POSTGRES_USER": "clerk", "POSTGRES_DB": "office",
				"POSTGRES_PASSWORD": "x"}, "provided-postgres"},
		"nobody signs in": {want("postgres", 5432, "", "office", ""), "postgres:16",
			map[string]string{
				"POSTGRES_DB": "office", "POSTGRES_HOST_AUTH_METHOD": "trust"}, "provided-postgres"},
		"the first user": {want("mysql", 3306, "root", "office", "x"), "mysql:8", map[string]string{
			"MYSQL_DATABASE": "office", "MYSQL_ROOT_PASSWORD": "x"}, "provided-mysql"},
		"without a user": {want("redis", 6380, "", "", ""), "redis:7", map[string]string{},
			"provided-redis"},
	} {
		s := &stack.Stack{Services: []stack.Service{{Name: "office", Runs: stack.Native}},
			Servers: []stack.Server{c.server, want("smtp", 1025, "", "", "")}}
		got, err := Provide(s, []string{c.server.Speaks})
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		v := got.Service(c.server.Speaks)
		if v == nil || v.Image != c.image || !maps.Equal(v.Env, c.env) ||
			v.Ports[0].Host != c.server.Port ||
			v.Ports[0].HostIP != "127.0.0.1" || v.Container.Mounts[0].Source != c.volume ||
			len(got.Servers) != 1 {
			t.Errorf("%s: the service is %+v", name, v)
		}
		if after := got.Service("office").After; len(after) != 1 ||
			after[0].Service != c.server.Speaks ||
			after[0].Until != stack.Answering || after[0].At != at {
			t.Errorf("%s: what wants it waits for %+v", name, after)
		}
		if len(s.Services) != 1 || len(s.Services[0].After) != 0 || len(s.Servers) != 2 {
			t.Errorf("%s: the stack itself was changed", name)
		}
		if again, err := Provide(got, []string{c.server.Speaks}); err != nil ||
			len(again.Services) != len(got.Services) {
			t.Errorf("%s: a mix that is made from it has %v, %v", name, again, err)
		}
		var f *stack.Fault
		for _, kind := range []string{"smtp", "cheese"} {
			if _, err := Provide(s, []string{kind}); !errors.As(err, &f) ||
				f.Code != stack.CodeNotProvided ||
				!slices.Contains([]string{"What could be provided: " + c.server.Speaks}, f.Remedy) {
				t.Errorf("%s: providing %s: %v", name, kind, err)
			}
		}
	}
}
