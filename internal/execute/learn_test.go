package execute

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/testport"
)

// TestPortsAreLearned starts a service that listens on another port than is said, and one of which
// no port is said. What they really do is asked, recorded and remembered.
func TestPortsAreLearned(t *testing.T) {
	t.Parallel()
	said, moved, unsaid := testport.Take(t), testport.Take(t), testport.Take(t)
	p := newPlay(t)
	p.native("desk", stack.Lasting, said, words(fmt.Sprintf("listen=%d", moved), "stay"))
	p.native("lamp", stack.Lasting, 0, words(fmt.Sprintf("listen=%d", unsaid), "stay"))
	p.run(t, nil)
	p.await(t, "service:lamp", stack.IsUp, 1)
	for _, r := range p.x.State().Services() {
		want := map[string]int{"desk": moved, "lamp": unsaid}[r.Name]
		if r.State != stack.IsUp || len(r.Ports) != 1 || r.Ports[0].Host != want ||
			r.Ports[0].Speaks != "http" {
			t.Errorf("%s is %s (%s) on %+v, want port %d", r.Name, r.State, r.Text, r.Ports, want)
		}
	}
	seen := memory.Recall(p.root).Seen()
	if seen["desk"] != (memory.Seen{Port: moved, Speaks: "http", Said: said}) ||
		seen["lamp"] != (memory.Seen{Port: unsaid, Speaks: "http"}) {
		t.Errorf("remembered: %+v", seen)
	}
}

// TestWatchersAreNoProof starts services that stay while what they watch has ended, as they say.
// That is told with the program's own words, long before anybody would have waited for its port;
// one that has started it again since is waited for.
func TestWatchersAreNoProof(t *testing.T) {
	t.Parallel()
	dead := []string{"say=TypeError: no berth",
		"say=[watcher] app crashed - waiting for file changes"}
	port, again := testport.Take(t), testport.Take(t)
	p := newPlay(t)
	p.native("desk", stack.Lasting, port, words(append(dead, "stay")...))
	p.native("lamp", stack.Lasting, 0, words(append(dead, "stay")...))
	p.native("bell", stack.Lasting, again, words(append(dead, "say=[watcher] starting",
		fmt.Sprintf("listen=%d", again), "stay")...))
	p.run(t, nil)
	for _, r := range p.x.State().Services() {
		switch {
		case r.Name == "bell":
			if r.State != stack.IsUp {
				t.Errorf("bell is %s (%s)", r.State, r.Text)
			}
		case r.State != stack.Quiet ||
			r.Text != "it watches files, but its program has ended; it said: TypeError: no berth":
			t.Errorf("%s is %s (%s)", r.Name, r.State, r.Text)
		}
	}
}

// TestFailedMigrationIsNamed tells at which migration a step has failed, and where it stands.
func TestFailedMigrationIsNamed(t *testing.T) {
	t.Parallel()
	p := newPlay(t)
	file := filepath.Join(p.root, "ledger", "migrations", "0004_tides.py")
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	p.step("migrate", words("say=  Applying ledger.0003_piers... OK",
		"say=  Applying ledger.0004_tides...", "say=ValueError: no tide", "exit=1"), nil)
	migrates := p.plan.Steps[stack.StepNode("migrate")]
	migrates.Role = stack.Migrate
	p.plan.Steps[stack.StepNode("migrate")] = migrates
	p.run(t, nil)
	const want = "ended with code 1; it said: ValueError: no tide; at the migration " +
		"ledger.0004_tides (ledger/migrations/0004_tides.py)"
	if f := p.x.State().Failures(); len(f) != 1 || f[0].Text != want {
		t.Errorf("got %+v", f)
	}
}

// TestWatcherLosesItsProgram tells of a watcher that says nothing of it that its program has ended,
// by the child that it had, and what that one said.
func TestWatcherLosesItsProgram(t *testing.T) {
	t.Parallel()
	if runtime.GOOS != "linux" {
		t.Skip("children are known on Linux alone")
	}
	p := newPlay(t)
	p.native("desk", stack.Lasting, testport.Take(t), []string{"sh", "-c",
		`"$0" play "say=TypeError: no tide" pause=1200ms exit=1; exec "$0" play stay --watch`,
		os.Args[0], "--watch"})
	p.run(t, nil)
	const want = "it watches files, but its program has ended; it said: TypeError: no tide"
	if r := p.x.State().Services()[0]; r.State != stack.Quiet || r.Text != want {
		t.Errorf("it is %s (%s)", r.State, r.Text)
	}
}

// TestOnlyTheLastStartCounts tells why a service has ended by what it has said since it was started
// again, though what it said before is a nearer cause by itself.
func TestOnlyTheLastStartCounts(t *testing.T) {
	t.Parallel()
	p := newPlay(t)
	mark := filepath.Join(p.root, "begun")
	p.native("desk", stack.Lasting, 0, []string{"sh", "-c", `[ -e "$1" ] || ` +
		`{ : >"$1"; echo "password authentication failed for user \"quay\""; exit 1; }; ` +
		`echo "TypeError: no tide"; exit 1`, "sh", mark})
	s := p.plan.Services[stack.ServiceNode("desk")]
	s.Restarts.Restart, s.Restarts.RestartTimes = true, 1
	p.plan.Services[stack.ServiceNode("desk")] = s
	p.run(t, nil)
	const want = "ended with code 1; it said: TypeError: no tide"
	if f := p.x.State().Failures(); len(f) != 1 || f[0].Text != want || f[0].Code != "" {
		t.Errorf("got %+v", f)
	}
}
