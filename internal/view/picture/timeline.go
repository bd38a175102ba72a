package picture

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/timeline"
	"nimbleharbor/internal/view"
)

// Picture says how a timeline is drawn with characters.
type Picture struct {
	Now    float64 // seconds since the launch
	Width  int     // columns of the whole
	Plain  bool    // without characters that not every terminal has
	Colour bool
	// Said are the last words of each node, without secrets; those of the ones at work are shown.
	Said map[stack.NodeID]string
	Most int // rows at most; zero for all
}

// signs are the characters of a picture.
type signs struct{ waits, prepares, works, critical, aim, failed, before, last string }

var (
	lineSigns = signs{"·", "┄", "─", "━", "●", "×", "╌", "┊"}
	plainSign = signs{".", "~", "-", "=", "o", "x", "_", ":"}
)

// pick gives the signs that a picture is drawn with.
func (p *Picture) signs() signs {
	if p.Plain {
		return plainSign
	}
	return lineSigns
}

// Legend says what the signs of a picture mean.
func (p *Picture) Legend() string {
	s := p.signs()
	return fmt.Sprintf("%s waits; %s is prepared; %s at work; %s at work, and everything waited "+
		"for it; %s there; "+
		"%s failed; %s last time", s.waits, s.prepares, s.works, s.critical, s.aim, s.failed,
		s.last)
}

// columns shares the width among the names, the picture and the words beside it.
func (p *Picture) columns(rows []*timeline.Row) (names, bars int) {
	for _, r := range rows {
		names = max(names, view.Width(r.ID.Title()))
	}
	names = min(names, max(8, p.Width/4))
	bars = (p.Width - names - 4) * 2 / 5
	return names, max(bars, 8)
}

// Lines draws a timeline, a line for each row and one for the Scale above. Rows that there is no
// room for are counted in a last line, never left out in silence: those at work are shown first,
// then the critical path.
func (p *Picture) Lines(t *timeline.Timeline) []string {
	rows, left := p.chosen(t)
	if p.Width < narrow {
		return p.words(t, rows, left)
	}
	names, bars := p.columns(rows)
	span := t.Span(p.Now)
	so := view.Seconds(math.Floor(p.Now))
	if t.Took > 0 {
		so = view.Seconds(t.Took)
	}
	out := []string{p.Paint("2", strings.TrimRight(view.Pad(view.Cut(so, names),
		names+2)+Scale(span, bars), " "))}
	for _, r := range rows {
		line := view.Pad(view.Cut(view.Clean(r.ID.Title()), names), names) + "  " +
			p.Bar(r, span, bars, t.Took > 0) + "  "
		room := p.Width - names - bars - 4
		note := p.Note(r, t)
		if note = view.Cut(note, room); !AtWork(r) {
			note = p.mood(r.State, note)
		}
		out = append(out, strings.TrimRight(line+note, " "))
		if words := view.Clean(p.Said[r.ID]); words != "" && t.Took == 0 && AtWork(r) &&
			p.Most == 0 {
			out = append(out, p.Paint("2", view.Pad("", names+2)+view.Cut(words, p.Width-names-2)))
		}
	}
	if left != "" {
		out = append(out, p.Paint("2", view.Cut(left, p.Width)))
	}
	return out
}

// narrow is the number of columns from which on there is room for bars.
const narrow = 40

// words tells the same without bars.
func (p *Picture) words(t *timeline.Timeline, rows []*timeline.Row, left string) (out []string) {
	for _, r := range rows {
		out = append(out, p.mood(r.State,
			view.Cut(view.Cut(view.Clean(r.ID.Title()), max(p.Width/2, 8))+"  "+p.Note(r, t),
				p.Width)))
	}
	if left != "" {
		out = append(out, view.Cut(left, p.Width))
	}
	return out
}

func AtWork(r *timeline.Row) bool {
	n := len(r.Parts)
	return n > 0 && r.Parts[n-1].To < 0 &&
		(r.Parts[n-1].Kind == timeline.Works || r.Parts[n-1].Kind ==
			timeline.Prepares)
}

