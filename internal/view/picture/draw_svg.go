package picture

import (
	"fmt"
	"html"
	"slices"
	"strings"

	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/timeline"
	"nimbleharbor/internal/view"
)

// The measures of a drawing, in pixels.
const (
	boxHeight, rowGap = 38, 18
	margin, letter    = 24, 7.4
	// between the ends of two edges at one box; a letter of what stands on them
	arrival, small = 20, 5.9
	bend           = 64 // the part of a gap in which edges go up and down
	longestReason  = 44 // letters of a reason on an edge; the whole is its title
)

// OrderStyle are the looks of a drawn order, light and dark.
const OrderStyle = `.od text{fill:#1d2b36}.od .box{fill:#f3f6f8;stroke:#5b7083}.od .edge{fill:none;stroke:#7b8d9c}` +
	`.od .on{stroke:#14496b;stroke-width:2.6}.od .tip{fill:#7b8d9c}.od .ontip{fill:#14496b}` +
	`.od .small{font-size:11px;fill:#4c6070}` +
	`@media(prefers-color-scheme:dark){.od text{fill:#e4ebf0}.od .box{fill:#22313d;stroke:#8aa0b2}` +
	`.od .edge{stroke:#8aa0b2}.od .on{stroke:#8ecbf2}.od .tip{fill:#8aa0b2}.od .ontip{fill:#8ecbf2}` +
	`.od .small{fill:#b4c3cf}}`

// box is a node in the drawing, or, without a node, the place where a long edge passes a column.
type box struct {
	x, y, w, h float64
	wide       float64 // of its column
	node       *order.Node
	in         []*edge // that end here, in the order of their beginnings
	out        []*box  // what comes next on the ways of the edges that begin or pass here
	from       *box    // of a place for an edge: what lies before it on the edge's way
}

func (b *box) middle() float64 { return b.y + b.h/2 }

// edge is one that is drawn, with the last place on its way before its end.
type edge struct {
	order.Edge
	last, to *box
	at       int // among those that end at the same box
}

// end is where an edge arrives.
func (e *edge) end() float64 {
	n := float64(len(e.to.in))
	return e.to.y + e.to.h*(float64(e.at)+1)/(n+1)
}

// label is what stands on an edge.
func (e *edge) label() string {
	reason := view.Clean(e.Reason)
	if len([]rune(reason)) > longestReason {
		reason = string([]rune(reason)[:longestReason-1]) + "…"
	}
	return reason
}

// drawing is an order with a place for everything.
type drawing struct {
	columns [][]*box
	gaps    []float64 // before each column: how much of it is for what stands on edges
}

// OrderPart draws an order for a page that has OrderStyle.
func OrderPart(o *order.Order, t *timeline.Timeline) string {
	return view.Washed(orderSVG(o, t, false))
}

// orderSVG draws the order from left to right, a column for each rank. Services have corners, steps
// are round; edges that the files declare are solid, inferred ones dashed, the critical path is
// thick, and the reason stands on each. Edges turn in the gaps between columns only, so that none
// goes through a box.
func orderSVG(o *order.Order, t *timeline.Timeline, alone bool) string {
	d := place(o)
	width, height := 2.0*margin, 0.0
	for _, c := range d.columns {
		for _, b := range c {
			width, height = max(width, b.x+b.w+margin), max(height, b.y+b.h)
		}
	}
	caption := "square: service, round: step; solid: declared, dashed: inferred; thick: the " +
		"critical path"
	switch {
	case t != nil && t.Took > 0:
		caption += fmt.Sprintf("; the launch took %s", view.Seconds(t.Took))
	case o.Estimate > 0:
		caption += fmt.Sprintf(", about %.1f s", o.Estimate)
	}
	width = max(width, float64(len(caption))*6.4+2*margin)
	height += 3 * margin
	var out strings.Builder
	fmt.Fprintf(&out, `<svg class="od" xmlns="http://www.w3.org/2000/svg" width="%.0f" height="%.0f" `+
		`viewBox="0 0 %.0f %.0f" font-family="sans-serif" font-size="13" role="img" aria-label="order of the launch">`+
		"\n", width, height, width, height)
	if alone {
		fmt.Fprintf(&out, "<style>%s.back{fill:#fff}@media(prefers-color-scheme:dark){.back{fill:#141d24}}</style>\n"+
			`<rect class="back" width="%.0f" height="%.0f"/>`+"\n", OrderStyle, width, height)
	}
	nodes, path := critical(o, t)
	for _, c := range d.columns {
		for _, b := range c {
			for _, e := range b.in {
				curve(&out, e, path[way{e.ID, b.node.ID}])
			}
		}
	}
	for _, c := range d.columns {
		for _, b := range c {
			if b.node != nil {
				drawBox(&out, b, nodes[b.node.ID], t)
			}
		}
	}
	fmt.Fprintf(&out, `<text class="small" x="%d" y="%.0f">%s</text>`+"\n</svg>\n", margin,
		height-margin, html.EscapeString(caption))
	return out.String()
}

