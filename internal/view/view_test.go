package view

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/mattn/go-runewidth"

	"nimbleharbor/internal/fill"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/survey"
)

func TestJSONHasNoNullLists(t *testing.T) {
	t.Parallel()
	var out bytes.Buffer
	s := &stack.Stack{Services: []stack.Service{{Name: "a"}}, Projects: []stack.Project{{}}}
	if err := JSON(&out, s); err != nil {
		t.Fatal(err)
	}
	if strings.Contains(out.String(), ": null") || !strings.Contains(out.String(), `"after": []`) ||
		!strings.Contains(out.String(), `"env": {}`) {
		t.Errorf("it gives %s", out.String())
	}
	if s.Services[0].After != nil {
		t.Error("the value itself was changed")
	}
	out.Reset()
	if err := JSONLine(&out, struct {
		A *int            `json:"a"`
		B json.RawMessage `json:"b"`
		C any             `json:"c"`
	}{B: json.RawMessage(`{"x":1}`), C: map[string][]string{"k": nil}}); err != nil ||
		out.String() != `{"a":null,"b":{"x":1},"c":{"k":[]}}`+"\n" {
		t.Errorf("it gives %s, %v", out.String(), err)
	}
}

// screen renders into a text of some width.
func screen(width int, f func(*Text)) string {
	var out bytes.Buffer
	f(&Text{Out: &out, Width: width})
	return out.String()
}

func TestLine(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		width      int
		text, want string
	}{
		{40, "short", "short\n"},
		{20, "  words that go on and on", "  words that go on\n    and on\n"},
		{30, "Stop it with nharbor stop the-service", "Stop it with\n  nharbor stop the-service\n"},
		{20, "a-word-that-is-wider-than-the-screen x",
			"a-word-that-is-wider-than-the-screen\n  x\n"},
		{40, "esc\x1b[31m red\a and 漢字", "esc·[31m red· and 漢字\n"},
	} {
		if got := screen(c.width, func(t *Text) { t.Line("%s", c.text) }); got != c.want {
			t.Errorf("%q in %d columns gives\n%q, want\n%q", c.text, c.width, got, c.want)
		}
	}
}

func TestTable(t *testing.T) {
	t.Parallel()
	rows := [][]string{{"web", "answers", "the front end of the whole thing"},
		{"Ölmühle", "refuses", ""}, {"漢字", "silent", "x"}}
	wide := "web      answers  the front end of the whole thing\nÖlmühle  refuses\n漢字     " +
		"silent   x\n"
	if got := screen(80, func(t *Text) { t.table(0, rows) }); got != wide {
		t.Errorf("wide:\n%s", got)
	}
	narrow := "web      answers  the front end of the\n                  whole thing\nÖlmühle  " +
		"refuses\n漢字     silent   x\n"
	if got := screen(42, func(t *Text) { t.table(0, rows) }); got != narrow {
		t.Errorf("narrow:\n%s", got)
	}
	for _, line := range strings.Split(screen(30, func(t *Text) { t.table(0, rows) }), "\n") {
		if Width(line) > 30 {
			t.Errorf("in 30 columns this line is wider: %q", line)
		}
	}
}

func TestColourOnlyRepeatsWords(t *testing.T) {
	t.Parallel()
	var plain, coloured bytes.Buffer
	rows := [][]string{{"web", "answers", "refuses"}, {"db", "failed", "waiting"}}
	(&Text{Out: &plain, Width: 80}).table(0, rows)
	(&Text{Out: &coloured, Width: 80, Colour: true}).table(0, rows)
	stripped := coloured.String()
	for _, code := range []string{"\x1b[31m", "\x1b[32m", "\x1b[33m", "\x1b[0m"} {
		stripped = strings.ReplaceAll(stripped, code, "")
	}
	if stripped != plain.String() || coloured.String() == plain.String() {
		t.Errorf("plain\n%s\ncoloured\n%q", plain.String(), coloured.String())
	}
}

