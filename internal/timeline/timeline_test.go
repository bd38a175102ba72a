package timeline

import (
	"fmt"
	"slices"
	"testing"

	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
)

func TestFar(t *testing.T) {
	t.Parallel()
	for line, want := range map[string]string{
		"[####      ] 45%": "0.45", "Downloading 12.5 MB (7.25%)": "0.07", "100 % done": "1.00",
		"fetching queue:3: 4 of 9 layers": "0.44", "[3/12] COPY . .": "0.25", "(12/12)": "1.00",
		"added 312 packages in 4s": "no", "GET /tides/1/2/3 200": "no", "built on " +
			"2026/11/27": "no", "HTTP/1.1": "no",
		"9 of 4": "no", "140%": "no", "took 3%4": "no", "1 of 1 services": "no", "": "no",
	} {
		got := "no"
		if share, ok := Far(line); ok {
			got = fmt.Sprintf("%.2f", share)
		}
		if got != want {
			t.Errorf("%q is %s, want %s", line, got, want)
		}
	}
}

// chain is db, api after db answers, web after api, and a step that web needs finished.
func chain() *order.Order {
	o := &order.Order{CriticalPath: []stack.NodeID{"service:db", "service:api"}}
	for _, n := range []order.Node{{ID: "service:db"}, {ID: "step:build:web"},
		{ID: "service:api", After: []order.Edge{{ID: "service:db", Until: stack.Answering}}},
		{ID: "service:web", After: []order.Edge{{ID: "service:api", Until: stack.Begun},
			{ID: "step:build:web", Until: stack.Finished}}}} {
		o.Nodes = append(o.Nodes, n)
	}
	return o
}

// TestCritical follows the launch back from its last by what each waited for longest.
func TestCritical(t *testing.T) {
	t.Parallel()
	tl := New(chain(), map[stack.NodeID]float64{"step:build:web": 9})
	path := func() (out []stack.NodeID) {
		for _, r := range tl.Rows {
			if r.Critical {
				out = append(out, r.ID)
			}
		}
		return out
	}
	waits := func(id stack.NodeID) []stack.NodeID { return tl.Row(id).Waits }
	for _, e := range []stack.Event{{T: 0, ID: "step:build:web", State: stack.Running},
		{T: 0, ID: "service:db", State: stack.Starting}, {T: 1, ID: "service:db",
			State: stack.IsUp}, {T: 1, ID: "service:api", State: stack.Starting}} {
		tl.Add(e)
	}
	if got := waits("service:web"); !slices.Equal(got, []stack.NodeID{"step:build:web"}) {
		t.Errorf("web waits for %v", got)
	}
	if got := path(); !slices.Equal(got, []stack.NodeID{"service:db", "service:api"}) {
		t.Errorf("while it goes on, the path that is expected is %v", got)
	}
	if got := tl.Span(2); got != 9 {
		t.Errorf("the picture spans %v s, and the build took 9 last time", got)
	}
	for _, e := range []stack.Event{{T: 2, ID: "service:api", State: stack.IsUp},
		{T: 5, ID: "step:build:web", State: stack.Done}, {T: 5, ID: "service:web",
			State: stack.Starting}, {T: 6, ID: "service:web", State: stack.IsUp}} {
		tl.Add(e)
	}
	tl.Settle(6.1)
	if got := path(); !slices.Equal(got, []stack.NodeID{"step:build:web", "service:web"}) {
		t.Errorf("everything waited for %v", got)
	}
	// What comes after the launch is told, and changes the picture of it no more.
	tl.Add(stack.Event{T: 90, ID: "service:api", State: stack.Failed, Text: "ended"})
	tl.Add(stack.Event{T: 95, ID: "service:api", State: stack.Starting})
	api := tl.Row("service:api")
	if api.State != stack.Starting || api.Since != 95 || api.Again != 1 || api.Reached != 2 ||
		tl.Span(100) != 6.1 {
		t.Errorf("after the launch api is %+v, of %v s", api, tl.Span(100))
	}
}

// FuzzAdd takes in events in any order: parts stay in order, and nothing is critical that never
// was.
func FuzzAdd(f *testing.F) {
	f.Add([]byte{0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 250, 99})
	states := []stack.State{stack.Waiting, stack.Starting, stack.IsUp, stack.Running, stack.Quiet,
		stack.Ended, stack.Failed, stack.Stopped, stack.Skipped, stack.Done, stack.Unchanged}
	ids := []stack.NodeID{"service:db", "step:build:web", "service:api", "service:web",
		"service:new"}
	f.Fuzz(func(t *testing.T, data []byte) {
		tl := New(chain(), nil)
		at := 0.0
		for _, b := range data {
			at += float64(b%7) / 10
			if b == 255 {
				tl.Settle(at + 0.01)
				continue
			}
			tl.Add(stack.Event{T: at, ID: ids[int(b)%len(ids)],
				State: states[int(b/5)%len(states)], Text: "x"})
		}
		for _, r := range tl.Rows {
			before := -1.0
			for i, p := range r.Parts {
				if p.From < before || p.To >= 0 && p.To < p.From || p.To < 0 && i < len(r.Parts)-1 {
					t.Fatalf("of %s the parts are %v", r.ID, r.Parts)
				}
				before = p.From
			}
			if r.Worked(at) < 0 {
				t.Fatalf("%s worked %v s", r.ID, r.Worked(at))
			}
		}
	})
}