// chosen are the rows that are drawn, and what is to be said of the others.
func (p *Picture) chosen(t *timeline.Timeline) (rows []*timeline.Row, left string) {
	if p.Most == 0 || len(t.Rows) <= p.Most {
		return t.Rows, ""
	}
	rank := func(r *timeline.Row) int {
		switch {
		case !r.State.Good() && r.End >= 0:
			return 0
		case AtWork(r):
			return 1
		case r.Critical:
			return 2
		case r.State != stack.Waiting:
			return 3
		}
		return 4
	}
	by := slices.Clone(t.Rows)
	slices.SortStableFunc(by, func(a, b *timeline.Row) int { return rank(a) - rank(b) })
	kept := map[*timeline.Row]bool{}
	for _, r := range by[:max(p.Most-1, 1)] {
		kept[r] = true
	}
	states := map[stack.State]int{}
	for _, r := range t.Rows {
		if kept[r] {
			rows = append(rows, r)
		} else {
			states[r.State]++
		}
	}
	return rows, "and " + counted(states)
}

// counted tells how many are in which state, the most first.
func counted(states map[stack.State]int) string {
	var list []stack.State
	for s := range states {
		list = append(list, s)
	}
	slices.SortFunc(list, func(a, b stack.State) int {
		if states[a] != states[b] {
			return states[b] - states[a]
		}
		return strings.Compare(string(a), string(b))
	})
	var out []string
	for _, s := range list {
		out = append(out, fmt.Sprintf("%d %s", states[s], s))
	}
	return strings.Join(out, ", ")
}

// Scale is the line of times above the bars.
func Scale(span float64, bars int) string {
	step := 1.0
	for _, s := range []float64{0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1800, 3600} {
		if step = s; span/s*10 <= float64(bars) {
			break
		}
	}
	line := []rune(strings.Repeat(" ", bars))
	for at := 0.0; at <= span; at += step {
		text := []rune(view.Seconds(at))
		if x := int(at / span * float64(bars)); x+len(text) <= bars {
			copy(line[x:], text)
		}
	}
	return string(line)
}

// Bar draws a row's time. What lasted less than a column is still seen.
func (p *Picture) Bar(r *timeline.Row, span float64, bars int, over bool) string {
	s := p.signs()
	cells := slices.Repeat([]string{" "}, bars)
	column := func(at float64) int { return min(max(int(at/span*float64(bars)), 0), bars-1) }
	put := func(from, to int, sign string) {
		for x := from; x < to; x++ {
			cells[x] = sign
		}
	}
	if end := r.Begun + r.Last; r.Last > 0 && r.Begun >= 0 && r.State != stack.Unchanged &&
		end <= span*1.001 {
		if !over && AtWork(r) {
			put(column(p.Now), column(end), s.before)
		}
		cells[column(end)] = s.last
	}
	signs := map[timeline.Kind]string{timeline.Waits: s.waits, timeline.Prepares: s.prepares,
		timeline.Works: s.works}
	if r.Critical {
		signs[timeline.Works] = s.critical
	}
	for _, part := range r.Parts {
		to := part.To
		if to < 0 {
			to = p.Now
		}
		if sign := signs[part.Kind]; sign != "" && part.From <= span {
			put(column(part.From), column(to-1e-9)+1, sign)
		}
	}
	mark, sign := r.Reached, s.aim
	if r.End >= 0 && r.Wrong {
		mark, sign = r.End, s.failed
	}
	if mark >= 0 && mark <= span*1.001 {
		cells[column(mark)] = sign
	}
	return strings.Join(cells, "")
}

// Note is what is said beside a row.
func (p *Picture) Note(r *timeline.Row, t *timeline.Timeline) string {
	state := string(r.State)
	switch {
	case t.Took > 0 && r.Since > t.Took: // how the launch left it, and what became of it
		return p.noteAfterwards(r, t)
	case r.State == stack.Waiting:
		return p.noteWaiting(r)
	case AtWork(r):
		return p.noteAtWork(r)
	case r.State == stack.Unchanged:
		return state
	case r.State.Good():
		how := " after "
		if r.ID.IsStep() || r.State == stack.Ended {
			how = " in "
		}
		return state + how + view.Seconds(r.Worked(p.Now))
	case r.Text != "" && r.State != stack.Stopped:
		return state + ": " + view.Clean(r.Text)
	}
	return state
}

