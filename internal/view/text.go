// Package view shows what the rest of the program has found and done: as calm text and as JSON. It
// decides nothing.
package view

import (
	"fmt"
	"io"
	"math"
	"os"
	"strings"

	"github.com/mattn/go-runewidth"
	"golang.org/x/term"

	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/value"
)

// Text writes text for a person. Width is the number of columns; Screen is true for a terminal,
// where longer lines would be cut anywhere; Colour repeats in colour what words say.
type Text struct {
	Out    io.Writer
	Width  int
	Screen bool
	Colour bool
	// Reveals is true where a person has asked for secrets to be shown.
	Reveals bool
}

// For makes a Text that suits what w is: a terminal of some width, or a pipe or file.
func For(w io.Writer) *Text {
	t := &Text{Width: 100}
	if f := FileOf(w); f != nil && term.IsTerminal(int(f.Fd())) {
		if width, _, err := term.GetSize(int(f.Fd())); err == nil && width > 20 {
			t.Width, t.Screen = width, true
		}
		t.Colour = os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
	}
	t.Out = &washer{w, t.Colour}
	return t
}

// Line writes one line, broken between words where it is wider than the screen; what follows is
// indented like the line itself and two columns more.
func (t *Text) Line(format string, args ...any) {
	line := t.shown(fmt.Sprintf(format, args...))
	indent := len(line) - len(strings.TrimLeft(line, " "))
	for i, part := range Wrap(strings.TrimLeft(line, " "), t.Width-indent-2) {
		more := ""
		if i > 0 {
			more = "  "
		}
		fmt.Fprintf(t.Out, "%s%s%s\n", strings.Repeat(" ", indent), more, part)
	}
}

// shown is a text as it can be shown: unless a person has asked for secrets, without any, and only
// then cut to a width.
func (t *Text) shown(text string) string {
	if t.Reveals {
		return text
	}
	return value.Hide(text)
}

// Blank writes an empty line.
func (t *Text) Blank() { fmt.Fprintln(t.Out) }

// Title writes a heading.
func (t *Text) Title(text string) {
	for _, part := range Wrap(t.shown(text), t.Width-2) {
		fmt.Fprintln(t.Out, t.paint("1", part))
	}
}

func (t *Text) paint(code, s string) string {
	if !t.Colour || s == "" {
		return s
	}
	return "\x1b[" + code + "m" + Clean(s) + "\x1b[0m"
}

// mood colours a word that tells a state, a verdict or a level.
func (t *Text) mood(word string) string {
	switch word {
	case "answering", "answers", "running", "finished", "done", "met", "kept", "generated", "derived", "answered":
		return t.paint("32", word)
	case "failed", "refuses", "stranger", "silent", "errs", "problem", "unmet", "missing", "quiet":
		return t.paint("31", word)
	}
	return word
}

// stacked shows a table for which the screen is too narrow: the first column, and below it the
// others.
func (t *Text) stacked(indent int, rows [][]string) {
	for _, r := range rows {
		fmt.Fprintf(t.Out, "%s%s\n", strings.Repeat(" ", indent), t.mood(r[0]))
		var line string
		var lines []string
		for _, c := range r[1:] {
			switch {
			case c == "":
			case line != "" && Width(line)+2+Width(c) <= t.Width-indent-4:
				line += "  " + c
			default:
				lines, line = append(lines, line), c
			}
		}
		for _, l := range append(lines, line)[1:] {
			for _, part := range Wrap(l, t.Width-indent-4) {
				fmt.Fprintf(t.Out, "%s%s\n", strings.Repeat(" ", indent+4), part)
			}
		}
	}
}

// table writes rows in columns, each as wide as its widest cell. The last column takes what is left
// and is broken between words; where too little is left it goes below.
func (t *Text) table(indent int, rows [][]string) {
	if len(rows) == 0 {
		return
	}
	columns := len(rows[0])
	for i, r := range rows { // before it is measured
		rows[i] = make([]string, len(r))
		for k, c := range r {
			rows[i][k] = safe(t.shown(c))
		}
	}
	widths := make([]int, columns)
	for _, r := range rows {
		for i, c := range r {
			widths[i] = max(widths[i], Width(c))
		}
	}
	before := indent
	for _, w := range widths[:columns-1] {
		before += w + 2
	}
	if before-2 > t.Width {
		t.stacked(indent, rows)
		return
	}
	left := t.Width - before
	longest := 0 // word of the last column
	for _, r := range rows {
		for _, word := range unbreakable(strings.Fields(r[columns-1]), left) {
			longest = max(longest, Width(word))
		}
	}
	below := (left < 24 || longest > left) && widths[columns-1] > left
	for _, r := range rows {
		var line strings.Builder
		line.WriteString(strings.Repeat(" ", indent))
		for i, c := range r[:columns-1] {
			line.WriteString(t.mood(c) + strings.Repeat(" ", widths[i]-Width(c)+2))
		}
		last := r[columns-1]
		if below {
			fmt.Fprintln(t.Out, strings.TrimRight(line.String(), " "))
			for _, part := range Wrap(last, t.Width-indent-4) {
				if part == "" {
					continue
				}
				fmt.Fprintf(t.Out, "%s%s\n", strings.Repeat(" ", indent+4), part)
			}
			continue
		}
		for i, part := range Wrap(last, left) {
			if i > 0 {
				line.Reset()
				line.WriteString(strings.Repeat(" ", before))
			}
			fmt.Fprintln(t.Out, strings.TrimRight(line.String()+t.mood(part), " "))
		}
	}
}

