package view

import (
	"fmt"
	"strings"

	"nimbleharbor/internal/stack"
)

// Check shows the verdict on every port, and what is wrong beyond ports.
func (t *Text) Check(c stack.Check) {
	var rows [][]string
	for _, p := range c.Ports {
		rows = append(rows, []string{p.Service, AddressOf(p), string(p.Verdict), said(p)})
	}
	t.table(0, rows)
	shown := map[string]bool{}
	for _, p := range c.Ports {
		switch {
		case p.Verdict != stack.Answers:
			shown[p.Service] = true
			t.Blank()
			t.Line("%s %s %s: %s", p.Service, AddressOf(p), p.Verdict, p.Cause)
			if p.Remedy != "" {
				t.Line("  %s", p.Remedy)
			}
		case p.Cause != "":
			t.Line("  %s: %s", AddressOf(p), p.Cause)
		case p.Announced:
			t.Line("  %s: announced in the log of %s, and declared nowhere", AddressOf(p),
				p.Service)
		}
	}
	t.otherwise(c, shown)
	t.ownChecks(c.Checks)
	t.signedIn(c)
}

// otherwise shows the services that are not as they should be and have no port that says so, and
// what was left out.
func (t *Text) otherwise(c stack.Check, shown map[string]bool) {
	var left []string
	for _, s := range c.Services {
		switch {
		case s.LeftOut:
			left = append(left, s.Name)
		case !s.Good && !shown[s.Name] && (c.Launched || s.State != ""):
			t.Blank()
			t.Line("%s: %s", s.Name, s.Cause)
			if s.Remedy != "" {
				t.Line("  %s", s.Remedy)
			}
		}
	}
	for _, f := range c.Failures {
		if _, isStep := f.ID.Step(); isStep && f.State != stack.Skipped {
			t.Blank()
			t.failure(f)
		}
	}
	if len(left) > 0 {
		t.Blank()
		t.Line("Left out of this launch: %s", strings.Join(left, ", "))
	}
}

func (t *Text) ownChecks(checks []stack.OwnResult) {
	if len(checks) == 0 {
		return
	}
	t.Blank()
	var rows [][]string
	for _, c := range checks {
		passes := "passes"
		if !c.Passes {
			passes = "fails"
		}
		took := ""
		if c.LatencyMs > 0 {
			took = fmt.Sprintf("%.0f ms", c.LatencyMs)
		}
		rows = append(rows, []string{c.Name, c.Address, passes,
			strings.TrimSpace(took + "  " + c.Cause)})
	}
	t.table(0, rows)
}

// Failures shows what did not come to its aim, each with its cause and remedy.
func (t *Text) Failures(failures []stack.Failure) {
	for _, f := range failures {
		t.failure(f)
	}
}

func (t *Text) failure(f stack.Failure) {
	text := f.Text
	if f.State == stack.Skipped {
		text = "skipped, since " + text
	}
	if f.ID != "" {
		text = f.ID.Title() + ": " + text
	}
	t.Line("  %s", text)
	if f.Remedy != "" {
		t.Line("    %s", f.Remedy)
	}
}

func plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// Conclusion says in one line how a stack stands.
func (t *Text) Conclusion(c stack.Check) {
	counts := fmt.Sprintf("%s expected, %d running, %d answering",
		Count(c.Counts.Expected, "service", "services"), c.Counts.Running, c.Counts.Answering)
	asked := 0
	for _, s := range c.Services {
		asked += s.Asked
	}
	switch {
	case len(c.Services) == 0:
		t.Line("There is nothing here that could be asked.")
	case !c.Launched && len(c.Failures) > 0:
		t.Line("The stack is not launched; the last launch failed as told above. Launch it: " +
			"nharbor launch")
	case !c.Launched:
		t.Line("The stack is not launched. Launch it: nharbor launch")
	case !c.Answers:
		t.Line("Not everything is as it should be: %s.", counts)
	case asked == 0:
		t.Line("Everything runs, and nothing of it has a port to be asked: %s.", counts)
	default:
		switch {
		case c.Counts.Answering < c.Counts.Expected:
			t.Line("Every port answers: %d services run, and %d of them %s a port.",
				c.Counts.Running, c.Counts.Answering, plural(c.Counts.Answering, "has", "have"))
		case c.Counts.Expected == 1:
			t.Line("Every port answers: the one service runs.")
		default:
			t.Line("Every port answers: all %d services run.", c.Counts.Expected)
		}
	}
	if c.Open != "" && c.Launched {
		t.Line("Open %s", c.Open)
	}
}

