package picture

import (
	"fmt"
	"strconv"
	"strings"
	"testing"

	"nimbleharbor/internal/casefile"
	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/timeline"
	"nimbleharbor/internal/view"
)

// told makes a timeline of lines: "order" has NODE AFTER:UNTIL ..., "events" T NODE STATE TEXT,
// "last" NODE SECONDS. The nodes of path are the critical path that is expected.
func told(t testing.TB, files map[string]string) (*timeline.Timeline, map[stack.NodeID]string) {
	t.Helper()
	number := func(s string) float64 {
		n, err := strconv.ParseFloat(s, 64)
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	o := &order.Order{}
	for _, id := range strings.Fields(files["path"]) {
		o.CriticalPath = append(o.CriticalPath, stack.NodeID(id))
	}
	for line := range strings.Lines(files["order"]) {
		words := strings.Fields(line)
		n := order.Node{ID: stack.NodeID(words[0])}
		for _, w := range words[1:] {
			i := strings.LastIndex(w, ":")
			n.After = append(n.After, order.Edge{ID: stack.NodeID(w[:i]),
				Until: stack.Until(w[i+1:])})
		}
		o.Nodes = append(o.Nodes, n)
	}
	last := map[stack.NodeID]float64{}
	for line := range strings.Lines(files["last"]) {
		if id, s, _ := strings.Cut(strings.TrimSpace(line), " "); id == "all" {
			o.Estimate = number(s)
		} else {
			last[stack.NodeID(id)] = number(s)
		}
	}
	l := &timeline.Launch{Order: *o, Last: last}
	for line := range strings.Lines(files["events"]) {
		words := strings.SplitN(strings.TrimSpace(line), " ", 4)
		if words[1] == "settled" {
			l.Took = number(words[0])
			continue
		}
		state, kind, _ := strings.Cut(words[2], "/")
		e := stack.Event{T: number(words[0]), ID: stack.NodeID(words[1]), State: stack.State(state),
			Kind: stack.EventKind(kind)}
		if len(words) == 4 {
			e.Text = words[3]
		}
		l.Events = append(l.Events, e)
	}
	said := map[stack.NodeID]string{}
	for line := range strings.Lines(files["said"]) {
		id, words, _ := strings.Cut(strings.TrimSpace(line), " ")
		said[stack.NodeID(id)] = words
	}
	return timeline.Of(l), said
}

// TestTimelineIsDrawn compares pictures with those of testdata/timeline. "draw" has, line by line,
// seconds, columns, the most rows, and plain for plain characters.
func TestTimelineIsDrawn(t *testing.T) {
	t.Parallel()
	casefile.Run(t, "testdata/timeline/*.case", func(t *testing.T, c *casefile.Case) {
		tl, said := told(t, c.Files)
		var out strings.Builder
		for line := range strings.Lines(c.Files["draw"]) {
			p := Picture{Said: said}
			plain := ""
			fmt.Sscan(line, &p.Now, &p.Width, &p.Most, &plain)
			p.Plain = plain != ""
			fmt.Fprintf(&out, "-- %s", line)
			for _, l := range p.Lines(tl) {
				if view.Width(l) > p.Width {
					t.Errorf("wider than %d: %s", p.Width, l)
				}
				fmt.Fprintln(&out, strings.TrimRight(l, " "))
			}
		}
		c.Want(t, out.String())
	})
}
