// Package timeline is the picture of a launch as values: for each step and service when it waited,
// was at work, came to its aim and ended, what it still waits for, and which of them the whole
// launch had to wait for. It is made of a launch's order and its events, which may come one by one,
// and it draws nothing.
package timeline

import (
	"cmp"
	"slices"
	"strconv"
	"time"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
)

// Launch is what a timeline is made of, as the steward keeps it.
type Launch struct {
	Started time.Time   `json:"started"`
	Order   order.Order `json:"order"`
	// Last are the seconds that nodes took last time, before this launch.
	Last   map[stack.NodeID]float64 `json:"last"`
	Events []stack.Event            `json:"events"`
	// Took are the seconds until everything had settled; zero before.
	Took float64 `json:"took"`
}

// Kind is what a node does in a part of its time.
type Kind int

// The kinds.
const (
	Waits    Kind = iota // for others
	Prepares             // it waits, and its image is fetched or built meanwhile
	Works                // runs, or is started
	Is                   // it has come to its aim, and stays there
)

// Part is a part of a row's time, in seconds since the launch. To is negative where it goes on.
type Part struct {
	Kind     Kind
	From, To float64
}

// Row is what is known of one step or service: how the launch went for it and, in State, Text and
// Since, how it stands. What happens once the launch has settled changes these alone.
type Row struct {
	ID    stack.NodeID
	State stack.State
	Text  string // of the last event
	// Waits are those that it still waits for.
	Waits []stack.NodeID
	Parts []Part
	// Begun and Reached are the seconds at which it began its work and came to its aim, End those
	// at which it came to a state that nothing follows by itself; negative while that hasn't been.
	Begun, Reached, End float64
	Wrong               bool    // it failed, or never answered
	Last                float64 // how many seconds its work took last time; zero if unknown
	Critical            bool    // the launch as a whole waited, or is expected to wait, for it
	// Before is the one that a critical row waited for longest, once the launch has settled; empty
	// where it waited for none.
	Before stack.NodeID
	Again  int     // how often it was started again
	Since  float64 // the seconds at which it came to its state
	// Then and ThenText are the state, and its text, in which the launch left it.
	Then     stack.State
	ThenText string

	after []order.Edge
	place int // in the order
}

// Timeline is the picture of one launch.
type Timeline struct {
	Rows []*Row
	// Took are the seconds until everything had settled; zero before.
	Took float64
	// Last are the seconds that the critical path took last time; zero if unknown.
	Last float64

	byID     map[stack.NodeID]*Row
	expected []stack.NodeID
}

// New begins a timeline with an order. Last are the seconds that nodes took last time.
func New(o *order.Order, last map[stack.NodeID]float64) *Timeline {
	t := &Timeline{byID: map[stack.NodeID]*Row{}, expected: o.CriticalPath, Last: o.Estimate}
	for i, n := range o.Nodes {
		r := &Row{ID: n.ID, State: stack.Waiting, Begun: -1, Reached: -1, End: -1,
			Last: last[n.ID], after: n.After, place: i}
		t.Rows, t.byID[n.ID] = append(t.Rows, r), r
	}
	t.tell()
	return t
}

// Of makes the timeline of what a steward has kept.
func Of(l *Launch) *Timeline {
	t := New(&l.Order, l.Last)
	for _, e := range l.Events {
		if l.Took > 0 && t.Took == 0 && e.T > l.Took {
			t.Settle(l.Took)
		}
		t.Add(e)
	}
	if l.Took > 0 && t.Took == 0 {
		t.Settle(l.Took)
	}
	return t
}

// Row is that of a node; nil if the timeline has none.
func (t *Timeline) Row(id stack.NodeID) *Row { return t.byID[id] }

// Add takes in an event.
func (t *Timeline) Add(e stack.Event) {
	r := t.byID[e.ID]
	if r == nil { // of a service that has come since
		r = &Row{ID: e.ID, Begun: -1, Reached: -1, End: -1, place: len(t.Rows)}
		t.Rows, t.byID[e.ID] = append(t.Rows, r), r
	}
	if e.State != r.State {
		r.Since = e.T
	}
	r.State, r.Text = e.State, e.Text
	if t.Took > 0 {
		if e.State == stack.Starting {
			r.Again++
		}
		return
	}
	r.goOn(e)
	r.Wrong = e.State == stack.Failed || e.State == stack.Quiet
	if r.Begun < 0 && e.State != stack.Waiting && e.State != stack.Skipped {
		r.Begun = e.T
	}
	t.tell()
}

// goOn adds what an event of the launch means for a row: that it waits, works, has come to its aim,
// or has ended.
func (r *Row) goOn(e stack.Event) {
	works := e.State == stack.Starting || e.State == stack.Running && e.ID.IsStep()
	switch {
	case e.State == stack.Waiting && e.Kind == stack.Preparing:
		r.turn(Prepares, e.T)
	case e.State == stack.Waiting:
		r.turn(Waits, e.T)
	case works:
		if r.Reached >= 0 || r.End >= 0 {
			r.Again++
			r.Reached, r.End, r.Begun = -1, -1, -1
		}
		if r.Begun < 0 {
			r.Begun = e.T
		}
		r.turn(Works, e.T)
	case e.State.Good():
		if r.Reached < 0 {
			r.Reached = e.T
		}
		r.turn(Is, e.T)
		if e.State != stack.IsUp && e.State != stack.Running {
			r.end(e.T)
		}
	default:
		r.end(e.T)
	}
}