// maxSignIns is how many sign-ins are shown where something else is the matter.
const maxSignIns = 5

// signedIn shows where else to look, and what to sign in with: what was printed first.
func (t *Text) signedIn(c stack.Check) {
	if len(c.Pages)+len(c.SignIns) > 0 {
		t.Blank()
	}
	for _, p := range c.Pages {
		said := ""
		if p.Status > 0 {
			said = fmt.Sprintf(": %d", p.Status)
			if p.Title != "" {
				said += "  “" + p.Title + "”"
			}
		}
		at := Where(p.At)
		if at != "" {
			at = " (" + at + ")"
		}
		t.Line("%s has %s%s%s", p.Service, p.Address, at, said)
	}
	for i, s := range c.SignIns {
		if i == maxSignIns {
			t.Line("%d more to sign in with: nharbor survey", len(c.SignIns)-i)
			break
		}
		who, from := s.User, "named in "+Where(s.At)
		if s.Service != "" {
			from = "printed by " + s.Service
		}
		if who == "" {
			who = "whom the log tells"
		}
		if s.Password != "" {
			who += " with the password " + Clean(s.Password)
		}
		t.Line("Sign in as %s, %s", who, from)
	}
}

// AddressOf is a port as one writes it into a browser's or a client's address line.
func AddressOf(p stack.PortCheck) string { return p.URL() }

// Launched shows how a launch has gone. Running is how many services run.
func (t *Text) Launched(r stack.LaunchResult, running int, background bool) {
	t.Blank()
	if r.Outcome == stack.AllAnswer {
		t.Line("Everything is up after %.1f s.", r.Seconds)
	} else {
		t.Line("Not everything is up after %.1f s:", r.Seconds)
		t.Failures(r.Failures)
		if len(r.Failures) == 0 {
			t.Line("  everything was started, and not all of it answers as it should")
		} else {
			t.Line("  See what they said: nharbor logs. To look for more causes: nharbor diagnose")
		}
		r.Check.Failures = nil
	}
	t.Blank()
	t.Check(r.Check)
	t.Blank()
	t.Conclusion(r.Check)
	switch {
	case running == 0:
		t.Line("Nothing runs now.")
	case background:
		t.Line("It runs in the background. Look again: nharbor check, or live: nharbor board. " +
			"Stop it: nharbor stop")
	default:
		t.Line("Ctrl-C stops everything.")
	}
}

func said(p stack.PortCheck) string {
	var parts []string
	switch {
	case p.Speaks == "":
	case p.Status > 0:
		parts = append(parts, fmt.Sprintf("%s %d", p.Speaks, p.Status))
	default:
		parts = append(parts, p.Speaks)
	}
	if p.Title != "" {
		parts = append(parts, "“"+p.Title+"”")
	}
	if p.LatencyMs > 0 && p.Verdict != stack.Refuses {
		took := fmt.Sprintf("%.0f ms", p.LatencyMs)
		if p.FirstMs > 0 {
			took += fmt.Sprintf(" (the first page %.1f s, while it warmed up)", p.FirstMs/1000)
		}
		parts = append(parts, took)
	}
	if p.Owner != nil {
		parts = append(parts, fmt.Sprintf("%s, process %d", p.Owner.Command, p.Owner.PID))
	}
	return strings.Join(parts, "  ")
}