func TestFaults(t *testing.T) {
	t.Parallel()
	got := screen(80, func(t *Text) {
		t.Faults(stack.Faults{{Text: "it broke", At: stack.Place{File: "a/b.yaml", Line: 3},
			Column: 7, Line: "  key: \x1b]0;x", Remedy: "Mend it."}, {Text: "so did this"}})
	})
	want := "error: it broke\nwhere: a/b.yaml:3:7\n       key: ·]0;x\nnext:  Mend it.\n\nerror: " +
		"so did this\n"
	if got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}

func TestEvent(t *testing.T) {
	t.Parallel()
	got := screen(60, func(t *Text) {
		t.Event(stack.Event{T: 12.44, ID: "service:api", State: stack.IsUp, Text: "http on 8081"},
			6)
		t.Event(stack.Event{T: 3, ID: "step:install:web", State: stack.Running}, 6)
		t.Event(stack.Event{T: 3, ID: "service:db", State: stack.Failed,
			Text: "ended with code 1; it last said: no space left on device"}, 6)
	})
	want := "   12.4s  api     answering  http on 8081\n    3.0s  install web  running\n    " +
		"3.0s  db      failed     ended with code 1; it last\n" + strings.Repeat(" ", 29) +
		"said: no space left on device\n"
	if got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}

