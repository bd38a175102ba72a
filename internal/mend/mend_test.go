package mend

import (
	"slices"
	"testing"

	"nimbleharbor/internal/stack"
)

// harbour is a stack of a page and an office that installs and migrates, a ledger that nothing
// waits for, and a queue that settings want and nobody offers.
func harbour() *stack.Stack {
	native := func(name, project string, port int, after ...string) stack.Service {
		v := stack.Service{Name: name}
		v.Runs, v.Project, v.Manager = stack.Native, project, "pip"
		v.EnvFiles = []stack.EnvFileRef{{Path: name + "/.env"}}
		if port > 0 {
			v.Ports = []stack.Port{{Host: port, Target: port, Transport: "tcp"}}
		}
		for _, a := range after {
			v.After = append(v.After, stack.After{Service: a, Until: stack.Answering})
		}
		return v
	}
	packed := stack.Service{Name: "packed"}
	packed.Runs, packed.Project, packed.Manager = stack.Container, "office", "pip"
	return &stack.Stack{
		Projects: []stack.Project{{Path: "office", Manager: "pip", Steps: []stack.Step{
			{ID: "install:office", Role: stack.Install},
			{ID: "migrate:office", Role: stack.Migrate}}}},
		Services: []stack.Service{native("office", "office", 4601),
			native("ledger", "", 4602, "bell"),
			native("bell", "", 0), packed},
		Servers:  []stack.Server{{Speaks: "redis", Port: 6379, For: "office"}},
		EnvFiles: []stack.EnvFile{{Path: "office/.env"}, {Path: "ledger/.env"}},
	}
}

// TestActs leads from failures to acts, and to none where they would lose something, were done
// before, or would have each wait for the other.
func TestActs(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, id, code, of, want string
		ran                      stack.NodeID // in this launch
		serves                   string
		done                     bool
	}{
		{name: "an install", id: "service:office", code: "package-missing-python",
			want: "install office is done once more"},
		{name: "a migration", id: "service:office", code: "table-missing",
			want: "migrate office is done once more"},
		{name: "for a step", id: "step:migrate:office", code: "package-missing-python",
			want: "install office is done once more"},
		{name: "not by itself", id: "step:install:office", code: "dependencies-unfetched"},
		{name: "no step for it", id: "service:office", code: "client-not-generated"},
		{name: "not in a container", id: "service:packed", code: "package-missing-python"},
		{name: "what was just done", id: "service:office", code: "package-missing-python",
			ran: "step:install:office"},
		{name: "once", id: "service:office", code: "package-missing-python", done: true},
		{name: "no cause", id: "service:office", of: ""},
		{name: "a service with the port", id: "service:office", code: "connection-refused",
			of:   "127.0.0.1:4602",
			want: "office waits until ledger answers"},
		{name: "a service that listens", id: "service:office", code: "connection-refused",
			of: "[::1]:4603", serves: "bell",
			want: "office waits until bell answers"},
		{name: "not each for the other", id: "service:bell", code: "connection-refused",
			of: "127.0.0.1:4602"},
		{name: "it waited", id: "service:ledger", code: "connection-refused",
			of: "127.0.0.1:4603", serves: "bell"},
		{name: "a server", id: "service:office", code: "connection-refused",
			of:   "127.0.0.1:6379",
			want: "a redis is run beside the stack, on port 6379"},
		{name: "no server that settings want", id: "service:office", code: "connection-refused",
			of: "127.0.0.1:5432"},
		{name: "a secret", id: "service:office", code: "setting-missing", of: "TIDE_SECRET",
			want: "TIDE_SECRET is made up, and written into office/.env"},
		{name: "no secret of its own", id: "service:office", code: "setting-missing",
			of: "TIDE_KEY"},
		{name: "a committed file", id: "service:ledger", code: "setting-missing",
			of: "TIDE_SECRET"},
		{name: "a file that nobody knows", id: "service:bell", code: "setting-missing",
			of: "TIDE_SECRET"},
		{name: "no address", id: "service:office", code: "connection-refused"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			f := []stack.Failure{{ID: stack.NodeID(c.id), Code: c.code, Of: c.of}}
			sight := Sight{Unchanged: func(id stack.NodeID) bool { return id != c.ran },
				Serves:    func(int) string { return c.serves },
				Committed: func(file string) bool { return file == "ledger/.env" },
				MadeUp:    func(key, _ string) bool { return key == "TIDE_SECRET" }}
			done := map[string]bool{}
			if c.done {
				for _, a := range Acts(harbour(), f, sight, nil) {
					done[a.Key()] = true
				}
			}
			var got []string
			for _, a := range Acts(harbour(), f, sight, done) {
				got = append(got, a.Says)
			}
			var want []string
			if c.want != "" {
				want = []string{c.want}
			}
			if !slices.Equal(got, want) {
				t.Errorf("got %q, want %q", got, want)
			}
		})
	}
}

// TestOneActForSeveral does what several failures ask for alike once.
func TestOneActForSeveral(t *testing.T) {
	t.Parallel()
	f := []stack.Failure{{ID: "service:office", Code: "package-missing-python"},
		{ID: "step:migrate:office", Code: "package-missing-python"}}
	if got := Acts(harbour(), f, Sight{Unchanged: func(stack.NodeID) bool { return true }},
		nil); len(got) != 1 {
		t.Errorf("got %d acts", len(got))
	}
}
