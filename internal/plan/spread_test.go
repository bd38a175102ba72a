package plan

import (
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"

	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
)

// TestSpread spreads a stack over two engines: on one the database, or what asks it.
func TestSpread(t *testing.T) {
	t.Parallel()
	container := func(name string, env map[string]string, after string,
		ports ...stack.Port) stack.Service {
		s := stack.Service{Name: name, Runs: stack.Container, Kind: stack.Lasting,
			Image: "saltmarsh/" + name + ":1", Env: env,
			Ports: ports, ContainerWay: stack.ContainerWay{Address: name,
				Container: &stack.ContainerSpec{}}}
		if after != "" {
			s.After = []stack.After{{Service: after, Until: stack.Begun, Because: stack.Declared}}
		}
		return s
	}
	s := &stack.Stack{Services: []stack.Service{
		container("db", nil, ""),
		container("api", map[string]string{"URL": "postgres://u@db:5432/x"}, "db",
			stack.Port{Host: 8081, Target: 80, Transport: "tcp", Speaks: "http"}),
		container("web", map[string]string{"API": "http://api:80/"}, "api"),
	}}
	for name, c := range map[string]struct {
		on      map[string]string
		engines map[string]Where
		want    []string
	}{
		"the database elsewhere": {map[string]string{"db": "big"},
			map[string]Where{"big": {Host: "10.9.0.2", Here: "10.9.0.1"}},
			[]string{"api URL=postgres://u@10.9.0.2:5432/x", "api finds db=10.9.0.2",
				"db opens :5432", "web API=http://api:80/"}},
		"through a tunnel": {map[string]string{"db": "big"},
			map[string]Where{"big": {Host: "10.9.0.2", Here: "10.9.0.1", Tunnel: true}},
			[]string{"api URL=postgres://u@10.9.0.2:5432/x", "api finds db=10.9.0.2",
				"db exposes 10.9.0.2:5432", "db opens :5432", "web API=http://api:80/"}},
		"what asks it elsewhere": {map[string]string{"api": "big"},
			map[string]Where{"big": {Host: "10.9.0.2", Here: "10.9.0.1"}},
			[]string{"api URL=postgres://u@10.9.0.1:5432/x", "api finds db=10.9.0.1",
				"db exposes 10.9.0.1:5432",
				"db opens 127.0.0.1:5432", "web API=http://10.9.0.2:8081/", "web finds " +
					"api=10.9.0.2"}},
		"all of it": {map[string]string{"api": "big", "db": "big", "web": "big"},
			map[string]Where{"big": {Host: "10.9.0.2", Here: "10.9.0.1"}},
			[]string{"api URL=postgres://u@db:5432/x", "web API=http://api:80/"}},
	} {
		opt := Options{On: c.on}
		mixed, err := Mix(s, opt)
		if err != nil {
			t.Fatal(err)
		}
		mixed.Engines = c.engines
		ord, err := order.Build(mixed.Stack, order.Options{})
		if err != nil {
			t.Fatal(err)
		}
		p, err := Make(t.TempDir(), fstest.MapFS{}, mixed, ord, opt)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, v := range p.Services {
			for _, kv := range v.Environment {
				got = append(got, v.Name+" "+kv)
			}
			for _, line := range v.Across {
				got = append(got, v.Name+" finds "+line)
			}
			for _, x := range v.Exposed {
				got = append(got, v.Name+" exposes "+x.HostIP+":"+strconv.Itoa(x.Host))
			}
			for _, x := range v.Ports {
				if x.Host != 8081 {
					got = append(got, v.Name+" opens "+x.HostIP+":"+strconv.Itoa(x.Host))
				}
			}
		}
		if slices.Sort(got); !slices.Equal(got, c.want) {
			t.Errorf("%s:\n%s\nwant\n%s", name, strings.Join(got, "\n"), strings.Join(c.want, "\n"))
		}
	}
	if _, err := Mix(s, Options{On: map[string]string{"nobody": "big"}}); err == nil {
		t.Error("a service that isn't there was put on another engine")
	}
}
