package testrun

import (
	"fmt"
	"strings"
	"testing"
)

// TestCounts reads what runners say at the end, and takes nothing else for it.
func TestCounts(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ said, want string }{
		"jest": {"Test Suites: 1 failed, 2 passed, 3 total\n" +
			"Tests:       1 failed, 2 skipped, 9 passed, 12 total", "9 1 2 tests"},
		"jest, well": {"Tests:       9 passed, 9 total\nSnapshots:   0 total", "9 0 0 tests"},
		"vitest": {" Test Files  1 failed | 2 passed (3)\n" +
			"      Tests  1 failed | 9 passed | 2 skipped (12)", "9 1 2 tests"},
		"mocha": {"  9 passing (40ms)\n  1 pending\n  2 failing\n", "9 2 1 tests"},
		"node":  {"ℹ tests 4\nℹ pass 3\nℹ fail 1\nℹ skipped 0", "3 1 0 tests"},
		"pytest": {"tests/test_fares.py ..F\n" +
			"===== 1 failed, 2 passed, 1 skipped, 3 warnings in 0.12s =====", "2 1 1 tests"},
		"pytest, quiet": {"14 passed in 0.50s", "14 0 0 tests"},
		"unittest": {"Ran 12 tests in 0.1s\n\nFAILED (failures=1, errors=2, skipped=1)",
			"8 3 1 tests"},
		"unittest, ok":  {"Ran 12 tests in 0.1s\n\nOK", "12 0 0 tests"},
		"rspec":         {"24 examples, 2 failures, 1 pending", "21 2 1 tests"},
		"rails":         {"10 runs, 14 assertions, 1 failures, 1 errors, 2 skips", "6 2 2 tests"},
		"phpunit":       {"Tests: 10, Assertions: 20, Errors: 1, Failures: 2.", "7 3 0 tests"},
		"phpunit, well": {"OK (10 tests, 20 assertions)", "10 0 0 tests"},
		"maven": {"[INFO] Tests run: 4, Failures: 0, Errors: 0, Skipped: 0, Time elapsed: 0.1 s\n" +
			"[INFO] Tests run: 9, Failures: 1, Errors: 1, Skipped: 2", "5 2 2 tests"},
		"gradle": {"9 tests completed, 1 failed, 2 skipped", "6 1 2 tests"},
		"cargo": {"test result: ok. 3 passed; 0 failed; 1 ignored; 0 measured\n" +
			"test result: FAILED. 1 passed; 2 failed; 0 ignored", "4 2 1 tests"},
		"dotnet": {"Passed!  - Failed:     0, Passed:     7, Skipped:     1, Total:     8",
			"7 0 1 tests"},
		"mix": {"12 tests, 1 failure, 1 excluded", "10 1 1 tests"},
		"go": {"ok  \tsaltmarsh/fares\t0.012s\nFAIL\tsaltmarsh/tides\t0.1s\n" +
			"?   \tsaltmarsh\t[no test files]\nFAIL", "1 1 0 packages"},
		"nobody": {"everything is ok and 3 boats passed the pier", ""},
	} {
		var got Counts
		for line := range strings.SplitSeq(c.said, "\n") {
			got.Line(line)
		}
		said := ""
		if got.Known {
			said = fmt.Sprintf("%d %d %d %s", got.Passed, got.Failed, got.Skipped, got.Of)
		}
		if said != c.want {
			t.Errorf("%s: got %q, want %q", name, said, c.want)
		}
	}
}
