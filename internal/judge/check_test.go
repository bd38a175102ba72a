package judge

import (
	"strings"
	"testing"

	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/testport"
)

func TestCausesFollowTheRecord(t *testing.T) {
	t.Parallel()
	service := stack.Service{Name: "web"}
	at := stack.Port{Host: 8000, Target: 80, At: stack.Place{File: "compose.yaml", Line: 5}}
	rec := func(runs stack.Way, s stack.State) *record.Record {
		return &record.Record{Services: []record.Service{{Name: "web", Runs: runs, State: s,
			Text: "no luck"}}}
	}
	for _, c := range []struct {
		name    string
		check   stack.PortCheck
		rec     *record.Record
		alive   bool
		verdict stack.Verdict
		cause   string
	}{
		{"nothing was launched", stack.PortCheck{Verdict: stack.Refuses}, nil, false,
			stack.Refuses, "not launched"},
		{"somebody else is there", stack.PortCheck{Verdict: stack.Answers,
			Owner: &stack.Owner{PID: 7, Command: "nginx"}}, nil, false,
			stack.Stranger, "nginx, process 7"},
		{"it failed", stack.PortCheck{Verdict: stack.Refuses}, rec(stack.Native, stack.Failed),
			true, stack.Refuses, "failed: no luck"},
		{"it was skipped", stack.PortCheck{Verdict: stack.Refuses},
			rec(stack.Native, stack.Skipped), true, stack.Refuses, "skipped, since no luck"},
		{"it was stopped", stack.PortCheck{Verdict: stack.Refuses},
			rec(stack.Native, stack.Stopped), true, stack.Refuses, "was stopped"},
		{"it is not part", stack.PortCheck{Verdict: stack.Refuses}, &record.Record{}, true,
			stack.Refuses, "not part of this launch"},
		{"somebody is in its place",
			stack.PortCheck{Verdict: stack.Answers, Owner: &stack.Owner{PID: 7, Command: "nginx"}},
			rec(stack.Native, stack.Failed), true, stack.Stranger, "failed: no luck; what " +
				"answers here is another program: nginx"},
		{"somebody has the port of what was left out", stack.PortCheck{Verdict: stack.Answers},
			&record.Record{}, true, stack.Refuses, "not part of this launch"},
		{"it failed, and all is over", stack.PortCheck{Verdict: stack.Refuses},
			rec(stack.Native, stack.Failed), false, stack.Refuses, "failed: no luck"},
		{"only inside", stack.PortCheck{Verdict: stack.Refuses},
			rec(stack.Container, stack.IsUp), true, stack.Refuses, "own loopback"},
		{"it does not listen", stack.PortCheck{Verdict: stack.Refuses},
			rec(stack.Native, stack.IsUp), true, stack.Refuses, "does not listen"},
		{"it hangs up", stack.PortCheck{Verdict: stack.Refuses,
			Cause: "it accepts the connection and hangs up without a " +
				"word"}, rec(stack.Native, stack.IsUp), true, stack.Silent, "hangs up"},
		{"it says nothing", stack.PortCheck{Verdict: stack.Silent},
			rec(stack.Native, stack.IsUp), true, stack.Silent, "says nothing within"},
		{"it speaks another language",
			stack.PortCheck{Verdict: stack.Stranger, Expected: "http", Speaks: "redis"},
			rec(stack.Container, stack.IsUp), true, stack.Stranger, "http was expected, and " +
				"redis answers"},
		{"all is well", stack.PortCheck{Verdict: stack.Answers},
			rec(stack.Container, stack.IsUp), true, stack.Answers, ""},
	} {
		j := &judgement{Judging: Judging{Record: c.rec}, alive: c.alive}
		got := j.about(t.Context(), &target{service: &service, port: at}, c.check).Explain()
		if got.Verdict != c.verdict || !strings.Contains(got.Cause, c.cause) ||
			(got.Remedy == "") != (c.verdict == stack.Answers) {
			t.Errorf("%s: %+v", c.name, got)
		}
	}
}

// TestJobsAreAskedNothing holds that a job that is over gets no credit for the server that has its
// port now.
func TestJobsAreAskedNothing(t *testing.T) {
	t.Parallel()
	ports := []stack.Port{{Host: testport.Take(t), Target: 80, Transport: "tcp", Speaks: "http"}}
	c := Judging{Services: []stack.Service{
		{Name: "board", Kind: stack.Lasting, Ports: ports},
		{Name: "prepare", Kind: stack.Once, Ports: ports},
	}}.Ask(t.Context())
	if len(c.Ports) != 1 || c.Ports[0].Service != "board" {
		t.Errorf("asked was %+v", c.Ports)
	}
	mixed, err := plan.Mix(&stack.Stack{Services: []stack.Service{{Name: "prepare",
		Kind: stack.Once, Ports: ports}}}, plan.Options{})
	if err != nil || len(mixed.Stack.Services[0].Ports) != 0 ||
		len(mixed.Survey.Services[0].Ports) != 1 {
		t.Errorf("to be launched is %+v, %v", mixed, err)
	}
}

// TestStartingAgainIsExplained gives the reason why a service is between two starts as that of its
// silence.
func TestStartingAgainIsExplained(t *testing.T) {
	t.Parallel()
	refuses := stack.PortCheck{Verdict: stack.Refuses}
	why := "ended with code 3; it starts again in 0.5 s, for the 1st time"
	r := &record.Record{Services: []record.Service{{Name: "api", Runs: stack.Native,
		State: stack.Starting, Doing: stack.StartsAgain, Text: why}}}
	about := func() stack.PortCheck {
		j := &judgement{Judging: Judging{Record: r}, alive: true}
		at := &target{service: &stack.Service{Name: "api"}, port: stack.Port{Host: 1, Target: 1}}
		return j.about(t.Context(), at, refuses).Explain()
	}
	if c := about(); c.Cause != why || !strings.Contains(c.Remedy, "nharbor logs api") {
		t.Errorf("it is explained by %q: %s", c.Cause, c.Remedy)
	}
	r.Services[0].State, r.Services[0].Text = stack.Stopped, ""
	if c := about(); c.Remedy != "Start it again: nharbor restart api" {
		t.Errorf("a stopped service: %s", c.Remedy)
	}
}