// noteAfterwards tells what has become of a node since the launch.
func (p *Picture) noteAfterwards(r *timeline.Row, t *timeline.Timeline) string {
	then := *r
	then.State, then.Text, then.Since = r.Then, r.ThenText, 0
	later := ", " + string(r.State)
	if r.Again > 0 {
		later += " again"
	}
	later += " at " + view.Seconds(r.Since)
	if !r.State.Good() && r.Text != "" && r.State != stack.Stopped {
		later += ": " + view.Clean(r.Text)
	}
	return strings.TrimPrefix(p.Note(&then, t)+later, ", ")
}

// noteWaiting tells what a node waits for, or what is prepared for it meanwhile.
func (p *Picture) noteWaiting(r *timeline.Row) string {
	if n := len(r.Parts); n > 0 && r.Parts[n-1].Kind == timeline.Prepares {
		return view.Clean(r.Text) + cmp.Or(far(r.Text), far(p.Said[r.ID]))
	}
	var names []string
	for _, id := range r.Waits {
		names = append(names, id.Title())
	}
	if len(names) == 0 {
		return "waits"
	}
	return "waits for " + view.Clean(strings.Join(names, ", "))
}

// noteAtWork tells how long a node has been at work, how far it is, and how long it took last time.
func (p *Picture) noteAtWork(r *timeline.Row) string {
	out := string(r.State)
	if worked := math.Floor(r.Worked(p.Now)); worked > 0 {
		out += " " + view.Seconds(worked)
	}
	if r.ID.IsStep() { // what a service counts is hardly its start
		out += far(p.Said[r.ID])
	}
	if r.Last >= 0.5 {
		out += ", last time " + view.Seconds(r.Last)
	}
	return out
}

// far tells how far a tool is, where its words tell.
func far(words string) string {
	if share, ok := timeline.Far(words); ok {
		return fmt.Sprintf(", %.0f %%", share*100)
	}
	return ""
}

func (p *Picture) Paint(code, s string) string {
	if !p.Colour || strings.TrimSpace(s) == "" {
		return s
	}
	return "\x1b[" + code + "m" + s + "\x1b[0m"
}

// mood colours a note by the state that it begins with.
func (p *Picture) mood(s stack.State, note string) string {
	switch {
	case s == stack.Failed || s == stack.Quiet || s == stack.Skipped:
		return p.Paint("31", note)
	case s.Good():
		return p.Paint("32", note)
	}
	return note
}

// Brief are the rows of a timeline that has settled which are worth a line: those that took more
// than a fiftieth of the time, that everything waited for, or that went wrong. The rest is told in
// a sentence.
func Brief(t *timeline.Timeline, most int) (brief *timeline.Timeline, rest string) {
	if len(t.Rows) <= most {
		return t, ""
	}
	out := *t
	out.Rows = nil
	longest, left := 0.0, 0
	for _, r := range t.Rows {
		if r.Critical || r.End >= 0 && !r.State.Good() && r.State != stack.Stopped ||
			r.Worked(t.Took) >= t.Took/50 {
			out.Rows = append(out.Rows, r)
			continue
		}
		left++
		longest = max(longest, r.Worked(t.Took))
	}
	if left > 0 {
		rest = fmt.Sprintf("and %d more, none of which took longer than %s", left,
			view.Seconds(max(longest, 0.1)))
	}
	return &out, rest
}

// mostBrief is how many rows of a launch that is over are shown, however little each took.
const mostBrief = 12

// Show writes a launch that has settled, with what its signs mean.
func Show(t *view.Text, tl *timeline.Timeline) {
	p := Picture{Now: tl.Took, Width: t.Width - 1, Plain: view.PlainSigns(), Colour: t.Colour}
	brief, rest := Brief(tl, mostBrief)
	for _, line := range p.Lines(brief) {
		fmt.Fprintln(t.Out, line)
	}
	if rest != "" {
		t.Line("%s", rest)
	}
	t.Blank()
	for _, part := range view.Wrap(p.Legend(), t.Width-2) {
		fmt.Fprintln(t.Out, part)
	}
}

// StillAt tells of a step that is at work for so many seconds: how long it took last time, how far
// it is, and its last words.
func StillAt(took, last float64, said string) string {
	out := "for " + view.Seconds(math.Round(took))
	if last >= 0.5 {
		out += ", last time " + view.Seconds(last)
	}
	out += far(said)
	if said = strings.TrimSpace(said); said != "" {
		out += "; it last said: " + view.Cut(view.Clean(said), 100)
	}
	return out
}