// planOf fills a workspace of two files.
func planOf(t *testing.T) *fill.Plan {
	t.Helper()
	fsys := fstest.MapFS{"compose.yaml": {Data: []byte(
		"services:\n  web: {image: x, env_file: .env}\n  db: {image: 'postgres:16', " +
			"environment: {POSTGRES_PASSWORD: '${DB_PASSWORD}'}}\n")},
		".env.example": {Data: []byte(
			"NAME=a-name-that-is-rather-long-and-does-not-fit-into-the-column-that-it-has\n" +
				"DB_PASSWORD=\nURL=postgres://postgres:x@db/x\n# Get one at " +
				"https://tides.example\nTIDE_TOKEN=\n")},
		"config.php.example": {Data: []byte("<?php return ['password' => 'change-me'];")},
		"notes/.env.example": {Data: []byte("A=1\n")},
		"notes/.env":         {Data: []byte("A=1\nA=2\nMY_SECRET=hidden-canary\n")},
		"notes/package.json": {Data: []byte("{}")}, "notes/unrelated.json5": {Data: []byte("")}}
	s, err := survey.Survey(fsys, survey.Options{Root: "/w"})
	if err != nil {
		t.Fatal(err)
	}
	p, err := fill.Make(fsys, s, fill.Options{Random: rand.Reader, Git: func(file string) string {
		return map[string]string{".env": fill.Untracked, "notes/.env": fill.Tracked,
			"config.php": fill.Untracked}[file]
	}})
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func TestFill(t *testing.T) {
	t.Parallel()
	p := planOf(t)
	for _, width := range []int{60, 100} {
		got := screen(width, func(t *Text) { t.Fill(p, true, false); t.Loud(p); t.Missing(p) })
		for _, want := range []string{".env from .env.example, not written: this is a dry run",
			"NAME", "…",
			"generated  (hidden)", "takes its password from DB_PASSWORD", "TIDE_TOKEN", "One " +
				"value, several places", "warning: stands on the lines 1, 2",
			"git does not ignore .env", "git -C notes rm --cached .env", "1 setting is still " +
				"missing", "used by web", "copied as it is"} {
			if !strings.Contains(strings.Join(strings.Fields(got), " "),
				strings.Join(strings.Fields(want), " ")) {
				t.Errorf("in %d columns it lacks %q:\n%s", width, want, got)
			}
		}
		if strings.Contains(got, "canary") || strings.Contains(got, "ignore config.php") {
			t.Errorf("it shows too much:\n%s", got)
		}
		for line := range strings.Lines(got) {
			if runewidth.StringWidth(strings.TrimRight(line, "\n")) > width {
				t.Errorf("a line is wider than %d columns: %q", width, line)
			}
		}
	}
	if got := screen(100, func(t *Text) { t.Fill(p, true, true) }); !strings.Contains(got,
		"hidden-canary") {
		t.Errorf("with reveal it shows\n%s", got)
	}
	if got := screen(100, func(t *Text) {
		t.Fill(&fill.Plan{}, true, false)
	}); !strings.Contains(got,
		"No settings file is known") {
		t.Errorf("without any file it shows %q", got)
	}
}

func TestDescribe(t *testing.T) {
	t.Parallel()
	q := fill.Question{File: ".env", Key: "TIDE_TOKEN", Hint: "From https://tides.example",
		URL: "https://tides.example", Why: "index.js:3 fails without it", Secret: true,
		Services: []string{"api", "web"}}
	if got := title(1, 3, q); got != "TIDE_TOKEN in .env, used by api, web (2 of 3)" {
		t.Errorf("the title is %q", got)
	}
	if got := describe(q, 1,
		false); got != "From https://tides.example\nWhy: index.js:3 fails without it\n\nWhat "+
		"you type is masked. "+
		"Enter takes it, or skips it if empty; shift+tab goes back; ctrl+c leaves, and nothing "+
		"is written." {
		t.Errorf("it is described as %q", got)
	}
	if got := describe(fill.Question{URL: "https://tides.example"}, 0,
		false); got != "Where: https://tides.example\n\nEnter takes it, or skips it if empty; "+
		"ctrl+c leaves, and nothing is written." {
		t.Errorf("one without a comment is described as %q", got)
	}
	if got := describe(fill.Question{Hint: "x"}, 0, true); got != "x" {
		t.Errorf("a plain one is described as %q", got)
	}
}

// TestNarrowScreens holds what is shown to 60 columns: no line is longer, and no word is cut.
func TestNarrowScreens(t *testing.T) {
	t.Parallel()
	long := "saltmarsh/a-database-with-a-rather-long-name:1"
	s := &stack.Stack{Root: "/w", Services: []stack.Service{
		{Name: "timetable", Runs: stack.Container, Kind: stack.Once, Image: long,
			At: stack.Place{File: "ferry-office/compose.yaml", Line: 24}},
		{Name: "counter", Runs: stack.Native, Kind: stack.Lasting,
			Command: []string{"npm", "run", "start"}, Ports: []stack.Port{{Host: 18080,
				Target: 8080}}, At: stack.Place{File: "ferry-counter/package.json", Line: 10},
			After: []stack.After{{Service: "timetable",
				Reason: "ferry-counter/.env:4 points at it (OFFICE_URL)"}}},
	}}
	var out strings.Builder
	narrow := &Text{Out: &out, Width: 60, Screen: true}
	narrow.Survey(s, false)
	narrow.Launched(stack.LaunchResult{Outcome: stack.SomeFailed,
		Failures: []stack.Failure{{ID: "service:timetable", State: stack.Failed,
			Text: "ended with code 3; it last said: no departures today"}},
		Check: stack.Check{Ports: []stack.PortCheck{{Service: "counter",
			Address: "127.0.0.1:18080", Expected: "http", Verdict: stack.Refuses,
			Cause:  "the process runs, but does not listen",
			Remedy: "See what it says: nharbor logs counter"}}}}, 0, true)
	narrow.LogLine(1.5, "step.install.ferry-counter", strings.Repeat("a line that goes on ", 9), 26)
	for line := range strings.Lines(out.String()) {
		if len(strings.TrimRight(line, "\n")) > 60 {
			t.Errorf("a line has %d columns: %s", len(line)-1, line)
		}
	}
	for _, word := range []string{long, "ferry-counter/package.json:10", "(OFFICE_URL)",
		"Nothing runs now."} {
		if !strings.Contains(out.String(), word) {
			t.Errorf("%q was cut in\n%s", word, out.String())
		}
	}
}

func TestChangedIsShown(t *testing.T) {
	t.Parallel()
	for want, c := range map[string]stack.Changed{
		"files: .env\n":                   {Files: []string{".env"}},
		"Nothing that runs is concerned.": {Files: []string{".env"}},
		"new commits in: ferry-office\n":  {Commits: []string{"ferry-office"}},
		"still running with the old settings: a, b\n": {Services: []string{"a", "b"},
			Remedy: "nharbor restart a b"},
		"Make it follow: nharbor restart a b": {Services: []string{"a", "b"},
			Remedy: "nharbor restart a b"},
		"to be done again: install web, migrate api\n": {Steps: []string{"install web",
			"migrate api"}, Remedy: "nharbor restart"},
	} {
		var out strings.Builder
		(&Text{Out: &out, Width: 80}).Changed(&c)
		if !strings.Contains(out.String(), want) || !c.Any() {
			t.Errorf("%+v is shown as %s, want %s", c, out.String(), want)
		}
	}
	if (*stack.Changed)(nil).Any() || (&stack.Changed{}).Any() {
		t.Error("nothing counts as a change")
	}
}

func TestReadmeIsShown(t *testing.T) {
	t.Parallel()
	var out strings.Builder
	(&Text{Out: &out, Width: 80}).Survey(&stack.Stack{Root: "/w", Readme: []stack.ReadmeDemand{
		{At: stack.Place{File: "README.md", Line: 3}, Command: "npm ci", Covered: true,
			By: "step:install:web"},
		{At: stack.Place{File: "README.md", Line: 4}, Command: "npm run import"},
		{At: stack.Place{File: "README.md", Line: 5}, Command: "cp a b", Covered: true, By: "fill"},
	}, SignIns: []stack.SignIn{{User: "ida", Password: "oyster",
		At: stack.Place{File: "README.md", Line: 9}}}}, false)
	text := out.String()
	open, done := strings.Index(text, "npm run import"), strings.Index(text, "Done for you")
	if open < 0 || done < open || !strings.Contains(text, "by install web") ||
		!strings.Contains(text, "by nharbor fill") ||
		!strings.Contains(text, "ida  oyster  README.md:9") {
		t.Errorf("shown is\n%s", text)
	}
}

// TestLargeSurvey shows what matters of a large application first, and counts what it leaves out.
func TestLargeSurvey(t *testing.T) {
	t.Parallel()
	s := &stack.Stack{Root: "/w"}
	for i := range 30 {
		s.Services = append(s.Services,
			stack.Service{Name: fmt.Sprintf("s%d", i), Project: fmt.Sprintf("p%d", i)})
		s.Projects = append(s.Projects, stack.Project{Path: fmt.Sprintf("p%d", 44-i)})
		s.EnvFiles = append(s.EnvFiles,
			stack.EnvFile{Path: fmt.Sprintf("e%d", i), Settings: 3, Unfilled: i})
		s.Remarks = append(s.Remarks, stack.Remark{Level: stack.Note, Text: "a note"})
		s.Readme = append(s.Readme, stack.ReadmeDemand{Command: fmt.Sprintf("do-%d", i),
			Covered: i%2 == 0, By: "fill"})
	}
	s.Remarks = append(s.Remarks, stack.Remark{Level: stack.Problem, Text: "it can't run"})
	shown := func(all bool) string {
		var out strings.Builder
		(&Text{Out: &out, Width: 100}).Survey(s, all)
		return out.String()
	}
	some, all := shown(false), shown(true)
	for _, want := range []string{"30 services (0 in containers), 30 projects",
		"Noticed: 1 problem, 30 notes.", "s29 ", "  p29", "e29 ", "90 rows are left out " +
			"here"} { // notes 30, projects 18, settings 20, open 7, done 15
		if !strings.Contains(some, want) {
			t.Errorf("%q is not in\n%s", want, some)
		}
	}
	if strings.Index(some, "it can't run") > strings.Index(some, "Services") ||
		strings.Contains(some, "e5 ") || strings.Contains(some, "  p40") {
		t.Errorf("what matters is not first:\n%s", some)
	}
	if strings.Contains(all, "left out") || !strings.Contains(all, "do-28") ||
		strings.Count(all, "a note") != 30 {
		t.Errorf("something is left out of\n%s", all)
	}
}
