package board

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"nimbleharbor/internal/logs"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/steward"
	"nimbleharbor/internal/timeline"
	"nimbleharbor/internal/view"
	"nimbleharbor/internal/view/picture"
)

// News is what has become known of a stack since the board was drawn last; what is empty has
// not changed.
type News struct {
	Event    *stack.Event
	Settled  float64 // the seconds after which the launch had settled
	Record   *record.Record
	Check    *stack.Check
	Loads    map[string]steward.Load
	Said     string // by a command that was run from the board
	SaidOf   string // which command that was
	Over     bool   // everything has been stopped
	NextPane []logs.Line
	PaneOf   stack.NodeID
	PaneText string // that was looked for
}

// Does is what a board can have done; each returns at once, and what comes of it is told by
// News.
type Does interface {
	// Run runs a command of ours, such as "restart", on a service.
	Run(command, service string)
	// Open opens an address, and tells where it can't.
	Open(address string)
	// Words fetches the last lines of a node's log in which a text stands.
	Words(id stack.NodeID, text string, most int)
}

// Board is the live view of a running stack. It implements tea.Model, and is for the goroutine that
// tea runs it in.
type Board struct {
	Name  string
	does  Does
	t     *timeline.Timeline
	begun time.Time // of the launch

	record *record.Record
	check  *stack.Check
	judged map[string][]stack.PortCheck // by service
	loads  map[string]steward.Load
	pane   []logs.Line
	paneOf stack.NodeID
	said   []string // by the last command
	saidOf string
	over   bool

	// a command that ended while something else was looked at, and what it said; empty for none
	heardOf   string
	heardSaid []string

	// drawn are the rows of a launch that is over, which stay as they are until there are news, for
	// columns of one width; the one that is selected is not among them.
	drawn    map[stack.NodeID]string
	drawnFor boardColumns
	asked    time.Time // when words were asked for last

	wide, high int
	selected   stack.NodeID
	moved      bool   // by the person; until then what goes wrong is selected
	top        int    // the first row that is shown
	filter     string // of rows
	find       string // in words
	typing     *string
	typed      string // what stands there while it is typed
	showsSaid  bool
	plain      bool
	colour     bool
}

// New makes the board of a launch that began at a time.
func New(name string, t *timeline.Timeline, begun time.Time, does Does, colour bool) *Board {
	b := &Board{Name: name, t: t, begun: begun, does: does, wide: 80, high: 24,
		plain: view.PlainSigns(), colour: colour}
	for _, r := range slices.Backward(t.Rows) { // the first service, or else the first row
		if b.selected == "" || !r.ID.IsStep() || t.Row(b.selected).ID.IsStep() {
			b.selected = r.ID
		}
	}
	return b
}

// boardTick lets the bars grow and the words follow.
type boardTick time.Time

// beat is how often the board is drawn anew where nothing else happens.
const beat = 500 * time.Millisecond

func nextBeat() tea.Cmd { return tea.Tick(beat, func(t time.Time) tea.Msg { return boardTick(t) }) }

// Init begins to beat.
func (b *Board) Init() tea.Cmd { return nextBeat() }

// Update takes in a key, news, or another size.
func (b *Board) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		b.wide, b.high = msg.Width, msg.Height
	case boardTick:
		b.words()
		return b, nextBeat()
	case News:
		b.learn(&msg)
	case tea.KeyPressMsg:
		if b.typing != nil {
			b.take(msg)
			return b, nil
		}
		return b, b.key(msg.String())
	}
	return b, nil
}

func (b *Board) words() {
	if b.selected != "" &&
		// a key that repeats asks once in a while; the beat asks anyway
		time.Since(b.asked) > beat/5 {
		b.asked = time.Now()
		b.does.Words(b.selected, b.find, max(b.paneHeight(), 4))
	}
}

