package view

import (
	"fmt"

	"nimbleharbor/internal/testrun"
)

// TestRow is how one project's own tests have gone.
type TestRow struct {
	Project       string
	Passes        bool
	Exit          string
	Seconds       float64
	Counts        testrun.Counts
	Cause, Remedy string
}

// Tests shows how projects' own tests have gone, with the counts of each runner.
func (t *Text) Tests(rows []TestRow) {
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
			counts = fmt.Sprintf("%s passed, %d failed", Count(c.Passed, c.Of[:len(c.Of)-1], c.Of), c.Failed)
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
