package view

import (
	"strings"

	"nimbleharbor/internal/stack"
)

// Changed shows what has changed since the launch, and what makes the stack follow.
func (t *Text) Changed(c *stack.Changed) {
	t.Title("Changed since the launch")
	if len(c.Files) > 0 {
		t.Line("  files: %s", strings.Join(c.Files, ", "))
	}
	if len(c.Commits) > 0 {
		t.Line("  new commits in: %s", strings.Join(c.Commits, ", "))
	}
	if len(c.Services) > 0 {
		t.Line("  still running with the old settings: %s", strings.Join(c.Services, ", "))
	}
	if len(c.Steps) > 0 {
		t.Line("  to be done again: %s", strings.Join(c.Steps, ", "))
	}
	if c.Remedy != "" {
		t.Line("  Make it follow: %s", c.Remedy)
	} else {
		t.Line("  Nothing that runs is concerned.")
	}
}