func (b *Board) learn(n *News) {
	if n.PaneOf == "" {
		b.drawn = nil
	}
	switch {
	case n.Event != nil:
		b.t.Add(*n.Event)
		if r := b.t.Row(b.selected); !b.moved && n.Event.State == stack.Failed && r != nil &&
			r.State != stack.Failed {
			b.selected = n.Event.ID
		}
	case n.Settled > 0:
		b.t.Settle(n.Settled)
	case n.Record != nil:
		b.record = n.Record
	case n.Check != nil:
		b.check, b.judged = n.Check, map[string][]stack.PortCheck{}
		for _, p := range n.Check.Ports {
			b.judged[p.Service] = append(b.judged[p.Service], p)
		}
	case n.Loads != nil:
		b.loads = n.Loads
	case n.SaidOf != "":
		b.heard(n.SaidOf, strings.Split(strings.TrimSpace(n.Said), "\n"))
	case n.PaneOf != "":
		if n.PaneOf == b.selected && n.PaneText == b.find {
			b.pane, b.paneOf = n.NextPane, n.PaneOf
		}
	case n.Over:
		b.over = true
	}
}

// heard shows what a command has said. It may end long after it was begun: what the person has
// asked for since, and looks at, stays until they leave it.
func (b *Board) heard(of string, said []string) {
	if b.showsSaid && b.saidOf != of {
		b.heardOf, b.heardSaid = of, said
		return
	}
	b.saidOf, b.said, b.showsSaid = of, said, true
}

// take takes a key of a text that is being typed: enter takes it, escape leaves it.
func (b *Board) take(k tea.KeyPressMsg) {
	switch k.String() {
	case "enter":
		*b.typing, b.typing = b.typed, nil
		b.choose(0)
	case "esc", "ctrl+c":
		b.typing = nil
	case "backspace":
		if r := []rune(b.typed); len(r) > 0 {
			b.typed = string(r[:len(r)-1])
		}
	default:
		b.typed += k.Text
	}
}

// key does what a key is for.
func (b *Board) key(key string) tea.Cmd {
	name, isService := b.selected.Service()
	if key == "esc" && b.showsSaid && b.heardOf != "" {
		b.saidOf, b.said, b.heardOf = b.heardOf, b.heardSaid, ""
		return nil
	}
	b.showsSaid = b.showsSaid && key != "esc"
	b.moved = true
	switch key {
	case "q", "ctrl+c":
		return tea.Quit
	case "ctrl+l": // draws all of it anew, where something else has written on the screen
		return tea.ClearScreen
	case "up", "k":
		b.choose(-1)
	case "down", "j":
		b.choose(1)
	case "pgup":
		b.choose(-10)
	case "pgdown":
		b.choose(10)
	case "home":
		b.choose(-len(b.t.Rows))
	case "end":
		b.choose(len(b.t.Rows))
	case "/":
		b.typing, b.typed, b.showsSaid = &b.filter, b.filter, false
	case "f":
		b.typing, b.typed, b.showsSaid = &b.find, b.find, false
	case "esc":
		b.filter, b.find = "", ""
	case "s", "r", "x", "d":
		command := map[string]string{"s": "restart", "r": "restart", "x": "stop",
			"d": "diagnose"}[key]
		if isService || key == "d" {
			b.does.Run(command, name)
			b.saidOf, b.said, b.showsSaid = strings.TrimSpace(command+" "+name), []string{"…"}, true
		}
	case "?":
		b.said, b.saidOf, b.showsSaid = slices.Concat(boardKeys,
			[]string{"up and down choose"}), "keys", true
	case "w":
		b.said, b.saidOf, b.showsSaid = b.changes(), "what changed since the launch", true
	case "o":
		if address := b.address(name); address != "" {
			b.does.Open(address)
		}
	case "c":
		if address := b.address(name); address != "" {
			b.said, b.saidOf, b.showsSaid = []string{address}, "copied", true
			return tea.SetClipboard(address)
		}
	}
	return nil
}

// changes tells what has changed since the launch.
func (b *Board) changes() []string {
	if b.check == nil || !b.check.Changed.Any() {
		return []string{"nothing that runs is concerned"}
	}
	c := b.check.Changed
	var out []string
	for _, one := range []struct {
		what string
		list []string
	}{{"files", c.Files}, {"new commits in", c.Commits}, {"still running with the old settings",
		c.Services}, {"to be done again", c.Steps}} {
		if len(one.list) > 0 {
			out = append(out, one.what+": "+strings.Join(one.list, ", "))
		}
	}
	if c.Remedy != "" {
		out = append(out, "make it follow: "+c.Remedy)
	}
	return out
}