func Width(s string) int { return runewidth.StringWidth(s) }

// wrap breaks a text between words; a word wider than the limit stays whole. It gives one part at
// least.
func Wrap(s string, limit int) []string {
	s = Clean(s)
	if Width(s) <= limit {
		return []string{s}
	}
	var out []string
	line := ""
	for _, word := range unbreakable(strings.Fields(s), limit) {
		switch {
		case line == "":
			line = word
		case Width(line)+1+Width(word) <= limit:
			line += " " + word
		default:
			out = append(out, line)
			line = word
		}
	}
	return append(out, line)
}

// unbreakable joins the words of a command to one, so that it can be copied from one line.
func unbreakable(words []string, limit int) []string {
	var out []string
	for i := 0; i < len(words); i++ {
		if words[i] != "nharbor" && words[i] != "sudo" {
			out = append(out, words[i])
			continue
		}
		end := i + 1
		for end < len(words) && !strings.ContainsAny(words[end-1][len(words[end-1])-1:], ".,;:)") {
			end++
		}
		if command := strings.Join(words[i:end], " "); Width(command) <= limit {
			out = append(out, command)
			i = end - 1
		} else {
			out = append(out, words[i])
		}
	}
	return out
}

// Where writes a place as file:line.
func Where(p stack.Place) string {
	switch {
	case p.File == "":
		return ""
	case p.Line == 0:
		return p.File
	}
	return fmt.Sprintf("%s:%d", p.File, p.Line)
}

// Faults writes errors in three lines each: what happened, where, what to do next.
func (t *Text) Faults(faults stack.Faults) {
	for i, f := range faults {
		if i > 0 {
			t.Blank()
		}
		fmt.Fprintf(t.Out, "%s %s\n", t.paint("31", "error:"),
			strings.Join(Wrap(f.Text, max(40, t.Width-7)), "\n       "))
		if where := f.Where(); where != "" {
			fmt.Fprintf(t.Out, "where: %s\n", Clean(where))
			if f.Line != "" {
				fmt.Fprintf(t.Out, "       %s\n", Clean(strings.TrimSpace(f.Line)))
			}
		}
		if f.Remedy != "" {
			fmt.Fprintf(t.Out, "next:  %s\n",
				strings.Join(Wrap(f.Remedy, max(40, t.Width-7)), "\n       "))
		}
	}
}

// Count is a number of things: "1 service", "2 services".
func Count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// cut shortens a text that is wider than the room for it, and shows that it did.
func Cut(s string, room int) string {
	if Width(s) <= room {
		return s
	}
	return runewidth.Truncate(s, max(room, 1), "…")
}

// seconds is a time as one reads it.
func Seconds(s float64) string {
	switch {
	case s < 0:
		return ""
	case s == 0:
		return "0"
	case s < 0.0995:
		return fmt.Sprintf("%.0f ms", s*1000)
	case s < 9.95 && s != math.Trunc(s):
		return fmt.Sprintf("%.1f s", s)
	case s < 120:
		return fmt.Sprintf("%.0f s", s)
	case s < 7200:
		return fmt.Sprintf("%d min %02d s", int(s)/60, int(s)%60)
	}
	return fmt.Sprintf("%d h %02d min", int(s)/3600, int(s)%3600/60)
}

// sentences are a cause and a remedy, where there are such, as sentences.
func Sentences(cause, remedy string) string {
	if cause = strings.TrimSpace(cause); cause != "" && remedy != "" &&
		!strings.HasSuffix(cause, ".") {
		cause += "."
	}
	return strings.TrimSpace(cause + " " + remedy)
}

// PlainSigns reports whether the characters of a picture should be those that every terminal has.
func PlainSigns() bool {
	locale := os.Getenv("LC_ALL") + os.Getenv("LC_CTYPE") + os.Getenv("LANG")
	if v := os.Getenv("LC_ALL"); v != "" {
		locale = v
	}
	return locale != "" && !strings.Contains(strings.ToLower(strings.ReplaceAll(locale, "-", "")),
		"utf8")
}
