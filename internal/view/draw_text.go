package view

import (
	"fmt"
	"slices"
	"strings"

	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/timeline"
)

// The signs of an order that is drawn with characters: lines of lanes and rows, where a lane begins, ends, or is
// entered, and the tip of an arrow; the same along the critical path.
type laneSigns struct{ down, across, begin, tee, last, tip, heavy, cross, heavyCross string }

var (
	lineLanes  = laneSigns{"│", "─", "╮", "┤", "╯", "◂", "┃", "┼", "╂"}
	plainLanes = laneSigns{"|", "-", ".", "+", "'", "<", "#", "+", "#"}
)

// OrderPicture draws an order with characters: a row for each node, and for each node that others wait for a lane that
// leads down from it to those, where an arrow points at them. Where the lanes don't fit into so many columns, ok is
// false.
func OrderPicture(o *order.Order, t *timeline.Timeline, columns int, plain bool) (lines []string, ok bool) {
	s := lineLanes
	if plain {
		s = plainLanes
	}
	row := map[stack.NodeID]int{}
	names := 0
	for i, n := range o.Nodes {
		row[n.ID] = i
		names = max(names, width(rowName(n.ID, t)))
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
	lane := map[stack.NodeID]int{}
	for i, n := range o.Nodes {
		end, waited := ends[n.ID]
		if !waited {
			continue
		}
		at := slices.IndexFunc(busy, func(end int) bool { return end < i })
		if at < 0 {
			busy, at = append(busy, 0), len(busy)
		}
		busy[at], lane[n.ID] = end, at
	}
	if names+3+2*len(busy) > columns {
		return nil, false
	}
	heavyFrom, heavyTo := map[stack.NodeID]int{}, map[stack.NodeID]int{}
	for w := range path {
		if path[w] {
			heavyFrom[w.from], heavyTo[w.from] = row[w.from], max(heavyTo[w.from], row[w.to])
		}
	}
	for i, n := range o.Nodes {
		cells := make([]string, 2*len(busy)+1)
		for k := range cells {
			cells[k] = " "
		}
		for id, l := range lane { // those that pass
			if begin, end := row[id], ends[id]; begin < i && i < end {
				cells[2*l+1] = s.down
				if to, on := heavyTo[id]; on && i <= to {
					cells[2*l+1] = s.heavy
				}
			}
		}
		farthest, enters := -1, false
		for _, e := range n.After {
			if l, known := lane[e.ID]; known && row[e.ID] < i {
				farthest, enters = max(farthest, l), true
				if cells[2*l+1] = s.tee; ends[e.ID] == i {
					cells[2*l+1] = s.last
				}
			}
		}
		if l, begins := lane[n.ID]; begins {
			cells[2*l+1] = s.begin
			farthest = max(farthest, l)
		}
		for k := 0; k < 2*farthest+1; k++ {
			switch cells[k] {
			case " ":
				cells[k] = s.across
			case s.down:
				cells[k] = s.cross
			case s.heavy:
				cells[k] = s.heavyCross
			}
		}
		if enters {
			cells[0] = s.tip
		}
		name := pad(cut(rowName(n.ID, t), names), names)
		lines = append(lines, strings.TrimRight(name+"  "+strings.Join(cells, ""), " "))
	}
	return lines, true
}

// rowName is a node's name, with how long it took.
func rowName(id stack.NodeID, t *timeline.Timeline) string {
	name := clean(id.Title())
	if took := times(id, t); took != "" {
		name += " (" + took + ")"
	}
	return name
}

// DrawnOrder writes an order that is drawn with characters, and what its signs mean.
func (t *Text) DrawnOrder(o *order.Order, tl *timeline.Timeline) {
	lines, ok := OrderPicture(o, tl, t.Width-1, PlainSigns())
	if !ok {
		t.Line("The lines between so many do not fit into %d columns. Draw it into a file: nharbor order --draw "+
			"order.svg",
			t.Width)
		return
	}
	for _, line := range lines {
		fmt.Fprintln(t.Out, line)
	}
	t.Blank()
	s := lineLanes
	if PlainSigns() {
		s = plainLanes
	}
	t.Line("A line leads down from each to those that wait for it; %s points at them, and %s is along the critical "+
		"path.",
		s.tip, s.heavy)
	t.Line("Reasons: nharbor order")
}
