package picture

import (
	"encoding/xml"
	"fmt"
	"io"
	"strings"
	"testing"
	"unicode/utf8"

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
				Because: f[3], Reason: "a <reason> & \"more\""})
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
		"path edge": 2, "path tip": 2, "path tip ontip": 1} {
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
			"n1 -.->|finished| n3", "web#lt;1#gt;"},
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

// TestDrawnWithoutMarks draws names that a terminal, or a reader, would take for something else.
func TestDrawnWithoutMarks(t *testing.T) {
	t.Parallel()
	for _, evil := range []string{"a\x1b[31mb", "a\u202eb", "a\u009b31mb", "a\ufeffb", "a\xffb"} {
		o := &order.Order{Nodes: []order.Node{{ID: stack.ServiceNode(evil), Kind: "service",
			After: []order.Edge{{ID: "service:b", Reason: evil}}},
			{ID: "service:b", Kind: "service"}}}
		for _, file := range Drawings {
			drawn, ok := Draw(o, nil, "x"+file)
			if !ok || strings.ContainsAny(drawn, "\x1b\u202e\u009b\ufeff") ||
				!utf8.ValidString(drawn) {
				t.Errorf("%q in %s comes through, %v: %q", evil, file, ok, drawn)
			}
		}
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
