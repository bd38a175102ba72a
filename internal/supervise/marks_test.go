package supervise

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/workspace"
)

// TestRememberedOnce runs a service that sets something up once, where nharbor.toml asks for it.
func TestRememberedOnce(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	for i, want := range []string{"setup finished", "setup finished"} {
		p := newPlay(t)
		p.root, p.plan.Root = root, root
		p.native("setup", stack.Once, 0, words("say=set up"))
		p.change("setup", func(s *plan.Service) { s.Remembered = true })
		p.run(t, nil)
		if got := p.states(); got != want {
			t.Errorf("launch %d: %s", i, got)
		}
		if started := p.when("service:setup", stack.Starting) >= 0; started != (i == 0) {
			t.Errorf("launch %d: started %v", i, started)
		}
	}
}

func TestPausesGrow(t *testing.T) {
	t.Parallel()
	for n, want := range map[int]string{1: "1st", 2: "2nd", 3: "3rd", 4: "4th", 11: "11th",
		12: "12th", 13: "13th",
		21: "21st", 112: "112th"} {
		if got := ordinal(n); got != want {
			t.Errorf("%d is %s", n, got)
		}
	}
	before := time.Duration(0)
	for n := 1; n < 40; n++ {
		pause := min(firstPause<<min(n-1, 10), longestPause)
		if pause < before || pause > longestPause || pause <= 0 {
			t.Fatalf("the pause before start %d is %v", n, pause)
		}
		before = pause
	}
}

// TestResetWithoutEngine throws away what steps have made in files, and nothing outside of the
// workspace.
func TestResetWithoutEngine(t *testing.T) {
	root, outside := t.TempDir(), filepath.Join(t.TempDir(), "kept.db")
	t.Setenv("DOCKER_HOST", "unix://"+filepath.Join(root, "no-engine"))
	inside := filepath.Join(root, "db", "tides.sqlite3")
	if err := os.MkdirAll(filepath.Dir(inside), 0o755); err != nil {
		t.Fatal(err)
	}
	for _, f := range []string{inside, outside} {
		if err := os.WriteFile(f, []byte("x"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	step := &memory.Work{ID: "seed:.", Role: stack.Seed, Command: []string{"x"}}
	remember := func() {
		m := memory.Recall(root)
		m.Remember(step, memory.Digest(root, step, ""), []string{inside, outside})
		data := []byte(`{"ended": true, "services": [{"name": "api", "runs": "native"}]}`)
		if err := workspace.WriteState(root, record.Name, data); err != nil {
			t.Fatal(err)
		}
	}
	exists := func(file string) bool {
		_, err := os.Stat(file)
		return err == nil
	}
	remember()
	gone, err := Reset(t.Context(), root, false)
	if err != nil || gone.Stopped || len(gone.Files) > 0 || !exists(inside) {
		t.Errorf("without the data: %+v, %v", gone, err)
	}
	if m := memory.Recall(root); m.Done(step, memory.Digest(root, step, "")) {
		t.Error("the seed is still done")
	}
	remember()
	gone, err = Reset(t.Context(), root, true)
	if err != nil || strings.Join(gone.Files, " ") != "db/tides.sqlite3" || exists(inside) ||
		!exists(outside) {
		t.Errorf("with the data: %+v, %v; outside of the workspace is left %v", gone, err,
			exists(outside))
	}
	if err := workspace.WriteState(root, record.Name,
		[]byte(`{"ended": true, "services": [{"name": "db", "runs": "container"}]}`)); err != nil {
		t.Fatal(err)
	}
	if _, err := Reset(t.Context(), root, true); err == nil {
		t.Error("of volumes that can't be reached nothing is said")
	}
	for name, put := range map[string]func() error{
		"broken": func() error { return workspace.WriteState(root, record.Name, []byte("{")) },
		"forged": func() error {
			return os.WriteFile(record.File(root), []byte(`{"ended": true}`), 0o600)
		},
	} { // it is not believed and goes; what the engine may have of the stack must be asked for then
		if err := put(); err != nil {
			t.Fatal(err)
		}
		_, err := Reset(t.Context(), root, true)
		if err == nil || !strings.Contains(err.Error(), "no container engine answers at") ||
			exists(record.File(root)) {
			t.Errorf("with a %s state: %v; it is still there: %v", name, err,
				exists(record.File(root)))
		}
	}
}
