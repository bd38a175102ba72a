// Package testrun reads what test runners say of how their tests have gone. Its rules are data: an
// expression for the
// line in which a runner sums up, with named groups.
package testrun

import (
	"strconv"

	"nimbleharbor/internal/expr"
)

// Counts are those of one run. Known is false while no line has told any.
type Counts struct {
	Known   bool   `json:"known"`
	Passed  int    `json:"passed"`
	Failed  int    `json:"failed"`
	Skipped int    `json:"skipped"`
	Of      string `json:"of"` // what is counted: "tests", or "packages" where a runner tells no more
}

// summary is how a runner sums up. Groups: passed, failed, errors (which are failures too),
// skipped, and total, from which what passed is the rest.
type summary struct {
	runner string
	line   *expr.Expr
	of     string
}

// summaries are the lines of runners. Where several lines of one run fit, they add up: runners sum
// up for each part.
var summaries = []summary{
	{"jest and pest", expr.New(`^\s*Tests:\s+(?:(?P<failed>\d+) failed, )?(?:(?P<skipped>\d+) (?:skipped|todo|` +
		`incomplete), )*` +
		`(?:(?P<passed>\d+) passed)?(?:,? (?P<total>\d+) total| \(\d+ assertions\))`), ""},
	{"vitest", expr.New(`^\s*Tests\s+(?:(?P<failed>\d+) failed(?: \| )?)?(?:(?P<passed>\d+) passed)?(?: \|` +
		` (?P<skipped>\d+) skipped)?` + `.*\(\d+\)\s*$`), ""},
	{"mocha, passing", expr.New(`^\s*(?P<passed>\d+) passing\b`), ""},
	{"mocha, failing", expr.New(`^\s*(?P<failed>\d+) failing\b`), ""},
	{"mocha, pending", expr.New(`^\s*(?P<skipped>\d+) pending\b`), ""},
	{"node and tap, passed", expr.New(`^(?:#|ℹ) pass\s+(?P<passed>\d+)\s*$`), ""},
	{"node and tap, failed", expr.New(`^(?:#|ℹ) fail\s+(?P<failed>\d+)\s*$`), ""},
	{"node and tap, skipped", expr.New(`^(?:#|ℹ) skipped\s+(?P<skipped>\d+)\s*$`), ""},
	{"playwright, passed", expr.New(`^\s*(?P<passed>\d+) passed \([\d.]+m?s\)`), ""},
	{"playwright, failed", expr.New(`^\s*(?P<failed>\d+) failed\s*$`), ""},
	{
		"pytest",
		expr.New(
			`^=*\s*(?:(?P<failed>\d+) failed)?(?:, )?(?:(?P<passed>\d+) passed)?(?:, )?(?:(?P<skipped>\d+) skipped)?` +
				`(?:, \d+ (?:deselected|xfailed|xpassed|warnings?))*(?:, (?P<errors>\d+) errors?)? in [\d.]+s`,
		),
		"",
	},
	{"unittest, all", expr.New(`^Ran (?P<passed>\d+) tests? in [\d.]+s`), ""},
	{"unittest, failed", expr.New(`^FAILED \((?:failures=(?P<failed>\d+))?(?:, )?(?:errors=(?P<errors>\d+))?(?:, )?` +
		`(?:skipped=(?P<skipped>\d+))?`), ""},
	{"rspec", expr.New(`^(?P<total>\d+) examples?, (?P<failed>\d+) failures?(?:, (?P<skipped>\d+) pending)?`), ""},
	{"minitest", expr.New(`^(?P<total>\d+) runs, \d+ assertions, (?P<failed>\d+) failures, (?P<errors>\d+) errors, ` +
		`(?P<skipped>\d+) skips`), ""},
	{"phpunit, well", expr.New(`^OK \((?P<passed>\d+) tests?, `), ""},
	{"phpunit", expr.New(`^Tests: (?P<total>\d+), Assertions: \d+(?:, Errors: (?P<errors>\d+))?` +
		`(?:, Failures: (?P<failed>\d+))?(?:, \w+: \d+)*?(?:, Skipped: (?P<skipped>\d+))?`), ""},
	{"maven", expr.New(`Tests run: (?P<total>\d+), Failures: (?P<failed>\d+), Errors: (?P<errors>\d+), ` +
		`Skipped: (?P<skipped>\d+)\s*$`), ""},
	{"gradle", expr.New(`^(?P<total>\d+) tests completed, (?P<failed>\d+) failed(?:, (?P<skipped>\d+) skipped)?`), ""},
	{
		"cargo",
		expr.New(`^test result: \w+\. (?P<passed>\d+) passed; (?P<failed>\d+) failed; (?P<skipped>\d+) ignored`),
		"",
	},
	{"dotnet", expr.New(`!\s+- Failed:\s+(?P<failed>\d+), Passed:\s+(?P<passed>\d+), Skipped:\s+(?P<skipped>\d+)`), ""},
	{"mix", expr.New(`^(?:\d+ doctests?, )?(?P<total>\d+) tests?, (?P<failed>\d+) failures?(?:, (?P<skipped>\d+) ` +
		`(?:skipped|excluded))?`), ""},
	{"go, well", expr.New(`^(?P<passed>ok) {2,}\t?\S+|^(?P<passed2>ok)\s+\S+\s+(?:[\d.]+s|\(cached\))`), "packages"},
	{"go, failed", expr.New(`^(?P<failed>FAIL)\s+\S+\s+(?:[\d.]+s|\[)`), "packages"},
}

var colour = expr.New(`\x1b\[[0-9;]*m`)

// Line takes a line of what a runner says into account.
func (c *Counts) Line(text string) {
	text = colour.ReplaceAllString(text, "")
	for i := range summaries {
		s := &summaries[i]
		m := s.line.FindStringSubmatch(text)
		if m == nil {
			continue
		}
		got, any := map[string]int{}, false
		for k, name := range s.line.Ready().SubexpNames() {
			if name == "" || m[k] == "" {
				continue
			}
			n, err := strconv.Atoi(m[k])
			if err != nil { // a word that stands for one
				n = 1
			}
			got[name], any = got[name]+n, true
		}
		if !any {
			continue
		}
		passed, failed, skipped := got["passed"]+got["passed2"], got["failed"]+got["errors"], got["skipped"]
		if total, ok := got["total"]; ok && passed == 0 {
			passed = total - failed - skipped
		}
		if s.runner == "unittest, failed" { // those that ran were counted before
			passed = -failed - skipped
		}
		c.Known, c.Of = true, "tests"
		if s.of != "" {
			c.Of = s.of
		}
		c.Passed, c.Failed, c.Skipped = max(0, c.Passed+passed), c.Failed+failed, c.Skipped+skipped
		return
	}
}
