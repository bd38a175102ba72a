package plan

import (
	"fmt"
	"slices"
	"testing"

	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
)

// TestDiffer holds what is due again to what a change touches, and to nothing else.
func TestDiffer(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	projects := []string{".", "web", "pier"}
	// A fleet: an API at the top with its migrations, a front end of its own project, a watcher of
	// it, a worker that is built, and a tide table that shows a folder of the checkout.
	fleet := func() *Plan {
		p := &Plan{Root: root, ID: "x", Services: map[stack.NodeID]Service{},
			Steps: map[stack.NodeID]Step{}}
		step := func(id, command string, role stack.Role, inputs ...string) order.Edge {
			node := stack.StepNode(id)
			p.Steps[node] = Step{Work: memory.Work{ID: id, Role: role, Command: []string{command},
				Inputs: inputs}}
			p.Order.Nodes = append(p.Order.Nodes, order.Node{ID: node})
			return order.Edge{ID: node}
		}
		service := func(s Service, after ...order.Edge) {
			p.Services[stack.ServiceNode(s.Name)] = s
			p.Order.Nodes = append(p.Order.Nodes,
				order.Node{ID: stack.ServiceNode(s.Name), After: after})
		}
		install := step("install:web", "npm ci", stack.Install, "web/package-lock.json")
		migrate := step("migrate:.", "migrate", stack.Migrate)
		service(Service{Name: "api", Runs: stack.Native, Command: []string{"serve"}, dir: "."},
			migrate)
		service(Service{Name: "web", Runs: stack.Native, Command: []string{"vite"}, dir: "web"},
			install)
		service(Service{Name: "web-watch", Runs: stack.Native, dir: "web", Watches: true}, install)
		service(Service{Name: "worker", Runs: stack.Container, Build: "worker"})
		service(Service{Name: "tides", Runs: stack.Container, Image: "tides:1",
			Container: &stack.ContainerSpec{
				Mounts: []stack.Mount{{Type: "bind", Source: "pages", Target: "/pages"},
					{Type: "bind", Source: "/etc/tides", Target: "/etc/tides"}}}})
		p.Prints = p.prints()
		return p
	}
	const migrates = "steps: migrate: it is run at each start\n"
	for name, c := range map[string]struct {
		change  func(then *Plan)
		changed []string
		want    string
	}{
		"nothing": {nil, nil, ""},
		"a document": {nil, []string{"README.md", "worker/NOTES.md", ".github/workflows/ci.yml"},
			""},
		"its own code": {nil, []string{"server.go"}, migrates +
			"restart: api: server.go changes\ndata\n"},
		"another's code": {nil, []string{"web/src/app.js"},
			"restart: web: web/src/app.js changes\n"},
		"code of a library": {nil, []string{"pier/x.go"}, ""},
		"a lock file": {nil, []string{"web/package-lock.json"},
			"steps: install web: web/package-lock.json changes\n" +
				"restart: web: web/package-lock.json changes\nrestart: web-watch: a step before " +
				"it is done again\n"},
		"what is built": {nil, []string{"worker/main.py"},
			"restart: worker: worker/main.py changes\n"},
		"what is shown": {nil, []string{"pages/a.html", "etc/tides"},
			migrates + "restart: api: pages/a.html changes\nrestart: tides: pages/a.html " +
				"changes\ndata\n"},
		"a setting": {func(then *Plan) {
			s := then.Services["service:web"]
			s.own = []string{"TIDES=high"}
			then.Services["service:web"] = s
		}, nil, "restart: web: its settings change\n"},
		"a command, and a step of it": {func(then *Plan) {
			s := then.Services["service:api"]
			s.Command = []string{"serve", "--fast"}
			then.Services["service:api"] = s
			m := then.Steps["step:migrate:."]
			m.Command = []string{"migrate", "--all"}
			then.Steps["step:migrate:."] = m
		}, nil, "steps: migrate: its command is another\nrestart: api: it is run in another " +
			"way\ndata\n"},
		"one that comes and one that goes": {func(then *Plan) {
			then.Services["service:buoys"] = then.Services["service:tides"]
			delete(then.Services, "service:tides")
			for i := range then.Order.Nodes {
				if then.Order.Nodes[i].ID == "service:tides" {
					then.Order.Nodes[i].ID = "service:buoys"
				}
			}
		}, nil, "come: buoys: it is new\ngone: tides: it is no part of it any more\n"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			then := fleet()
			if c.change != nil {
				c.change(then)
				then.Prints = then.prints()
			}
			if idle := Differ(fleet(), then, c.changed, projects, false); len(idle.Restart) > 0 ||
				slices.ContainsFunc(idle.Steps,
					func(d Due) bool { return d.Because == "it is run at each start" }) {
				t.Errorf("of a stack that doesn't run is due %+v", idle)
			}
			b := Differ(fleet(), then, c.changed, projects, true)
			got := ""
			for _, part := range []struct {
				name string
				list []Due
			}{{"steps", b.Steps}, {"restart", b.Restart}, {"come", b.Come}, {"gone", b.Gone}} {
				for _, d := range part.list {
					got += fmt.Sprintf("%s: %s: %s\n", part.name, d.ID.Title(), d.Because)
				}
			}
			if b.Data {
				got += "data\n"
			}
			if got != c.want {
				t.Errorf("due is\n%swanted\n%s", got, c.want)
			}
		})
	}
}
