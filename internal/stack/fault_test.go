package stack

import (
	"encoding/json"
	"errors"
	"fmt"
	"testing"
)

func TestFault(t *testing.T) {
	t.Parallel()
	cause := errors.New("the cause")
	for _, c := range []struct {
		fault Fault
		want  string
	}{
		{Fault{Text: "it broke"}, "it broke"},
		{Fault{Text: "it broke", At: Place{File: "a.yaml"}}, "a.yaml: it broke"},
		{Fault{Text: "it broke", At: Place{File: "a.yaml", Line: 3}}, "a.yaml:3: it broke"},
		{Fault{Text: "it broke", At: Place{File: "a.yaml", Line: 3}, Column: 7, Cause: cause},
			"a.yaml:3:7: it broke"},
	} {
		if got := c.fault.Error(); got != c.want ||
			errors.Is(&c.fault, cause) != (c.fault.Cause != nil) {
			t.Errorf("it says %q, want %q", got, c.want)
		}
	}
	one, two := &Fault{Text: "one"}, &Fault{Text: "two"}
	for name, c := range map[string]struct {
		err  error
		want string
	}{
		"one": {one, "one"}, "wrapped": {fmt.Errorf("while: %w", one), "one"},
		"several": {Faults{one, two}, "one\ntwo"}, "another": {cause, "the cause"},
	} {
		if all := AllFaults(c.err); all.Error() != c.want {
			t.Errorf("%s: %q, want %q", name, all.Error(), c.want)
		}
	}
	// The steward sends faults to the command.
	data, err := json.Marshal(&Fault{Kind: NotSo, Code: "x", Text: "t", Cause: cause})
	var back Fault
	if err == nil {
		err = json.Unmarshal(data, &back)
	}
	if err != nil || back.Kind != NotSo || back.Text != "t" {
		t.Errorf("it comes back as %+v, %v", back, err)
	}
}

func TestStates(t *testing.T) {
	t.Parallel()
	for s, want := range map[State][2]bool{ // settled, good
		Waiting: {false, false}, Starting: {false, false}, IsUp: {true, true}, Running: {true,
			true},
		Quiet: {true, false}, Ended: {true, true},
		Failed: {true, false}, Stopped: {true, false}, Skipped: {true, false}, Done: {true, true},
		Unchanged: {true, true},
	} {
		if s.Settled() != want[0] || s.Good() != want[1] {
			t.Errorf("%s: settled %v, good %v", s, s.Settled(), s.Good())
		}
	}
	if Begun.Strength() >= Answering.Strength() || Answering.Strength() >= Finished.Strength() ||
		Until("x").Strength() != 0 {
		t.Error("the order of until is wrong")
	}
}

func TestLookUp(t *testing.T) {
	t.Parallel()
	s := &Stack{Services: []Service{{Name: "a"}, {Name: "b"}},
		Projects: []Project{{Path: "x", Manager: "npm"}, {Path: "x", Manager: "pip"}}}
	s.Service("b").Image = "changed"
	if s.Services[1].Image != "changed" || s.Service("c") != nil {
		t.Error("Service does not give the service itself")
	}
	if s.Project("x", "pip") != &s.Projects[1] || s.Project("x", "") != &s.Projects[0] ||
		s.Project("y", "") != nil {
		t.Error("Project gives the wrong one")
	}
}
