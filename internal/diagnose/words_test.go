package diagnose

import (
	"testing"
)

// TestEveryLogRuleIsFoundByItsWords holds that no rule has to be asked of every line.
func TestEveryLogRuleIsFoundByItsWords(t *testing.T) {
	t.Parallel()
	for _, r := range Logs() {
		for _, e := range r.lines {
			if w := wordsOf(e.String()); length(w) < shortest {
				t.Errorf("a line of %s is found by %q", r.Code, w)
			}
			e.Ready() // panics at what is no expression
		}
	}
	if w := wordsOf(cameUp.String()); length(w) < shortest {
		t.Errorf("what came up is found by %q", w)
	}
}