// address is what a person would open of a service; empty if it has none.
func (b *Board) address(name string) string {
	for _, p := range b.judged[name] {
		return p.URL()
	}
	return ""
}

// rows are those that the filter lets through.
func (b *Board) rows() []*timeline.Row {
	if b.filter == "" {
		return b.t.Rows
	}
	var out []*timeline.Row
	for _, r := range b.t.Rows {
		if strings.Contains(strings.ToLower(r.ID.Title()+" "+string(r.State)),
			strings.ToLower(b.filter)) {
			out = append(out, r)
		}
	}
	return out
}

// choose moves the selection by so many rows, and keeps it in sight.
func (b *Board) choose(by int) {
	rows := b.rows()
	if len(rows) == 0 {
		return
	}
	at := max(slices.IndexFunc(rows, func(r *timeline.Row) bool { return r.ID == b.selected }), 0)
	at = min(max(at+by, 0), len(rows)-1)
	if rows[at].ID != b.selected {
		b.pane, b.showsSaid = nil, false
	}
	b.selected = rows[at].ID
	b.words()
}

// rowsHeight and paneHeight share the screen: the rows get what they need, up to three fifths of
// it.
func (b *Board) rowsHeight() int {
	room := b.high - 5
	return max(min(len(b.rows()), max(room*3/5, room-8)), 1)
}

func (b *Board) paneHeight() int { return max(b.high-5-b.rowsHeight(), 0) }

// View draws the board.
func (b *Board) View() tea.View {
	v := tea.NewView(strings.Join(b.Lines(time.Since(b.begun).Seconds()), "\n"))
	v.AltScreen = true
	v.WindowTitle = "nharbor: " + view.Clean(b.Name)
	return v
}

// Lines are the lines of the board at so many seconds after the launch began: none is wider than
// the terminal, and there are as many as it has.
func (b *Board) Lines(now float64) []string {
	p := &picture.Picture{Now: now, Width: b.wide, Plain: b.plain, Colour: b.colour}
	out := []string{p.Paint("1", view.Cut(b.head(now), b.wide))}
	rows := b.rows()
	height := b.rowsHeight()
	at := max(slices.IndexFunc(rows, func(r *timeline.Row) bool { return r.ID == b.selected }), 0)
	b.top = min(max(b.top, at-height+1), at)
	b.top = max(min(b.top, len(rows)-height), 0)
	cols := b.columns(rows)
	out = append(out, p.Paint("2", view.Cut(cols.head(b, p), b.wide)))
	for i := b.top; i < min(b.top+height, len(rows)); i++ {
		out = append(out, b.rowOnce(rows[i], cols, p))
	}
	if len(rows) == 0 {
		out = append(out, view.Cut("no row has "+b.filter+" in it; esc shows all", b.wide))
	}
	if more := len(rows) - height; more > 0 {
		out = append(out, p.Paint("2",
			view.Cut(fmt.Sprintf("rows %d to %d of %d", b.top+1, b.top+height, len(rows)), b.wide)))
	} else {
		out = append(out, "")
	}
	title, lines := b.paneLines(p)
	out = append(out, p.Paint("1", view.Cut(title, b.wide)))
	for i := range max(b.high-len(out)-1, 0) {
		if i < len(lines) {
			out = append(out, view.Cut(lines[i], b.wide))
		} else {
			out = append(out, "")
		}
	}
	out = append(out[:min(len(out), max(b.high-1, 1))], b.keys(p))
	return out
}

// head tells how all of it stands.
func (b *Board) head(now float64) string {
	name := view.Clean(b.Name) + "  "
	switch {
	case b.over:
		return name + "everything has been stopped; q leaves"
	case b.t.Took == 0:
		out := name + "launching for " + view.Seconds(math.Floor(now))
		if b.t.Last > 0 {
			out += ", last time " + view.Seconds(b.t.Last)
		}
		return out
	case b.check == nil:
		return name + "asking the ports"
	}
	c := b.check.Counts
	out := fmt.Sprintf("%s%d of %s run, %d answer", name, c.Running,
		view.Count(c.Expected, "service", "services"), c.Answering)
	if b.check.Answers {
		out = name + "all is as it should be: " + view.Count(c.Expected, "service", "services")
	}
	out += "; launched " + view.Seconds(math.Floor(now)) + " ago"
	if b.check.Changed.Any() {
		out += "; files have changed since (w)"
	}
	return out
}