func drawBox(out *strings.Builder, b *box, on bool, t *timeline.Timeline) {
	round, class := 2.0, "box"
	if b.node.ID.IsStep() {
		round = min(b.h/2, boxHeight/2)
	}
	if on {
		class += " on"
	}
	below := times(b.node.ID, t)
	y := b.middle() + 4.5
	if below != "" {
		y = b.middle() - 2
	}
	fmt.Fprintf(out, `<rect class="%s" x="%.1f" y="%.1f" width="%.1f" height="%.1f" rx="%.0f"/><text x="%.1f" `+
		`y="%.1f" text-anchor="middle">%s</text>`+"\n", class, b.x, b.y, b.w, b.h, round,
		b.x+b.w/2, y, html.EscapeString(view.Clean(b.node.ID.Title())))
	if below != "" {
		fmt.Fprintf(out, `<text class="small" x="%.1f" y="%.1f" text-anchor="middle">%s</text>`+"\n", b.x+b.w/2,
			b.middle()+12, html.EscapeString(below))
	}
}

// times tells how long a node took at a launch, or how it ended there; empty where there was none.
func times(id stack.NodeID, t *timeline.Timeline) string {
	if t == nil {
		return ""
	}
	r := t.Row(id)
	if r == nil || r.Begun < 0 {
		return ""
	}
	state := r.State
	if t.Took > 0 {
		state = r.Then
	}
	if state == stack.Unchanged || !state.Good() {
		return string(state)
	}
	return view.Seconds(r.Worked(t.Took))
}

// curve draws an edge, from its beginning through the places where it passes columns to its end,
// and its reason.
func curve(out *strings.Builder, e *edge, on bool) {
	class, tip, dash := "edge", "tip", ""
	if on {
		class, tip = "edge on", "tip ontip"
	}
	if e.Because == stack.Inferred {
		dash = ` stroke-dasharray="5 4"`
	}
	var way []*box
	for b := e.last; b != nil; b = b.from {
		way = append(way, b)
	}
	slices.Reverse(way)
	start := way[0]
	var line strings.Builder
	fmt.Fprintf(&line, "M%.1f %.1fH%.1f", start.x+start.w, start.middle(), start.x+start.wide)
	x, y := start.x+start.wide, start.middle()
	turn := func(toX, toY float64) {
		fmt.Fprintf(&line, "C%.1f %.1f %.1f %.1f %.1f %.1f", x+bend/2, y, x+bend/2, toY, x+bend,
			toY)
		fmt.Fprintf(&line, "H%.1f", toX)
		x, y = toX, toY
	}
	for _, b := range way[1:] {
		turn(b.x+b.wide, b.middle())
	}
	end := e.end()
	turn(e.to.x-7, end)
	fmt.Fprintf(out, `<path class="%s"%s d="%s"><title>%s waits until %s %s: %s</title></path><path class="%s" `+
		`d="M%.1f %.1fl-8 -4v8z"/>`+"\n", class, dash, line.String(),
		html.EscapeString(view.Clean(e.to.node.ID.Title())),
		html.EscapeString(view.Clean(start.node.ID.Title())), e.Until,
		html.EscapeString(view.Clean(e.Reason)), tip, e.to.x, end)
	if label := e.label(); label != "" {
		fmt.Fprintf(out, `<text class="small" x="%.1f" y="%.1f" text-anchor="end">%s</text>`+"\n",
			e.to.x-12, end-3, html.EscapeString(label))
	}
}

