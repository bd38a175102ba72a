package view

import (
	"fmt"
	"html"
	"path/filepath"
	"slices"
	"strings"

	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
)

// Drawings are the endings of the files that Draw can fill.
var Drawings = []string{".svg", ".dot", ".mmd"}

// Draw draws an order in the form that the file's name asks for: SVG, DOT or Mermaid; ok is false for any other.
func Draw(o *order.Order, file string) (text string, ok bool) {
	switch strings.ToLower(filepath.Ext(file)) {
	case ".svg":
		return washed(SVG(o)), true
	case ".dot", ".gv":
		return washed(dot(o)), true
	case ".mmd", ".mermaid":
		return washed(mermaid(o)), true
	}
	return "", false
}

// way leads from one node to another that waits for it.
type way struct{ from, to stack.NodeID }

// critical tells the nodes and edges along the critical path.
func critical(o *order.Order) (nodes map[stack.NodeID]bool, edges map[way]bool) {
	nodes, edges = map[stack.NodeID]bool{}, map[way]bool{}
	for i, id := range o.CriticalPath {
		nodes[id] = true
		if i > 0 {
			edges[way{o.CriticalPath[i-1], id}] = true
		}
	}
	return nodes, edges
}

// dot writes the graph in the DOT language: arrows lead from what comes first to what waits for it.
func dot(o *order.Order) string {
	var out strings.Builder
	quote := func(s string) string {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", " ").Replace(s) + `"`
	}
	_, path := critical(o)
	out.WriteString("digraph order {\n  rankdir=LR;\n  node [fontname=\"sans-serif\"];\n")
	for _, n := range o.Nodes {
		shape := "box"
		if n.ID.IsStep() {
			shape = "ellipse"
		}
		fmt.Fprintf(&out, "  %s [label=%s, shape=%s];\n", quote(string(n.ID)), quote(n.ID.Title()), shape)
	}
	for _, n := range o.Nodes {
		for _, e := range n.After {
			attributes := []string{"label=" + quote(string(e.Until)), "tooltip=" + quote(e.Reason)}
			if e.Because == stack.Inferred {
				attributes = append(attributes, "style=dashed")
			}
			if path[way{e.ID, n.ID}] {
				attributes = append(attributes, "penwidth=2.5")
			}
			fmt.Fprintf(&out, "  %s -> %s [%s];\n", quote(string(e.ID)), quote(string(n.ID)),
				strings.Join(attributes, ", "))
		}
	}
	out.WriteString("}\n")
	return out.String()
}

// mermaid writes the graph as a Mermaid flowchart.
func mermaid(o *order.Order) string {
	var out strings.Builder
	out.WriteString("flowchart LR\n")
	ids := map[stack.NodeID]string{}
	text := strings.NewReplacer(`"`, "#quot;", "\n", " ", "<", "#lt;", ">", "#gt;")
	for i, n := range o.Nodes {
		ids[n.ID] = fmt.Sprintf("n%d", i)
		before, after := `["`, `"]`
		if n.ID.IsStep() {
			before, after = `("`, `")`
		}
		fmt.Fprintf(&out, "  %s%s%s%s\n", ids[n.ID], before, text.Replace(n.ID.Title()), after)
	}
	_, path := critical(o)
	for _, n := range o.Nodes {
		for _, e := range n.After {
			arrow := "-->"
			if path[way{e.ID, n.ID}] {
				arrow = "==>"
			} else if e.Because == stack.Inferred {
				arrow = "-.->"
			}
			fmt.Fprintf(&out, "  %s %s|%s| %s\n", ids[e.ID], arrow, e.Until, ids[n.ID])
		}
	}
	return out.String()
}

// The measures of a drawing, in pixels.
const (
	boxHeight, rowGap, columnGap = 34, 22, 74
	margin, letter               = 24, 7.4
)

// box is a node in the drawing, or, without a node, the place where a long edge passes a column.
type box struct {
	x, y, w, h float64
	node       *order.Node
	from       *box // of a place for an edge: what lies before it on the edge's way
}

func (b *box) middle() float64 { return b.y + b.h/2 }

// SVG draws the order from left to right, a column for each rank. Services have corners, steps are round; edges that
// the files declare are solid, inferred ones dashed, and the critical path is thick. A caption says so.
func SVG(o *order.Order) string {
	boxes, columns, ways := place(o)
	width, height := 2.0*margin, 0.0
	for _, c := range columns {
		for _, b := range c {
			width, height = max(width, b.x+b.w+margin), max(height, b.y+b.h)
		}
	}
	caption := "square: service, round: step; solid: declared, dashed: inferred; thick: the critical path"
	if o.Estimate > 0 {
		caption += fmt.Sprintf(", about %.1f s", o.Estimate)
	}
	width = max(width, float64(len(caption))*6.4+2*margin)
	height += 3 * margin
	var out strings.Builder
	fmt.Fprintf(&out, `<svg xmlns="http://www.w3.org/2000/svg" width="%.0f" height="%.0f" viewBox="0 0 %.0f %.0f" `+
		`font-family="sans-serif" font-size="13">`+"\n", width, height, width, height)
	out.WriteString(`<style>text{fill:#1d2b36}.box{fill:#f3f6f8;stroke:#5b7083}.edge{fill:none;stroke:#7b8d9c}` +
		`.on{stroke:#14496b;stroke-width:2.6}.tip{fill:#7b8d9c}.ontip{fill:#14496b}` +
		`.small{font-size:11px;fill:#4c6070}.back{fill:#fff}` +
		`@media(prefers-color-scheme:dark){text{fill:#e4ebf0}.box{fill:#22313d;stroke:#8aa0b2}.edge{stroke:#8aa0b2}` +
		`.on{stroke:#8ecbf2}.tip{fill:#8aa0b2}.ontip{fill:#8ecbf2}` +
		`.small{fill:#b4c3cf}.back{fill:#141d24}}</style>` + "\n")
	fmt.Fprintf(&out, `<rect class="back" width="%.0f" height="%.0f"/>`+"\n", width, height)
	nodes, path := critical(o)
	for _, c := range columns {
		for _, b := range c {
			if b.node == nil {
				continue
			}
			for _, e := range b.node.After {
				if from := boxes[e.ID]; from != nil {
					last := ways[way{e.ID, b.node.ID}]
					if last == nil {
						last = from
					}
					curve(&out, last, b, boxes[e.ID], e, path[way{e.ID, b.node.ID}])
				}
			}
		}
	}
	for _, c := range columns {
		for _, b := range c {
			if b.node == nil {
				continue
			}
			round, class := 2, "box"
			if b.node.ID.IsStep() {
				round = boxHeight / 2
			}
			if nodes[b.node.ID] {
				class += " on"
			}
			fmt.Fprintf(&out,
				`<rect class="%s" x="%.1f" y="%.1f" width="%.1f" height="%d" rx="%d"/><text x="%.1f" y="%.1f" `+
					`text-anchor="middle">%s</text>`+"\n",
				class, b.x, b.y, b.w, boxHeight, round, b.x+b.w/2, b.middle()+4.5,
				html.EscapeString(clean(b.node.ID.Title())))
		}
	}
	fmt.Fprintf(&out, `<text class="small" x="%d" y="%.0f">%s</text>`+"\n</svg>\n", margin, height-margin,
		html.EscapeString(caption))
	return out.String()
}

// curve draws an edge, from its beginning through the places where it passes columns; last is the one before its end.
func curve(out *strings.Builder, last, to, start *box, e order.Edge, on bool) {
	class, tip, dash := "edge", "tip", ""
	if on {
		class, tip = "edge on", "tip ontip"
	}
	if e.Because == stack.Inferred {
		dash = ` stroke-dasharray="5 4"`
	}
	way := []*box{to}
	for b := last; b != nil; b = b.from {
		way = append(way, b)
	}
	slices.Reverse(way)
	var line strings.Builder
	fmt.Fprintf(&line, "M%.1f %.1f", way[0].x+way[0].w, way[0].middle())
	for i, b := range way[1:] {
		x1, y1, x2, y2 := way[i].x+way[i].w, way[i].middle(), b.x, b.middle()
		if b == to {
			x2 -= 7
		}
		bend := (x2 - x1) / 2
		fmt.Fprintf(&line, "C%.1f %.1f %.1f %.1f %.1f %.1f", x1+bend, y1, x2-bend, y2, x2, y2)
		if b.node == nil {
			fmt.Fprintf(&line, "H%.1f", b.x+b.w)
		}
	}
	fmt.Fprintf(out, `<path class="%s"%s d="%s"><title>%s waits until %s %s: %s</title></path><path class="%s" `+
		`d="M%.1f %.1fl-8 -4v8z"/>`+"\n", class, dash, line.String(),
		html.EscapeString(to.node.ID.Title()), html.EscapeString(start.node.ID.Title()), e.Until,
		html.EscapeString(clean(e.Reason)), tip, to.x, to.middle())
}

// place puts the nodes into columns by rank, and within a column near what they wait for. An edge that passes columns
// gets a place in each; ways tells the last of them.
func place(o *order.Order) (boxes map[stack.NodeID]*box, columns [][]*box, ways map[way]*box) {
	boxes, ways = map[stack.NodeID]*box{}, map[way]*box{}
	ranks := map[stack.NodeID]int{}
	for i := range o.Nodes {
		n := &o.Nodes[i]
		for len(columns) <= n.Rank {
			columns = append(columns, nil)
		}
		ranks[n.ID] = n.Rank
		b := &box{w: float64(width(n.ID.Title()))*letter + 26, h: boxHeight, node: n}
		boxes[n.ID] = b
		columns[n.Rank] = append(columns[n.Rank], b)
	}
	for i := range o.Nodes {
		n := &o.Nodes[i]
		for _, e := range n.After {
			last := boxes[e.ID]
			if last == nil {
				continue
			}
			for rank := ranks[e.ID] + 1; rank < n.Rank; rank++ {
				last = &box{h: 6, from: last}
				columns[rank] = append(columns[rank], last)
			}
			ways[way{e.ID, n.ID}] = last
		}
	}
	x := float64(margin)
	for _, c := range columns {
		wish := func(b *box) float64 {
			if b.node == nil {
				return b.from.middle()
			}
			sum, count := 0.0, 0
			for _, e := range b.node.After {
				if from := ways[way{e.ID, b.node.ID}]; from != nil {
					sum, count = sum+from.middle(), count+1
				}
			}
			if count == 0 {
				return 0
			}
			return sum / float64(count)
		}
		slices.SortStableFunc(c, func(a, b *box) int { return int(wish(a) - wish(b)) })
		widest, y := 0.0, float64(margin)
		for _, b := range c {
			b.x, b.y = x, max(y, wish(b)-b.h/2)
			y = b.y + b.h + rowGap
			if b.node == nil {
				y = b.y + b.h + rowGap/2
			}
			widest = max(widest, b.w)
		}
		for _, b := range c {
			if b.node == nil {
				b.w = widest
			}
		}
		x += widest + columnGap
	}
	return boxes, columns, ways
}