// boardColumns are the widths of a board's columns; zero for one that there is no room for.
type boardColumns struct {
	names, state, bars, ports, load int
	span                            float64
}

// columns shares the width: names and states are always there, ports and the picture come before
// what things take.
func (b *Board) columns(rows []*timeline.Row) boardColumns {
	c := boardColumns{names: 4, state: 9}
	for _, r := range rows {
		c.names = max(c.names, view.Width(view.Clean(r.ID.Title())))
	}
	c.names = max(min(c.names, max(b.wide/4, 10), b.wide-4-c.state), 1)
	left := b.wide - 2 - c.names - 2 - c.state
	if left < 10 {
		return c
	}
	if left >= 60 {
		c.load = 15
		left -= c.load + 2
	}
	if left >= 44 {
		c.bars = min(max(left/2, left-46), 100)
		left -= c.bars + 2
	}
	c.ports = min(left-2, 60)
	now := b.t.Took
	if now == 0 {
		now = time.Since(b.begun).Seconds()
	}
	c.span = b.t.Span(now)
	return c
}

func (c boardColumns) head(b *Board, p *picture.Picture) string {
	out := "  " + view.Pad("", c.names) + "  " + view.Pad("", c.state)
	if c.bars > 0 {
		out += "  " + view.Pad(picture.Scale(c.span, c.bars), c.bars)
	}
	if c.ports > 0 {
		out += "  " + view.Pad("port", c.ports)
	}
	if c.load > 0 {
		out += "  " + "memory     load"
	}
	return out
}

// rowOnce is a row, as it was drawn before where nothing can have changed since.
func (b *Board) rowOnce(r *timeline.Row, c boardColumns, p *picture.Picture) string {
	if b.t.Took == 0 || r.ID == b.selected || picture.AtWork(r) {
		return b.row(r, c, p)
	}
	if b.drawn == nil || b.drawnFor != c {
		b.drawn, b.drawnFor = map[stack.NodeID]string{}, c
	}
	line, known := b.drawn[r.ID]
	if !known {
		line = b.row(r, c, p)
		b.drawn[r.ID] = line
	}
	return line
}

// row is one step or service. The selected one has a sign before it.
func (b *Board) row(r *timeline.Row, c boardColumns, p *picture.Picture) string {
	mark := "  "
	if r.ID == b.selected {
		mark = "> "
	}
	state := string(r.State)
	if b.wide < len(mark)+c.names+2+c.state {
		return view.Cut(mark+view.Clean(r.ID.Title()), b.wide)
	}
	line := mark + view.Pad(view.Cut(view.Clean(r.ID.Title()), c.names), c.names) + "  "
	switch {
	case r.State == stack.Failed || r.State == stack.Quiet || r.State == stack.Skipped:
		line += p.Paint("31", view.Pad(state, c.state))
	case r.State.Good() && !picture.AtWork(r):
		line += p.Paint("32", view.Pad(state, c.state))
	default:
		line += view.Pad(state, c.state)
	}
	if c.bars > 0 {
		at := *p
		if b.t.Took > 0 {
			at.Now = b.t.Took
		}
		line += "  " + at.Bar(r, c.span, c.bars, b.t.Took > 0)
	}
	if c.ports > 0 {
		line += "  " + view.Pad(view.Cut(b.portWords(r), c.ports), c.ports)
	}
	if c.load > 0 {
		line += "  " + b.loadWords(r)
	}
	return strings.TrimRight(line, " ")
}

