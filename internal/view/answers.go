package view

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"nimbleharbor/internal/consent"
	"nimbleharbor/internal/needs"
	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
)

// Remarks shows what was noticed, problems first.
func (t *Text) Remarks(remarks []stack.Remark) {
	if len(remarks) == 0 {
		return
	}
	t.Blank()
	t.Title("Remarks")
	for _, r := range ByWeight(remarks) {
		at := Where(r.At)
		if strings.Contains(r.Text, at) {
			at = ""
		} else if at != "" {
			at = " (" + at + ")"
		}
		t.Line("  %s: %s%s", r.Level, r.Text, at)
		if r.Remedy != "" {
			t.Line("    %s", r.Remedy)
		}
	}
}

// byWeight are remarks with the problems first.
func ByWeight(remarks []stack.Remark) []stack.Remark {
	weight := map[stack.Level]int{stack.Problem: 0, stack.Warning: 1, stack.Note: 2}
	sorted := slices.Clone(remarks)
	slices.SortStableFunc(sorted,
		func(a, b stack.Remark) int { return weight[a.Level] - weight[b.Level] })
	return sorted
}

// Ports are the ports of a service; that they are only usual is said.
func Ports(list []stack.Port) string {
	var out []string
	for _, p := range list {
		switch {
		case p.Host == 0:
			out = append(out, fmt.Sprintf("%d inside", p.Target))
		case p.Host == p.Target:
			out = append(out, fmt.Sprint(p.Host))
		default:
			out = append(out, fmt.Sprintf("%d to %d", p.Host, p.Target))
		}
	}
	if len(out) == 0 {
		return "no port"
	}
	if list[0].Sure == stack.Usual {
		return "usually port " + strings.Join(out, ", ")
	}
	return "port " + strings.Join(out, ", ")
}

// What is what a service runs; that it is only usual is said.
func What(v stack.Service) string {
	switch {
	case v.Runs == stack.Native && v.Sure == stack.Usual:
		return "usually " + strings.Join(v.Command, " ")
	case v.Runs == stack.Native:
		return strings.Join(v.Command, " ")
	case v.Build != "":
		return "built from " + v.Build
	}
	return v.Image
}

// Needs shows what the machine must have for so many services: what is missing first, each with its
// remedy.
func (t *Text) Needs(a *needs.Answer, services int) {
	var met [][]string
	missing := false
	for i, n := range a.Needs {
		if n.Met {
			found := n.Found
			if n.Kind == needs.Tool && n.Wanted != "any version" || n.Kind == needs.Host {
				found += " (wanted " + n.Wanted + ")"
			}
			met = append(met, []string{n.Name, found, forWhom(n)})
			continue
		}
		missing = true
		unmet(t, n)
		if i+1 < len(a.Needs) && sameTrouble(n, a.Needs[i+1]) {
			continue // it is told once, below the last
		}
		t.Line("    %s", n.Remedy)
	}
	if missing && len(met) > 0 {
		t.Blank()
	}
	if len(met) > 0 {
		t.Title("Met")
		t.table(2, met)
	}
	t.Blank()
	switch {
	case services == 0:
		t.Line("Nothing that could be launched was found, so that it needs nothing. If you know " +
			"how it is started, name it in nharbor.toml; to begin with a draft: " +
			"nharbor survey --write")
	case a.Met && slices.ContainsFunc(a.Needs, func(n needs.Need) bool { return !n.Met }):
		t.Line("What a launch can't do without is there; see the lines that begin with warning.")
	case a.Met:
		t.Line("This machine has all that the launch needs.")
	default:
		t.Line("Not everything is there yet; see the lines that begin with missing.")
	}
	block(t, a.Block())
}

// unmet shows what a need that isn't met wants, and what is there instead.
func unmet(t *Text, n needs.Need) {
	level, wanted := "missing", ""
	if n.Level != "required" {
		level = "warning"
	}
	if n.Kind == needs.Tool || n.Kind == needs.Host || n.Kind == needs.Disk {
		wanted = ", wanted " + n.Wanted
	}
	t.Line("%s: %s: %s%s%s", t.mood(level), n.Name, cmp.Or(n.Found, "not installed"), wanted,
		because(n))
}

// block shows commands that can be pasted at once.
func block(t *Text, lines []string) {
	if len(lines) > 1 {
		t.Blank()
		t.Line("What commands are known for, to paste at once:")
		for _, line := range lines {
			fmt.Fprintf(t.Out, "  %s\n", line)
		}
	}
	if slices.ContainsFunc(lines, needs.Own) {
		t.Blank()
		t.Line("To run those that need no other user's rights: nharbor needs --install")
	}
}

func forWhom(n needs.Need) string {
	if len(n.For) == 0 {
		return ""
	}
	return "for " + strings.Join(n.For, ", ")
}

func because(n needs.Need) string {
	if len(n.Because) == 0 {
		return ""
	}
	return fmt.Sprintf(" (%s)", Where(n.Because[0]))
}

