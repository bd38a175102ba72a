package session

import (
	"context"
	"fmt"
	"net"
	"slices"
	"strings"
	"testing"
	"time"

	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/mend"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/testport"
)

// day is when the lessons of these tests were learned.
var day = time.Date(2026, 11, 30, 8, 15, 0, 0, time.UTC)

// TestTaught begins a survey with what earlier launches have learned, as long as it fits.
func TestTaught(t *testing.T) {
	t.Parallel()
	waits := memory.Lesson{Service: "desk", After: "ledger", Because: "connection-refused", At: day}
	for name, c := range map[string]struct {
		names  []string // the services that there are
		before bool     // desk waits for the ledger anyway
		partly bool     // not all of the workspace could be read
		waits  string   // for whom desk waits then, and how sure that is
		gone   string   // who is told to be gone
		known  int      // how many lessons are left
	}{
		"as it was": {names: []string{"desk", "ledger"}, waits: "ledger answering seen",
			known: 1},
		"known by files": {names: []string{"desk", "ledger"}, before: true,
			waits: "ledger begun ", known: 1},
		"the other is gone": {names: []string{"desk", "rota"}, gone: "ledger"},
		"itself is gone":    {names: []string{"ledger"}, gone: "desk"},
		"both are gone":     {names: []string{"rota"}, gone: "desk"},
		// a file that can't be read for a moment takes no lesson away
		"a part is unread": {names: []string{"desk"}, partly: true, known: 1},
	} {
		m, s := memory.Recall(t.TempDir()), &stack.Stack{}
		m.Learn(waits)
		for _, n := range c.names {
			s.Services = append(s.Services, stack.Service{Name: n})
		}
		desk := s.Service("desk")
		if c.before {
			desk.After = []stack.After{{Service: "ledger", Until: stack.Begun}}
		}
		taught(m, s, !c.partly)
		var got, gone string
		if desk != nil {
			for _, a := range desk.After {
				got += fmt.Sprint(a.Service, " ", a.Until, " ", a.Sure)
				if !c.before && !strings.Contains(a.Reason, "30 November 2026") {
					t.Errorf("%s: the day isn't told: %s", name, a.Reason)
				}
			}
		}
		for _, r := range s.Remarks {
			if r.Code == stack.CodeLessonDropped {
				_, rest, _ := strings.Cut(r.Text, "; ")
				gone, _, _ = strings.Cut(rest, " ")
			}
		}
		if got != c.waits || gone != c.gone || len(m.Lessons()) != c.known {
			t.Errorf("%s: it waits for %q, gone is %q, and %d lessons are left", name, got, gone,
				len(m.Lessons()))
		}
	}
}

// TestMendRemembers keeps of the acts what the next launch has to begin with, and makes it do a
// step again.
func TestMendRemembers(t *testing.T) {
	t.Parallel()
	w := tree(t, map[string]string{"desk.js": "\n"})
	done := &memory.Work{ID: "install:.", Role: stack.Install, Command: []string{"x"},
		Inputs: []string{"desk.js"}}
	digest := memory.Digest(w.Root, done, "")
	memory.Recall(w.Root).Remember(done, digest, nil)
	w.Mend([]mend.Act{
		{ID: "service:desk", Cause: "package-missing", Again: "step:install:."},
		{ID: "service:desk", Cause: "connection-refused", After: "ledger", Port: 5432},
		{ID: "service:desk", Cause: "connection-refused", After: "rota"},
		{ID: "service:desk", Cause: "connection-refused", Provide: "redis"},
		{ID: "service:desk", Cause: "setting-missing", Setting: "TIDE_SECRET", File: ".env"},
	}, day.Add(time.Millisecond))
	m := memory.Recall(w.Root)
	if m.Done(done, digest) {
		t.Error("the step counts as done, so that nothing would do it again")
	}
	var got []string
	for _, l := range m.Lessons() {
		got = append(got, l.Service+" "+l.After+l.Provide+" "+l.Because)
		if !l.At.Equal(day) {
			t.Errorf("learned at %v", l.At)
		}
	}
	if want := []string{"desk ledger connection-refused", "desk rota connection-refused",
		"desk redis connection-refused"}; !slices.Equal(got, want) {
		t.Errorf("remembered %q, want %q", got, want)
	}
	if seen := m.Seen(); len(seen) != 1 || seen["ledger"].Port != 5432 ||
		seen["ledger"].Speaks != "postgres" {
		t.Errorf("seen was %v", seen)
	}
	if kinds := w.taughtServers(); !slices.Equal(kinds, []string{"redis"}) {
		t.Errorf("run beside the stack: %q", kinds)
	}
}

// TestServesOfAnother doesn't take who listens on a port for a service of the stack because it is
// there, and doesn't wait longer than it may.
func TestServesOfAnother(t *testing.T) {
	t.Parallel()
	w, port := tree(t, map[string]string{"desk.js": "\n"}), testport.Take(t)
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if got := w.Serves(context.Background(), port); got != "" {
		t.Errorf("a stranger on the port is %s", got)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if got := w.Serves(ctx, port+1); got != "" {
		t.Errorf("nobody on the port is %s", got)
	}
}
