package launch

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
)

// TestRememberedOnce runs a service that sets something up once, where nharbor.toml asks for it.
func TestRememberedOnce(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	for i, want := range []string{"setup finished", "setup finished"} {
		p := newPlay(t)
		p.root, p.plan.Root = root, root
		p.native("setup", stack.Once, 0, words("say=set up"))
		p.change("setup", func(s *Service) { s.Remembered = true })
		p.run(t, nil)
		if got := p.states(); got != want {
			t.Errorf("launch %d: %s", i, got)
		}
		if started := p.when("service:setup", stack.Starting) >= 0; started != (i == 0) {
			t.Errorf("launch %d: started %v", i, started)
		}
	}
}

func TestChangesAreNamed(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	write := func(name, text string) {
		if err := os.WriteFile(filepath.Join(root, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("lock", "1")
	write(".env", "A=1")
	made := func(level, commit string) *Plan {
		p := &Plan{Root: root, ID: "x", Inputs: []string{"lock", ".env", "nharbor.toml"},
			Commits: map[string]string{".": commit}, Services: map[string]Service{}, Steps: map[string]Step{}}
		p.Services["service:api"] = Service{Service: stack.Service{Name: "api", Command: []string{"serve"},
			At: stack.Place{File: level, Line: 7}}, own: []string{"LEVEL=" + level}}
		p.Services["service:web"] = Service{Service: stack.Service{Name: "web"},
			Environment: []string{"SHELL=" + level}}
		p.Steps["step:install:web"] = Step{Step: stack.Step{ID: "install:web", Role: stack.Install,
			Inputs: []string{"lock"}}}
		p.Order.Nodes = []order.Node{{ID: "step:install:web", Kind: "step"}, {ID: "service:api", Kind: "service"},
			{ID: "service:web", Kind: "service", After: []order.Edge{{ID: "step:install:web"}}}}
		p.Prints = p.prints()
		return p
	}
	r := &Record{Prints: made("low", "c1").Prints}
	if c := Changes(r, made("low", "c1")); c.Any() {
		t.Errorf("nothing has changed, and said is %+v", c)
	}
	if c := Changes(r, made("high", "c1")); strings.Join(c.Services, " ") != "api" ||
		c.Remedy != "nharbor restart api" || len(c.Steps)+len(c.Files)+len(c.Commits) > 0 {
		t.Errorf("of a setting is said %+v", c)
	}
	write("lock", "2")
	write("nharbor.toml", "")
	if c := Changes(r, made("low", "c2")); strings.Join(c.Files, " ") != "lock nharbor.toml" ||
		strings.Join(c.Steps, " ") != "install web" || strings.Join(c.Commits, " ") != "." ||
		c.Remedy != "nharbor restart web" {
		t.Errorf("of a lock file and a commit is said %+v", c)
	}
	if c := Changes(&Record{}, made("low", "c1")); c.Any() {
		t.Errorf("of a launch of which nothing is known is said %+v", c)
	}
	if strings.Contains(fmt.Sprintf("%+v", r.Prints), "LEVEL") {
		t.Error("the record holds a setting")
	}
}

func TestPausesGrow(t *testing.T) {
	t.Parallel()
	for n, want := range map[int]string{1: "1st", 2: "2nd", 3: "3rd", 4: "4th", 11: "11th", 12: "12th", 13: "13th",
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

// TestStartingAgainIsExplained gives the reason why a service is between two starts as that of its silence.
func TestStartingAgainIsExplained(t *testing.T) {
	t.Parallel()
	c := stack.PortCheck{Verdict: stack.Refuses}
	why := "ended with code 3; it starts again in 0.5 s, for the 1st time"
	r := &Record{Services: []RecordService{{Name: "api", Runs: stack.Native, State: stack.Starting, Text: why}}}
	explain(&c, stack.Service{Name: "api"}, stack.Port{Host: 1, Target: 1}, r, true)
	if c.Cause != why || !strings.Contains(c.Remedy, "nharbor logs api") {
		t.Errorf("it is explained by %q: %s", c.Cause, c.Remedy)
	}
	r.Services[0].State, r.Services[0].Text = stack.Stopped, ""
	if explain(&c, stack.Service{Name: "api"}, stack.Port{Host: 1, Target: 1}, r,
		true); c.Remedy != "Start it again: nharbor restart api" {
		t.Errorf("a stopped service: %s", c.Remedy)
	}
}

// TestResetWithoutEngine throws away what steps have made in files, and nothing outside of the workspace.
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
	step := &Step{Step: stack.Step{ID: "seed:.", Role: stack.Seed, Command: []string{"x"}}, Dir: root}
	remember := func() {
		m := Recall(root)
		m.Remember(step, m.Digest(root, step, ""), []string{inside, outside}, time.Second)
		data := []byte(`{"ended": true, "services": [{"name": "api", "runs": "native"}]}`)
		if err := os.WriteFile(recordFile(root), data, 0o600); err != nil {
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
	if m := Recall(root); m.Done(step, m.Digest(root, step, "")) {
		t.Error("the seed is still done")
	}
	remember()
	gone, err = Reset(t.Context(), root, true)
	if err != nil || strings.Join(gone.Files, " ") != "db/tides.sqlite3" || exists(inside) || !exists(outside) {
		t.Errorf("with the data: %+v, %v; outside of the workspace is left %v", gone, err, exists(outside))
	}
	if err := os.WriteFile(recordFile(root),
		[]byte(`{"ended": true, "services": [{"name": "db", "runs": "container"}]}`), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Reset(t.Context(), root, true); err == nil {
		t.Error("of volumes that can't be reached nothing is said")
	}
	if err := os.WriteFile(recordFile(root), []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Reset(t.Context(), root, true); err == nil || !strings.Contains(err.Error(), "can't be read") {
		t.Errorf("with a broken state: %v", err)
	}
}