// place puts the nodes into columns by rank, and within a column so that few edges cross and all
// are short. An edge that passes columns gets a place in each.
func place(o *order.Order) *drawing {
	d := &drawing{}
	boxes := map[stack.NodeID]*box{}
	for i := range o.Nodes {
		n := &o.Nodes[i]
		for len(d.columns) <= n.Rank {
			d.columns, d.gaps = append(d.columns, nil), append(d.gaps, 0)
		}
		b := &box{w: float64(view.Width(view.Clean(n.ID.Title())))*letter + 26, h: boxHeight,
			node: n}
		boxes[n.ID] = b
		d.columns[n.Rank] = append(d.columns[n.Rank], b)
	}
	for i := range o.Nodes {
		n := &o.Nodes[i]
		to := boxes[n.ID]
		for _, after := range n.After {
			last := boxes[after.ID]
			if last == nil {
				continue
			}
			for rank := last.node.Rank + 1; rank < n.Rank; rank++ {
				next := &box{h: 4, from: last}
				last.out = append(last.out, next)
				d.columns[rank] = append(d.columns[rank], next)
				last = next
			}
			last.out = append(last.out, to)
			e := &edge{Edge: after, last: last, to: to}
			to.in = append(to.in, e)
			d.gaps[n.Rank] = max(d.gaps[n.Rank], float64(view.Width(e.label()))*small+18)
		}
		to.h = max(boxHeight, float64(len(to.in))*arrival+8)
	}
	d.sort()
	d.settle()
	x := float64(margin)
	for i, c := range d.columns {
		if i > 0 {
			x += bend + d.gaps[i]
		}
		widest := 0.0
		for _, b := range c {
			widest = max(widest, b.w)
		}
		for _, b := range c {
			if b.x, b.wide = x, widest; b.node == nil {
				b.w = widest
			}
		}
		x += widest
	}
	for _, c := range d.columns {
		for _, b := range c {
			slices.SortStableFunc(b.in,
				func(a, e *edge) int { return sign(a.last.middle() - e.last.middle()) })
			for i := range b.in {
				b.in[i].at = i
			}
		}
	}
	return d
}

func sign(f float64) int {
	switch {
	case f < 0:
		return -1
	case f > 0:
		return 1
	}
	return 0
}

// befores are what lies before a box on the ways of the edges that pass, or end, there.
func (b *box) befores() (out []*box) {
	if b.node == nil {
		return []*box{b.from}
	}
	for _, e := range b.in {
		out = append(out, e.last)
	}
	return out
}

// sort orders each column by where its neighbours stand, forwards and backwards in turn, so that
// edges cross less.
func (d *drawing) sort() {
	at := map[*box]float64{}
	number := func(c []*box) {
		for i, b := range c {
			at[b] = float64(i)
		}
	}
	for _, c := range d.columns {
		number(c)
	}
	mean := func(b *box, of []*box) float64 {
		if len(of) == 0 {
			return at[b]
		}
		sum := 0.0
		for _, o := range of {
			sum += at[o]
		}
		return sum / float64(len(of))
	}
	for round := range 8 {
		for i := range d.columns {
			c, near := d.columns[i], (*box).befores
			if round%2 == 1 {
				c, near = d.columns[len(d.columns)-1-i], func(b *box) []*box { return b.out }
			}
			wish := map[*box]float64{}
			for _, b := range c {
				wish[b] = mean(b, near(b))
			}
			slices.SortStableFunc(c, func(a, b *box) int { return sign(wish[a] - wish[b]) })
			number(c)
		}
	}
}

// settle gives each box its height in the column: as near to its neighbours as the others let it.
func (d *drawing) settle() {
	for _, c := range d.columns {
		y := 0.0
		for _, b := range c {
			b.y = y
			y += b.h + gapBelow(b)
		}
	}
	for round := range 6 {
		for i := range d.columns {
			c, near := d.columns[i], (*box).befores
			if round%2 == 1 {
				c, near = d.columns[len(d.columns)-1-i], func(b *box) []*box { return b.out }
			}
			wishes := make([]float64, len(c))
			for k, b := range c {
				wishes[k] = b.y
				if of := near(b); len(of) > 0 {
					sum := 0.0
					for _, o := range of {
						sum += o.middle()
					}
					wishes[k] = sum/float64(len(of)) - b.h/2
				}
			}
			apart(c, wishes)
		}
	}
	top := 0.0
	for _, c := range d.columns {
		for _, b := range c {
			top = min(top, b.y)
		}
	}
	for _, c := range d.columns {
		for _, b := range c {
			b.y += margin - top
		}
	}
}

func gapBelow(b *box) float64 {
	if b.node == nil {
		return rowGap * 2 / 3
	}
	return rowGap
}

// apart puts the boxes of a column as near to where they wish to be as they can without lying on
// each other: boxes that get in each other's way form a group, which stands where its members wish
// on average.
func apart(c []*box, wishes []float64) {
	type group struct {
		sum   float64 // of what its members wish its beginning to be
		n     int
		high  float64
		first int
	}
	var groups []group
	for i, b := range c {
		g := group{wishes[i], 1, b.h + gapBelow(b), i}
		for len(groups) > 0 {
			before := groups[len(groups)-1]
			if before.sum/float64(before.n)+before.high <= g.sum/float64(g.n) {
				break
			}
			groups = groups[:len(groups)-1]
			g = group{before.sum + g.sum - float64(g.n)*before.high, before.n + g.n, before.high +
				g.high, before.first}
		}
		groups = append(groups, g)
	}
	for k, g := range groups {
		end := len(c)
		if k+1 < len(groups) {
			end = groups[k+1].first
		}
		y := g.sum / float64(g.n)
		for _, b := range c[g.first:end] {
			b.y = y
			y += b.h + gapBelow(b)
		}
	}
}