// portWords are a row's ports with their verdicts, or what else is to be said of it.
func (b *Board) portWords(r *timeline.Row) string {
	name, isService := r.ID.Service()
	if !isService || r.State == stack.Waiting || r.State == stack.Starting ||
		r.State == stack.Failed || r.State == stack.Skipped {
		p := picture.Picture{Now: time.Since(b.begun).Seconds()}
		if b.t.Took > 0 && r.Since > b.t.Took {
			return view.Clean(r.Text)
		}
		note := p.Note(r, b.t)
		return strings.TrimLeft(strings.TrimPrefix(note, string(r.State)), ": ")
	}
	var out []string
	for _, p := range b.judged[name] {
		address := strings.TrimPrefix(strings.TrimPrefix(p.URL(), "http://localhost"), "127.0.0.1")
		says := string(p.Verdict)
		if p.Verdict == stack.Answers && p.Status > 0 {
			says = fmt.Sprintf("%s %d", says, p.Status)
		}
		out = append(out, address+" "+says)
	}
	return view.Clean(strings.Join(out, ", "))
}

// loadWords tell what a service takes: memory, and of how many processors' time.
func (b *Board) loadWords(r *timeline.Row) string {
	name, _ := r.ID.Service()
	l, known := b.loads[name]
	if !known {
		return ""
	}
	load := ""
	if l.Cores >= 0 {
		load = fmt.Sprintf("%.0f %%", l.Cores*100)
	}
	return fmt.Sprintf("%-8s %6s", size(l.Memory), load)
}

func size(bytes uint64) string {
	if bytes >= 1<<30 {
		return fmt.Sprintf("%.1f GB", float64(bytes)/(1<<30))
	}
	return fmt.Sprintf("%d MB", bytes>>20)
}

// paneLines are the words below the rows: of the selected row, or of what was asked for last.
func (b *Board) paneLines(p *picture.Picture) (title string, lines []string) {
	if b.showsSaid {
		for _, l := range b.said {
			lines = append(lines, view.Clean(l))
		}
		title = view.Clean(b.saidOf)
		if b.heardOf != "" {
			title += "; esc shows what " + view.Clean(b.heardOf) + " has said"
		}
		return title, lines
	}
	title = view.Clean(b.selected.Title()) + " says"
	if b.find != "" {
		title += ", where it says " + view.Clean(b.find)
	}
	r := b.t.Row(b.selected)
	if r == nil {
		return "", nil
	}
	if r.Text != "" && !r.State.Good() {
		lines = append(lines, view.Clean(r.Text))
	}
	for _, port := range b.judged[strings.TrimPrefix(string(b.selected), "service:")] {
		if port.Verdict != stack.Answers {
			lines = append(lines, view.Clean(view.Sentences(port.Cause, port.Remedy)))
		}
	}
	if b.paneOf != b.selected {
		return title, lines
	}
	var noted []string
	for _, l := range b.pane {
		if logs.AnnouncedIn(l.Text) > 0 || len(logs.PrintedIn([]logs.Line{l})) > 0 {
			noted = append(noted, "noted: "+view.Clean(strings.TrimSpace(l.Text)))
		}
	}
	lines = append(lines, noted[max(0, len(noted)-2):]...)
	room := max(b.paneHeight()-len(lines), 1)
	for _, l := range b.pane[max(0, len(b.pane)-room):] {
		lines = append(lines, fmt.Sprintf("%8.1fs  %s", l.Time.Sub(b.begun).Seconds(),
			view.Clean(l.Text)))
	}
	return title, lines
}

// boardKeys are the keys and what they do, the most needed first.
var boardKeys = []string{"q leave", "r restart", "x stop", "s start", "d diagnose", "o open",
	"/ rows", "f find", "c copy address", "w what changed", "esc all"}

// keys are as many of them as fit.
func (b *Board) keys(p *picture.Picture) string {
	if b.typing != nil {
		what := "show rows with: "
		if b.typing == &b.find {
			what = "show words with: "
		}
		return view.Cut(what+view.Clean(b.typed)+"_   enter takes it, esc leaves it", b.wide)
	}
	line, all := "", true
	for _, k := range boardKeys {
		if next := line + k; view.Width(next)+len("   ? keys") >= b.wide {
			all = false
			break
		}
		line += k + "   "
	}
	if !all {
		line += "? keys"
	}
	return p.Paint("2", view.Cut(strings.TrimRight(line, " "), b.wide))
}
