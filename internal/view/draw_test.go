package view

import (
	"encoding/xml"
	"fmt"
	"io"
	"strings"
	"testing"

	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
)

// graph makes an order of lines "KIND RANK NAME", then "< OTHER UNTIL BECAUSE" for what the node
// waits for.
func graph(text string, critical ...stack.NodeID) *order.Order {
	o := &order.Order{CriticalPath: critical}
	for line := range strings.Lines(text) {
		f := strings.Fields(line)
		switch {
		case len(f) == 0:
		case f[0] == "<":
			n := &o.Nodes[len(o.Nodes)-1]
			n.After = append(n.After, order.Edge{ID: stack.NodeID(f[1]), Until: stack.Until(f[2]),
				Because: f[3],
				Reason:  "a <reason> & \"more\""})
		default:
			n := order.Node{Kind: f[0], ID: stack.NodeID(f[0] + ":" + f[2])}
			fmt.Sscan(f[1], &n.Rank)
			o.Nodes = append(o.Nodes, n)
		}
	}
	return o
}

const ferries = `
	service 0 db
	step 0 install:web
	service 1 api
	< service:db answering declared
	service 2 web<1>
	< service:api answering inferred
	< step:install:web finished inferred
	< service:absent begun declared
`

func TestSVG(t *testing.T) {
	t.Parallel()
	text, ok := Draw(graph(ferries, "service:db", "service:api"), nil, "x.SVG")
	if !ok {
		t.Fatal("an SVG can't be drawn")
	}
	kinds, words := map[string]int{}, ""
	for d := xml.NewDecoder(strings.NewReader(text)); ; {
		token, err := d.Token()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatalf("it is no XML: %v\n%s", err, text)
		}
		switch token := token.(type) {
		case xml.StartElement:
			for _, a := range token.Attr {
				if a.Name.Local == "class" {
					kinds[token.Name.Local+" "+a.Value]++
				}
			}
		case xml.CharData:
			words += string(token) + "\n"
		}
	}
	for kind, want := range map[string]int{"rect box on": 2, "rect box": 2, "path edge on": 1,
		"path edge": 2,
		"path tip":  2, "path tip ontip": 1} {
		if kinds[kind] != want {
			t.Errorf("%d times %s, want %d", kinds[kind], kind, want)
		}
	}
	for _, want := range []string{"db", "install web", "web<1>", "api waits until db answering",
		"critical path"} {
		if !strings.Contains(words, want) {
			t.Errorf("absent: %s", want)
		}
	}
	if strings.Contains(text, "NaN") {
		t.Error("a place is no number")
	}
}

// TestBoxesKeepApart looks for boxes of one column that lie on each other, and for an edge whose
// way leads through one.
func TestBoxesKeepApart(t *testing.T) {
	t.Parallel()
	var text strings.Builder
	for i := range 60 {
		fmt.Fprintf(&text, "service %d s%d\n", i%6, i)
		for k := range i % 6 {
			fmt.Fprintf(&text, "< service:s%d answering declared\n", (i*7+k)/6*6%54+k)
		}
	}
	d := place(graph(text.String()))
	passes := 0
	for k, c := range d.columns {
		for i, b := range c {
			if i > 0 && b.y < c[i-1].y+c[i-1].h {
				t.Fatalf("%+v lies on %+v", b, c[i-1])
			}
			if b.node == nil {
				passes++
			}
			// An edge is straight beside a box and turns between columns.
			for _, before := range b.befores() {
				if gap := b.x - before.x - before.wide; gap < bend-0.01 {
					t.Fatalf("before column %d edges have %.0f to turn in", k, gap)
				}
			}
			for i := range b.in {
				if end := b.in[i].end(); end <= b.y || end >= b.y+b.h ||
					i > 0 && end < b.in[i-1].end()+arrival/2 {
					t.Fatalf("an edge ends at %.0f of a box from %.0f to %.0f", end, b.y, b.y+b.h)
				}
			}
		}
	}
	if passes == 0 {
		t.Error("no edge passes a column")
	}
}

func TestDrawnAsText(t *testing.T) {
	t.Parallel()
	o := graph(ferries, "service:db", "service:api")
	for file, want := range map[string][]string{
		"a.dot": {"digraph order {",
			`"service:db" -> "service:api" [label="answering", tooltip="a <reason> & \"more\"", penwidth=2.5];`,
			`"step:install:web" [label="install web", shape=ellipse];`, "style=dashed"},
		"a.gv": {"digraph"},
		"a.mmd": {"flowchart LR", `n0["db"]`, `n1("install web")`, "n0 ==>|answering| n2",
			"n1 -.->|finished| n3",
			"web#lt;1#gt;"},
	} {
		got, ok := Draw(o, nil, file)
		for _, w := range want {
			if !ok || !strings.Contains(got, w) {
				t.Errorf("%s has no %s\n%s", file, w, got)
			}
		}
	}
	if _, ok := Draw(o, nil, "a.pdf"); ok {
		t.Error("a PDF is drawn")
	}
	if got, _ := Draw(&order.Order{}, nil, "a.svg"); !strings.Contains(got, "</svg>") {
		t.Errorf("nothing is drawn as %s", got)
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
			"migrate api"},
			Remedy: "nharbor restart"},
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
		"Noticed: 1 problem, 30 notes.", "s29 ",
		"  p29", "e29 ", "90 rows are left out " +
			"here"} { // notes 30, projects 18, settings 20, open 7, done 15
		if !strings.Contains(some, want) {
			t.Errorf("%q is not in\n%s", want, some)
		}
	}
	if strings.Index(some, "it can't run") > strings.Index(some, "Services") ||
		strings.Contains(some, "e5 ") ||
		strings.Contains(some, "  p40") {
		t.Errorf("what matters is not first:\n%s", some)
	}
	if strings.Contains(all, "left out") || !strings.Contains(all, "do-28") ||
		strings.Count(all, "a note") != 30 {
		t.Errorf("something is left out of\n%s", all)
	}
}

// TestOrderPicture leads a line down from each node to those that wait for it, heavy along the
// critical path, or says that there is no room.
func TestOrderPicture(t *testing.T) {
	t.Parallel()
	o := graph(ferries, "service:db", "service:api")
	for plain, want := range map[bool]string{false: `
db           ─┓
install web  ─╂─╮
api          ◂┛─┼─╮
web<1>       ◂──╯─╯`, true: `
db           -#
install web  -#-.
api          <#-+-.
web<1>       <--'-'`} {
		lines, ok := OrderPicture(o, nil, 40, plain)
		if got := "\n" + strings.Join(lines, "\n"); !ok || got != want {
			t.Errorf("drawn is%s\nand not%s", got, want)
		}
	}
	if _, ok := OrderPicture(o, nil, 16, false); ok {
		t.Error("it fits into 16 columns")
	}
}
