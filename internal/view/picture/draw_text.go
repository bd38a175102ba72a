package picture

import (
	"fmt"
	"nimbleharbor/internal/view"
	"slices"
	"strings"

	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/timeline"
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
	s := lineLanes
	if plain {
		s = plainLanes
	}
	row := map[stack.NodeID]int{}
	names := 0
	for i, n := range o.Nodes {
		row[n.ID] = i
		names = max(names, view.Width(rowName(n.ID, t)))
	}
	names = min(names, max(12, columns/2))
	ends := map[stack.NodeID]int{} // the last row that waits for a node
	for i, n := range o.Nodes {
		for _, e := range n.After {
			if _, known := row[e.ID]; known {
				ends[e.ID] = max(ends[e.ID], i)
			}
		}
	}
	_, path := critical(o, t)
	var busy []int // by lane, the row at which it ends
	lanes := map[stack.NodeID]int{}
	for i, n := range o.Nodes {
		end, waited := ends[n.ID]
		if !waited {
			continue
		}
		at := slices.IndexFunc(busy, func(end int) bool { return end < i })
		if at < 0 {
			busy, at = append(busy, 0), len(busy)
		}
		busy[at], lanes[n.ID] = end, at
	}
	if names+3+2*len(busy) > columns {
		return nil, false
	}
	heavyTo := map[stack.NodeID]int{} // the row down to which a lane is along the critical path
	for w, on := range path {
		if on {
			heavyTo[w.from] = max(heavyTo[w.from], row[w.to])
		}
	}
	signsAt := func(id stack.NodeID, i int) lane {
		if to, on := heavyTo[id]; on && i <= to {
			return s.heavy
		}
		return s.thin
	}
	for i, n := range o.Nodes {
		cells := make([]string, 2*len(busy)+1)
		for k := range cells {
			cells[k] = " "
		}
		for id, l := range lanes { // those that pass
			if begin, end := row[id], ends[id]; begin < i && i < end {
				cells[2*l+1] = signsAt(id, i).down
			}
		}
		farthest, enters := -1, false
		for _, e := range n.After {
			if l, known := lanes[e.ID]; known && row[e.ID] < i {
				farthest, enters = max(farthest, l), true
				if cells[2*l+1] = signsAt(e.ID, i).tee; ends[e.ID] == i {
					cells[2*l+1] = signsAt(e.ID, i).last
				}
			}
		}
		if l, begins := lanes[n.ID]; begins {
			cells[2*l+1] = signsAt(n.ID, i).begin
			farthest = max(farthest, l)
		}
		for k := 0; k < 2*farthest+1; k++ {
			switch cells[k] {
			case " ":
				cells[k] = s.across
			case s.thin.down:
				cells[k] = s.thin.cross
			case s.heavy.down:
				cells[k] = s.heavy.cross
			}
		}
		if enters {
			cells[0] = s.tip
		}
		name := view.Pad(view.Cut(rowName(n.ID, t), names), names)
		lines = append(lines, strings.TrimRight(name+"  "+strings.Join(cells, ""), " "))
	}
	return lines, true
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
