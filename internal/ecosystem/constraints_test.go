package ecosystem

import "testing"

// TestConstraints holds how each tool's own way to ask for a version is written as a range.
func TestConstraints(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ got, want string }{
		{pessimistic("~> 3.1"), "^3.1"}, {pessimistic("~> 3.1.2"), "~3.1.2"}, {pessimistic("~> 3"),
			">=3"},
		{pessimistic(">= 2.5.0"), ">= 2.5.0"}, {pessimistic("~> 1.15 or ~> 2.0.1"),
			"^1.15 or ~2.0.1"},
		{composerConstraint("^7.4|^8.0"), "^7.4 || ^8.0"}, {composerConstraint("~8.1"), "^8.1"},
		{composerConstraint("~8.1.2 || ~8.3"),
			"~8.1.2 || ^8.3"}, {composerConstraint(">=8.1 <8.4"), ">=8.1 <8.4"},
		{rollsForward("8.0.104", ""), ">=8.0.104, <8.0.200"}, {rollsForward("8.0.104", "disable"),
			"=8.0.104"},
		{rollsForward("8.0.104", "latestFeature"),
			"~8.0.104"}, {rollsForward("8.0.104", "latestMinor"), "^8.0.104"},
		{rollsForward("8.0.104", "latestMajor"), ">=8.0.104"}, {rollsForward("9", ""), "~9"},
	} {
		if c.got != c.want {
			t.Errorf("%q, want %q", c.got, c.want)
		}
	}
}