// Order shows the order with reasons.
func (t *Text) Order(o *order.Order) {
	if len(o.Nodes) == 0 {
		t.Line("Nothing that could be launched was found, so that nothing is to be put in order. " +
			"If you know how it is " +
			"started, name it in nharbor.toml; to begin with a draft: nharbor survey --write")
	}
	for _, n := range o.Nodes {
		fmt.Fprintf(t.Out, "%s  %s\n", Pad(n.Kind, len("service")), t.paint("1", n.ID.Title()))
		if len(n.After) == 0 {
			t.Line("    at once")
			continue
		}
		for _, e := range n.After {
			at := Where(e.At)
			if at != "" && !strings.Contains(e.Reason, at) {
				at = " (" + at + ")"
			} else {
				at = ""
			}
			t.Line("    when %s %s: %s%s", e.ID.Title(), untilWords(e), e.Reason, at)
		}
	}
	t.Remarks(o.Remarks)
	if len(o.CriticalPath) > 0 {
		var names []string
		for _, id := range o.CriticalPath {
			names = append(names, id.Title())
		}
		t.Blank()
		if o.Estimate > 0 {
			t.Line("Critical path: %s", strings.Join(names, ", then "))
			t.Line("Estimate from earlier launches: %.1f s", o.Estimate)
		} else {
			t.Line("Critical path, by guess until a launch here has been timed: %s",
				strings.Join(names, ", then "))
		}
	}
}

func untilWords(e order.Edge) string {
	if e.ID.IsStep() {
		return "is done"
	}
	switch e.Until {
	case stack.Begun:
		return "has begun"
	case stack.Finished:
		return "has finished"
	}
	return "answers"
}

// Vouch shows every command that the checkout would run.
//
// Lines that were shown for another, as those of a Dockerfile that several are built from, are not
// shown again.
func (t *Text) Vouch(list []consent.Command) {
	for i, c := range list {
		mark := ""
		if c.New {
			mark = "  (not vouched for yet)"
		}
		if c.Changed {
			mark = "  (changed since you vouched for it)"
		}
		fmt.Fprintln(t.Out, t.paint("1", c.ID.Title())+mark)
		t.Line("    %s", c.Shows)
		for at := 0; at < len(c.Detail); {
			if n, of := shownBefore(list[:i], c.Detail[at:]); n >= leastShared {
				t.Line("      %s", c.Detail[at])
				t.Line("      … and %d more lines, as for %s", n-1, of.Title())
				at += n
				continue
			}
			t.Line("      %s", c.Detail[at])
			at++
		}
		if at := Where(c.At); at != "" {
			t.Line("      %s", at)
		}
	}
}

// sameTrouble reports whether two needs are unmet for the same reason, with the same remedy.
func sameTrouble(n, next needs.Need) bool {
	return !next.Met && n.Kind == next.Kind && n.Found == next.Found && n.Remedy == next.Remedy &&
		n.Found != ""
}

// leastShared is how many lines in a row two commands must have in common for the second to refer
// to the first.
const leastShared = 4

// shownBefore tells with how many of its lines a detail begins as one of the commands has them in a
// row, and which.
func shownBefore(list []consent.Command, lines []string) (n int, of stack.NodeID) {
	for _, c := range list {
		for at := range c.Detail {
			same := 0
			for same < len(lines) && at+same < len(c.Detail) && lines[same] == c.Detail[at+same] {
				same++
			}
			if same > n {
				n, of = same, c.ID
			}
		}
	}
	return n, of
}

// Event shows one step of a launch, its time first.
func (t *Text) Event(e stack.Event, names int) {
	name := e.ID.Title()
	text := e.Text
	for i, part := range Wrap(text, max(24, t.Width-names-24)) {
		if i == 0 {
			fmt.Fprintln(t.Out,
				strings.TrimRight(fmt.Sprintf("%7.1fs  %s  %s  %s", e.T, Pad(name, names),
					t.mood(string(e.State))+strings.Repeat(" ",
						max(0, 9-Width(string(e.State)))), part), " "))
		} else {
			fmt.Fprintf(t.Out, "%s%s\n", strings.Repeat(" ", names+23), part)
		}
	}
}

func Pad(s string, n int) string { return s + strings.Repeat(" ", max(0, n-Width(s))) }

// LogLine shows one line of a log, its time first, in seconds since the launch. On a screen a long
// one is broken between words; elsewhere it stays one line, for programs that read it.
func (t *Text) LogLine(seconds float64, source, text string, sources int) {
	parts, before := []string{Clean(text)}, fmt.Sprintf("%7.1fs  %s  ", seconds,
		Pad(source, sources))
	if t.Screen && Width(before)+Width(parts[0]) > t.Width {
		if t.Width-Width(before) < 24 { // the name on a line of its own
			fmt.Fprintln(t.Out, strings.TrimRight(before, " "))
			before = strings.Repeat(" ", 10)
		}
		parts = Wrap(text, t.Width-Width(before))
	}
	for i, part := range parts {
		if i > 0 {
			before = strings.Repeat(" ", Width(before))
		}
		fmt.Fprintf(t.Out, "%s%s\n", before, part)
	}
}

// Why shows what witnesses say, in the order in which they count, and which of them is taken.
func (t *Text) Why(claims []stack.Claim) {
	about, of := "", ""
	var rows [][]string
	for _, c := range claims {
		if c.About != about {
			t.table(2, rows)
			if about != "" {
				t.Blank()
			}
			t.Title(c.About)
			about, of, rows = c.About, "", nil
		}
		label, at := c.Of, string(c.Witness)
		if label == of {
			label = ""
		}
		if of = c.Of; !c.At.IsZero() {
			at += ", " + Where(c.At)
		}
		switch {
		case c.Counts:
		case c.Agrees:
			at += ", says the same"
		default:
			at += ", counts less"
		}
		rows = append(rows, []string{label, c.Says, at})
	}
	t.table(2, rows)
}
