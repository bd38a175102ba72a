package diagnose

import (
	"testing"
)

// TestEveryLogRuleIsFoundByItsWords holds that no rule has to be asked of every line.
func TestEveryLogRuleIsFoundByItsWords(t *testing.T) {
	t.Parallel()
	for _, r := range Logs {
		if w := wordsOf(r.line.String()); length(w) < shortest {
			t.Errorf("%s is found by %q", r.Code, w)
		}
	}
	if w := wordsOf(cameUp.String()); length(w) < shortest {
		t.Errorf("what came up is found by %q", w)
	}
}
