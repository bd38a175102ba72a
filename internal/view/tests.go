package view

import (
	"fmt"

	"nimbleharbor/internal/testrun"
)

// TestAnswer is the answer of the command test: contract nharbor.test/1.
type TestAnswer struct {
	Schema string       `json:"schema"`
	Passes bool         `json:"passes"`
	Tests  []TestResult `json:"tests"`
}

// TestResult is how one project's own tests have gone.
type TestResult struct {
	Project string         `json:"project"`
	Command []string       `json:"command"`
	Passes  bool           `json:"passes"`
	Exit    string         `json:"exit"`
	Seconds float64        `json:"seconds"`
	Counts  testrun.Counts `json:"counts"`
	Cause   string         `json:"cause,omitempty"`
	Remedy  string         `json:"remedy,omitempty"`
}

// Tests shows how projects' own tests have gone, with the counts of each runner.
func (t *Text) Tests(rows []TestResult) {
	t.Blank()
	var table [][]string
	all := true
	for _, r := range rows {
		said, counts := "passes", "its runner counts none"
		if !r.Passes {
			said = "fails"
			all = false
		}
		if c := r.Counts; c.Known {
			counts = fmt.Sprintf("%s passed, %d failed", Count(c.Passed, c.Of[:len(c.Of)-1], c.Of),
				c.Failed)
			if c.Skipped > 0 {
				counts += fmt.Sprintf(", %d skipped", c.Skipped)
			}
		} else if !r.Passes {
			counts = r.Exit
		}
		if r.Project == "." {
			r.Project = "this folder"
		}
		table = append(table, []string{r.Project, said, counts, fmt.Sprintf("%.1f s", r.Seconds)})
	}
	t.table(0, table)
	for _, r := range rows {
		if r.Cause != "" {
			t.Blank()
			t.Line("%s: %s", r.Project, r.Cause)
			t.Line("  %s", r.Remedy)
		}
	}
	if len(rows) > 0 {
		t.Blank()
		if all {
			t.Line("The projects' own tests pass.")
		} else {
			t.Line("Not all of the projects' own tests pass.")
		}
	}
}
