package board

import (
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"nimbleharbor/internal/logs"
	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/steward"
	"nimbleharbor/internal/timeline"
	"nimbleharbor/internal/view"
)

// done is what a board has had done.
type done struct{ list []string }

func (d *done) Run(command, service string) {
	d.list = append(d.list, command+" "+service)
}
func (d *done) Open(address string) {
	d.list = append(d.list, "open "+address)
}
func (d *done) Words(id stack.NodeID, text string, most int) {}

// fleet is a board of so many services that have been launched, named by name.
func fleet(count int, name func(i int) string, does Does, colour bool) *Board {
	o := &order.Order{Estimate: 20}
	var events []stack.Event
	ports, loads := []stack.PortCheck{}, map[string]steward.Load{}
	for i := range count {
		id := stack.ServiceNode(name(i))
		n := order.Node{ID: id}
		if i > 0 {
			n.After = []order.Edge{{ID: o.Nodes[i/2].ID, Until: stack.Answering}}
		}
		o.Nodes = append(o.Nodes, n)
		begin := float64(i) / 10
		events = append(events, stack.Event{T: begin, ID: id, State: stack.Starting})
		switch i % 10 {
		case 7:
			events = append(events, stack.Event{T: begin + 1, ID: id, State: stack.Failed,
				Text: "ended with code 1"})
		default:
			events = append(events, stack.Event{T: begin + 2, ID: id, State: stack.IsUp})
		}
		ports = append(ports, stack.PortCheck{Service: name(i),
			Address:  fmt.Sprintf("127.0.0.1:%d", 4000+i),
			Expected: "http", Verdict: stack.Answers, Speaks: "http", Status: 200})
		loads[name(i)] = steward.Load{Memory: uint64(i) << 20, Cores: 0.01}
	}
	b := New("fleet", timeline.New(o, nil), time.Now(), does, colour)
	for _, e := range events {
		b.Update(News{Event: &e})
	}
	b.Update(News{Settled: float64(count)/10 + 2})
	b.Update(News{Check: &stack.Check{Ports: ports, Counts: stack.Counts{Expected: count}}})
	b.Update(News{Loads: loads})
	return b
}

var escapes = regexp.MustCompile("\x1b\\[[0-9;?]*[a-z]")

// TestBoardFits draws boards of all sizes with names of all kinds: no line is wider than the
// terminal, there are as many as it has, and nothing that a terminal would obey is in them but our
// own colours.
func TestBoardFits(t *testing.T) {
	t.Parallel()
	names := map[string]func(i int) string{
		"short": func(i int) string { return fmt.Sprintf("s%d", i) },
		"long": func(i int) string {
			return fmt.Sprintf("%d-%s", i, strings.Repeat("quay", 50))
		},
		"wide":    func(i int) string { return fmt.Sprintf("港口服务%d", i) },
		"hebrew":  func(i int) string { return fmt.Sprintf("נמל%d", i) },
		"hostile": func(i int) string { return fmt.Sprintf("\x1b[2J\u202egnp%d\n", i) },
	}
	for name, of := range names {
		for _, count := range []int{0, 1, 3, 100} {
			for _, size := range [][2]int{{20, 6}, {20, 40}, {40, 12}, {60, 24}, {80, 24},
				{138, 41}, {300, 90}, {
					1, 1}} {
				b := fleet(count, of, &done{}, count%2 == 1)
				b.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
				b.Update(News{PaneOf: b.selected,
					NextPane: []logs.Line{{Text: "\x1b]0;x\x07 listening on :4000 " +
						strings.Repeat("long ", 99)}}})
				lines := b.Lines(12)
				if len(lines) != max(size[1], 2) && len(lines) > size[1]+1 {
					t.Errorf("%s, %d at %v: %d lines", name, count, size, len(lines))
				}
				for _, l := range lines {
					bare := escapes.ReplaceAllString(l, "")
					if view.Width(bare) > max(size[0], 1) ||
						strings.ContainsAny(bare, "\x1b\u202e\n\x07") {
						t.Errorf("%s, %d at %v: %q is %d wide", name, count, size, l,
							view.Width(bare))
					}
				}
			}
		}
	}
}

// press gives a board keys, by their names.
func press(b *Board, keys ...string) {
	special := map[string]rune{"enter": tea.KeyEnter, "esc": tea.KeyEscape, "down": tea.KeyDown,
		"up": tea.KeyUp, "end": tea.KeyEnd, "backspace": tea.KeyBackspace}
	for _, k := range keys {
		if code, ok := special[k]; ok {
			b.Update(tea.KeyPressMsg{Code: code})
			continue
		}
		for _, r := range k {
			b.Update(tea.KeyPressMsg{Code: r, Text: string(r)})
		}
	}
}

func TestBoardObeys(t *testing.T) {
	t.Parallel()
	d := &done{}
	b := fleet(20, func(i int) string { return fmt.Sprintf("s%d", i) }, d, false)
	b.Update(tea.WindowSizeMsg{Width: 100, Height: 20})
	shows := func(want ...string) {
		t.Helper()
		text := strings.Join(b.Lines(12), "\n")
		for _, w := range want {
			if !strings.Contains(text, w) {
				t.Errorf("%q is not shown:\n%s", w, text)
			}
		}
	}
	shows("> s7 ", "failed", "ended with code 1",
		"launched 12 s ago") // what failed is chosen by itself
	press(b, "down", "r", "up", "d", "end", "x")
	press(b, "/", "s1x", "backspace", "4", "enter")
	shows("> s14 ", ":4014 answers 200", "14 MB", "1 %")
	press(b, "o", "s", "c")
	shows("copied", "http://localhost:4014")
	press(b, "esc", "/", "nothing of that", "enter")
	shows("no row has nothing of that in it")
	press(b, "esc", "f", "sea", "enter")
	shows("where it says sea")
	press(b, "w")
	shows("nothing that runs is concerned")
	// What ends while something else is looked at waits until that is left.
	b.Update(News{SaidOf: "restart s3", Said: "restarted\nall of it"})
	shows("nothing that runs is concerned", "esc shows what restart s3 has said")
	press(b, "esc")
	shows("restart s3", "all of it")
	b.Update(News{Over: true})
	shows("everything has been stopped")
	want := "restart s8; diagnose s7; stop s19; open http://localhost:4014; restart s14"
	if got := strings.Join(d.list, "; "); got != want {
		t.Errorf("done was %s", got)
	}
	if _, cmd := b.Update(tea.KeyPressMsg{Code: 'q', Text: "q"}); cmd == nil {
		t.Error("q does not leave")
	}
}

// BenchmarkBoard draws a board of 100 services; the metric is the part of a core that 20 pictures a
// second take.
func BenchmarkBoard(b *testing.B) {
	board := fleet(100, func(i int) string { return fmt.Sprintf("saltmarsh-service-%d", i) },
		&done{}, true)
	board.Update(tea.WindowSizeMsg{Width: 140, Height: 110})
	b.ReportAllocs()
	for b.Loop() {
		if v := board.View(); len(v.Content) < 1000 {
			b.Fatal(v.Content)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)*20/1e9*100, "%-of-a-core-at-20")
}
