package plan

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
)

// TestRewritten tells which settings say another address in a mix, and of them the addresses alone;
// and what finds a native service from inside of a container.
func TestRewritten(t *testing.T) {
	t.Parallel()
	s := &stack.Stack{Services: []stack.Service{
		{Name: "db", Runs: stack.Container, Image: "postgres:16",
			ContainerWay: stack.ContainerWay{Address: "db",
				Container: &stack.ContainerSpec{}}, Ports: []stack.Port{{Host: 5433, Target: 5432,
				Transport: "tcp"}}},
		{Name: "api", Source: stack.FromCompose, Runs: stack.Container, Build: "api",
			NativeWay: stack.NativeWay{
				NativeCommand: []string{"run"}}, Ports: []stack.Port{{Host: 8081, Target: 8081,
				Transport: "tcp"}},
			Env: map[string]string{"URL": "postgres://u:canary@db:5432/x", "DB_HOST": "db",
				"DB_PORT": "5432", "LEVEL": "info", "KEY_FILE": "/run/secrets/key"},
			ContainerWay: stack.ContainerWay{Address: "api",
				Container: &stack.ContainerSpec{Handed: []stack.Handed{
					{Name: "key", Secret: true, File: "keys/key", Target: "/run/secrets/key"}}}}},
		{Name: "web", Runs: stack.Container, Image: "saltmarsh/web:1", Env: map[string]string{
			"API": "http://api:8081/"}, After: []stack.After{{Service: "api", Until: stack.Begun,
			Because: stack.Declared}},
			ContainerWay: stack.ContainerWay{Address: "web", Container: &stack.ContainerSpec{}}},
	}}
	opt := Options{Native: []string{"api"}}
	mixed, err := Mix(s, opt)
	if err != nil {
		t.Fatal(err)
	}
	ord, err := order.Build(mixed.Stack, order.Options{})
	if err != nil {
		t.Fatal(err)
	}
	root := t.TempDir()
	p, err := Make(root, fstest.MapFS{"keys/key": {Data: []byte("canary-of-a-file\n")}}, mixed,
		ord, opt)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, r := range p.Rewritten {
		got = append(got, fmt.Sprintf("%s %s: %s, not %s", r.Service, r.Key, r.To, r.From))
	}
	slices.Sort(got)
	want := []string{"api DB_HOST: localhost, not db", "api DB_PORT: 5433, not 5432",
		"api URL: localhost:5433, not db:5432", "web API: host.docker.internal:8081, not api:8081"}
	if !slices.Equal(got, want) || strings.Contains(strings.Join(got, ""), "canary") {
		t.Errorf("told is\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if !slices.Contains(p.Secrets, "canary-of-a-file") {
		t.Errorf("logs hide %v", p.Secrets)
	}
	if web := p.Services["service:web"]; !slices.Equal(web.Across, []string{"api=host-gateway"}) {
		t.Errorf("web finds %v", web.Across)
	}
	if env := p.Services["service:api"].Environment; !slices.Contains(env,
		"KEY_FILE="+root+"/keys/key") {
		t.Errorf("the secret's file is not named: %v", env)
	}
}