// Settle tells that everything has come to a state that lasts, after so many seconds.
func (t *Timeline) Settle(seconds float64) {
	t.Took = seconds
	for _, r := range t.Rows {
		r.Then, r.ThenText = r.State, r.Text
	}
	t.tell()
}

// turn begins another part, if its kind is another.
func (r *Row) turn(kind Kind, at float64) {
	if n := len(r.Parts); n > 0 {
		last := &r.Parts[n-1]
		if last.Kind == kind && last.To < 0 {
			return
		}
		if last.To < 0 {
			last.To = at
		}
	}
	r.Parts = append(r.Parts, Part{kind, at, -1})
}

func (r *Row) end(at float64) {
	if n := len(r.Parts); n > 0 && r.Parts[n-1].To < 0 {
		r.Parts[n-1].To = at
	}
	r.End = at
}

// reached is the time at which a node had come as far as another waits for; false if it hasn't.
func (r *Row) reached(until stack.Until) (float64, bool) {
	switch {
	case until == stack.Begun && r.Begun >= 0:
		return r.Begun, true
	case until == stack.Finished:
		return r.End, r.End >= 0 && r.State.Good()
	case until == stack.Answering:
		return r.Reached, r.Reached >= 0
	}
	return 0, false
}

// tell works out what follows from the events: whom each waits for, the order of rows and the
// critical path.
func (t *Timeline) tell() {
	for _, r := range t.Rows {
		r.Waits = nil
		if r.State != stack.Waiting {
			continue
		}
		for _, e := range r.after {
			if other := t.byID[e.ID]; other != nil {
				if _, ok := other.reached(e.Until); !ok {
					r.Waits = append(r.Waits, e.ID)
				}
			}
		}
	}
	slices.SortStableFunc(t.Rows, func(a, b *Row) int {
		if (a.Begun < 0) != (b.Begun < 0) {
			return cmp.Compare(b.Begun, a.Begun) // those that have begun before those that have not
		}
		return cmp.Or(cmp.Compare(a.Begun, b.Begun), cmp.Compare(a.place, b.place))
	})
	t.critical()
}

// critical marks the path for which the launch had to wait: from the last that came to its aim,
// back through what each waited for longest. While the launch goes on it is the one that is
// expected.
func (t *Timeline) critical() {
	for _, r := range t.Rows {
		r.Critical = t.Took == 0 && slices.Contains(t.expected, r.ID)
	}
	if t.Took == 0 {
		return
	}
	var last *Row
	for _, r := range t.Rows {
		if r.Begun >= 0 && r.came() <= t.Took && (last == nil || r.came() > last.came()) {
			last = r
		}
	}
	for seen := map[*Row]bool{}; last != nil && !seen[last]; {
		last.Critical, seen[last] = true, true
		var before *Row
		latest := -1.0
		for _, e := range last.after {
			if other := t.byID[e.ID]; other != nil {
				if at, ok := other.reached(e.Until); ok && at > latest {
					before, latest = other, at
				}
			}
		}
		if last.Before = ""; before != nil {
			last.Before = before.ID
		}
		last = before
	}
}

// came is when a node came to its aim, or else to its end.
func (r *Row) came() float64 {
	if r.Reached >= 0 {
		return r.Reached
	}
	return r.End
}

// Worked are the seconds that a node was at work until it came to its aim, ended, or until now.
func (r *Row) Worked(now float64) float64 {
	switch {
	case r.Begun < 0:
		return 0
	case r.came() >= 0:
		return max(r.came()-r.Begun, 0)
	}
	return max(now-r.Begun, 0)
}

// Span is how many seconds a picture has to show at a time of the launch: what has been, and what
// is still expected.
func (t *Timeline) Span(now float64) float64 {
	span := max(t.Took, 0.1)
	if t.Took == 0 {
		span = max(now, t.Last, span)
	}
	for _, r := range t.Rows {
		if r.came() > span && t.Took == 0 {
			span = r.came()
		}
		if r.Begun >= 0 && r.came() < 0 && t.Took == 0 {
			span = max(span, r.Begun+r.Last)
		}
	}
	return span
}

// Running lists the rows that are at work, or prepared, in their order.
func (t *Timeline) Running() (out []*Row) {
	for _, r := range t.Rows {
		if n := len(r.Parts); n > 0 && r.Parts[n-1].To < 0 && (r.Parts[n-1].Kind == Works ||
			r.Parts[n-1].Kind == Prepares) {
			out = append(out, r)
		}
	}
	return out
}

var (
	percent = expr.New(`(?:^|[\s(\[:])(\d{1,3})(?:\.\d+)? ?%(?:$|[^\w%])`)
	outOf   = expr.New(`(?:^|[\s(\[#])(\d{1,7}) ?(?:/| of ) ?(\d{1,7})(?:$|[\s)\],.:;])`)
)

// Far tells how far a tool is, by a line of what it says: the share that is done, from 0 to 1.
func Far(line string) (share float64, ok bool) {
	if m := percent.FindStringSubmatch(line); m != nil {
		if n, err := strconv.Atoi(m[1]); err == nil && n <= 100 {
			return float64(n) / 100, true
		}
	}
	if m := outOf.FindStringSubmatch(line); m != nil {
		done, err1 := strconv.Atoi(m[1])
		of, err2 := strconv.Atoi(m[2])
		if err1 == nil && err2 == nil && of > 1 && done <= of {
			return float64(done) / float64(of), true
		}
	}
	return 0, false
}
