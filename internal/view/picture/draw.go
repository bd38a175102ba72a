package picture

import (
	"fmt"
	"path/filepath"
	"strings"

	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/timeline"
	"nimbleharbor/internal/view"
)

// Drawings are the endings of the files that Draw can fill.
var Drawings = []string{".svg", ".dot", ".mmd"}

// Draw draws an order in the form that the file's name asks for: SVG, DOT or Mermaid; ok is false
// for any other. With a timeline of a launch it says how long everything took.
func Draw(o *order.Order, t *timeline.Timeline, file string) (text string, ok bool) {
	switch strings.ToLower(filepath.Ext(file)) {
	case ".svg":
		return view.Washed(orderSVG(o, t, true)), true
	case ".dot", ".gv":
		return view.Washed(dot(o, t)), true
	case ".mmd", ".mermaid":
		return view.Washed(Mermaid(o, t)), true
	}
	return "", false
}

// way leads from one node to another that waits for it.
type way struct{ from, to stack.NodeID }

// critical tells the nodes and edges along the critical path: the one for which a launch had to
// wait, or without one the one that is expected.
func critical(o *order.Order, t *timeline.Timeline) (nodes map[stack.NodeID]bool, edges map[way]bool) {
	nodes, edges = map[stack.NodeID]bool{}, map[way]bool{}
	if t != nil && t.Took > 0 {
		for _, r := range t.Rows {
			if nodes[r.ID] = r.Critical; r.Critical && r.Before != "" {
				edges[way{r.Before, r.ID}] = true
			}
		}
		return nodes, edges
	}
	for i, id := range o.CriticalPath {
		nodes[id] = true
		if i > 0 {
			edges[way{o.CriticalPath[i-1], id}] = true
		}
	}
	return nodes, edges
}

// dot writes the graph in the DOT language: arrows lead from what comes first to what waits for it.
func dot(o *order.Order, t *timeline.Timeline) string {
	var out strings.Builder
	quote := func(s string) string {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", " ").Replace(s) + `"`
	}
	_, path := critical(o, t)
	out.WriteString("digraph order {\n  rankdir=LR;\n  node [fontname=\"sans-serif\"];\n")
	for _, n := range o.Nodes {
		shape := "box"
		if n.ID.IsStep() {
			shape = "ellipse"
		}
		fmt.Fprintf(&out, "  %s [label=%s, shape=%s];\n", quote(string(n.ID)), quote(n.ID.Title()),
			shape)
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

// Mermaid writes the graph as a Mermaid flowchart.
func Mermaid(o *order.Order, t *timeline.Timeline) string {
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
	_, path := critical(o, t)
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
