package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"nimbleharbor/internal/engine"
)

// stages are what every demo has to show.
var stages = []string{"1. Get the code", "tag summer-2026", "2. Look round", "after api",
	"3. What does this machine lack", "has all that the launch needs",
	"TIDE_TOKEN", "takes its password from DB_PASSWORD", "Every setting has its " +
		"value", "Critical path",
	"You have vouched", "Everything is up after", "Saltmarsh Ferry: book a crossing",
	"In the ledger: Ida Brandt", "entered the booking for Ida Brandt", "Everything has been " +
		"stopped", "nothing of it is left"}

func TestDemo(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	git, err := exec.LookPath("git")
	if err != nil {
		t.Fatal(err)
	}
	bin := filepath.Join(b.home, "bin") // nothing is installed but git
	if err := os.MkdirAll(bin, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(git, filepath.Join(bin, "git")); err != nil {
		t.Fatal(err)
	}
	b.env = append(b.env, "PATH="+bin, "DOCKER_HOST=")
	out := b.must(0, "demo")
	for _, s := range stages {
		if !strings.Contains(out, s) {
			t.Errorf("the demo does not show %q", s)
		}
	}
	if t.Failed() {
		t.Log(out)
	}
	b.leavesNothing()
	if entries, _ := os.ReadDir(b.home); len(entries) != 1 {
		t.Errorf("the demo left in the home folder: %v", entries)
	}
}

func TestDemoKept(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.must(0, "demo", "--keep", "kept")
	if out := b.must(0, "-C", "kept", "order"); !strings.Contains(out, "ferry-counter") {
		t.Errorf("order on the kept workspace says %s", out)
	}
	b.must(2, "demo", "--keep", "kept")
	b.leavesNothing()
}

func TestDemoReal(t *testing.T) {
	t.Parallel()
	e, err := engine.Connect(t.Context())
	if err == nil {
		_, err = exec.LookPath("npm")
	}
	if err != nil {
		if os.Getenv("NHARBOR_REQUIRE_ENGINE") != "" {
			t.Fatalf("a container engine, node and npm are required here: %v", err)
		}
		t.Skipf("the real demo needs a container engine, node and npm: %v", err)
	}
	e.Close()
	b := newBench(t)
	out := b.must(0, "demo", "--real")
	for _, s := range stages {
		if !strings.Contains(out, s) {
			t.Errorf("the demo does not show %q", s)
		}
	}
	b.leavesNothing()
	for _, what := range []string{"saltmarsh/base:1", "saltmarsh/queue:1"} {
		if e, err := engine.Connect(t.Context()); err == nil {
			if has, _ := e.Images().Has(t.Context(), what); has {
				t.Errorf("the image %s was left", what)
			}
			e.Close()
		}
	}
}
