package execute

import (
	"testing"
	"time"

	"nimbleharbor/internal/plan"
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
		12: "12th", 13: "13th", 21: "21st", 112: "112th"} {
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
