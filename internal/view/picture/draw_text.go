package picture

import (
	"fmt"
	"slices"
	"strings"

	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/timeline"
	"nimbleharbor/internal/view"
)

// laneSigns are the signs of an order that is drawn with characters: across to the lanes, the tip
// of an arrow, and lanes, heavy along the critical path.
type laneSigns struct {
	across, tip string
	thin, heavy lane
}

// lane are the signs of a lane: on its way, crossed, where it begins, is left, and is left for the
// last time.
type lane struct{ down, cross, begin, tee, last string }

var (
	lineLanes  = laneSigns{"─", "◂", lane{"│", "┼", "╮", "┤", "╯"}, lane{"┃", "╂", "┓", "┫", "┛"}}
	plainLanes = laneSigns{"-", "<", lane{"|", "+", ".", "+", "'"}, lane{"#", "#", "#", "#", "#"}}
)

// OrderPicture draws an order with characters: a row for each node, and for each node that others
// wait for a lane that leads down from it to those, where an arrow points at them. Where the lanes
// don't fit into so many columns, ok is false.
func OrderPicture(o *order.Order, t *timeline.Timeline, columns int,
	plain bool) (lines []string, ok bool) {
	p := &orderLanes{signs: lineLanes, row: map[stack.NodeID]int{}, ends: map[stack.NodeID]int{},
		lanes: map[stack.NodeID]int{}, heavyTo: map[stack.NodeID]int{}}
	if plain {
		p.signs = plainLanes
	}
	names := 0
	for i, n := range o.Nodes {
		p.row[n.ID] = i
		names = max(names, view.Width(rowName(n.ID, t)))
	}
	names = min(names, max(12, columns/2))
	p.place(o)
	if names+3+2*p.wide > columns {
		return nil, false
	}
	_, path := critical(o, t)
	for w, on := range path {
		if on {
			p.heavyTo[w.from] = max(p.heavyTo[w.from], p.row[w.to])
		}
	}
	for i := range o.Nodes {
		name := view.Pad(view.Cut(rowName(o.Nodes[i].ID, t), names), names)
		line := name + "  " + strings.Join(p.cells(&o.Nodes[i], i), "")
		lines = append(lines, strings.TrimRight(line, " "))
	}
	return lines, true
}

// orderLanes are the lines that lead down from nodes to those that wait for them, side by side.
type orderLanes struct {
	signs   laneSigns
	row     map[stack.NodeID]int
	ends    map[stack.NodeID]int // the last row that waits for a node
	lanes   map[stack.NodeID]int // of each node for which somebody waits
	heavyTo map[stack.NodeID]int // the row down to which a lane is along the critical path
	wide    int                  // how many lanes there are
}

// place gives each node for which somebody waits the first lane that is free.
func (p *orderLanes) place(o *order.Order) {
	for i, n := range o.Nodes {
		for _, e := range n.After {
			if _, known := p.row[e.ID]; known {
				p.ends[e.ID] = max(p.ends[e.ID], i)
			}
		}
	}
	var busy []int // by lane, the row at which it ends
	for i, n := range o.Nodes {
		end, waited := p.ends[n.ID]
		if !waited {
			continue
		}
		at := slices.IndexFunc(busy, func(end int) bool { return end < i })
		if at < 0 {
			busy, at = append(busy, 0), len(busy)
		}
		busy[at], p.lanes[n.ID] = end, at
	}
	p.wide = len(busy)
}

// at are the signs of a node's lane in a row.
func (p *orderLanes) at(id stack.NodeID, row int) lane {
	if to, on := p.heavyTo[id]; on && row <= to {
		return p.signs.heavy
	}
	return p.signs.thin
}

// cells are what stands behind a node's name, a lane in every second one.
func (p *orderLanes) cells(n *order.Node, row int) []string {
	cells := slices.Repeat([]string{" "}, 2*p.wide+1)
	for id, l := range p.lanes { // those that pass
		if p.row[id] < row && row < p.ends[id] {
			cells[2*l+1] = p.at(id, row).down
		}
	}
	farthest, enters := -1, false
	for _, e := range n.After {
		l, known := p.lanes[e.ID]
		if !known || p.row[e.ID] >= row {
			continue
		}
		farthest, enters = max(farthest, l), true
		if cells[2*l+1] = p.at(e.ID, row).tee; p.ends[e.ID] == row {
			cells[2*l+1] = p.at(e.ID, row).last
		}
	}
	if l, begins := p.lanes[n.ID]; begins {
		cells[2*l+1] = p.at(n.ID, row).begin
		farthest = max(farthest, l)
	}
	crossed := map[string]string{" ": p.signs.across, p.signs.thin.down: p.signs.thin.cross,
		p.signs.heavy.down: p.signs.heavy.cross}
	for k := 0; k < 2*farthest+1; k++ {
		if sign, ok := crossed[cells[k]]; ok {
			cells[k] = sign
		}
	}
	if enters {
		cells[0] = p.signs.tip
	}
	return cells
}

// rowName is a node's name, with how long it took.
func rowName(id stack.NodeID, t *timeline.Timeline) string {
	name := view.Clean(id.Title())
	if took := times(id, t); took != "" {
		name += " (" + took + ")"
	}
	return name
}

// ShowOrder writes an order that is drawn with characters, and what its signs mean.
func ShowOrder(t *view.Text, o *order.Order, tl *timeline.Timeline) {
	lines, ok := OrderPicture(o, tl, t.Width-1, view.PlainSigns())
	if !ok {
		t.Line("The lines between so many do not fit into %d columns. Draw it into a file: "+
			"nharbor order --draw order.svg", t.Width)
		return
	}
	for _, line := range lines {
		fmt.Fprintln(t.Out, line)
	}
	t.Blank()
	s := lineLanes
	if view.PlainSigns() {
		s = plainLanes
	}
	t.Line("A line leads down from each to those that wait for it; %s points at them, and %s is "+
		"along the critical path.", s.tip, s.heavy.down)
	t.Line("Reasons: nharbor order")
}
