package view

import (
	"fmt"

	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/logs"
)

// otherCauses is how many causes are shown beside the first.
const otherCauses = 3

// Diagnosed shows what logs say, the cause first.
func (t *Text) Diagnosed(list []logs.Understood) {
	if len(list) == 0 {
		t.Line("Nothing failed at the last launch. To read another log: nharbor diagnose FILE")
	}
	for i, r := range list {
		if i > 0 {
			t.Blank()
		}
		t.Title(r.Source)
		if r.How != "" && len(r.Causes) == 0 {
			t.Line("  %s", r.How)
		}
		switch {
		case len(r.Causes) > 0:
			t.cause(r.Causes[0], "  ")
			if more := r.Causes[1:min(len(r.Causes), 1+otherCauses)]; len(more) > 0 {
				t.Line("  Also in it:")
				for _, c := range more {
					t.cause(c, "    ")
				}
			}
		case r.First == nil && !r.Failed, r.CameUp > 0 && !r.Failed:
			t.Line("  Nothing in its %s names a cause of trouble.", Count(r.Lines, "line", "lines"))
		default:
			t.unknownCause(r)
		}
		for _, h := range r.Harmless {
			t.Line("  Harmless here, %s: %s", lineOf(h.Line), h.Cause)
		}
	}
}

func lineOf(n int) string {
	if n == 0 {
		return "in what was said"
	}
	return fmt.Sprintf("line %d", n)
}

func (t *Text) cause(c diagnose.Cause, before string) {
	t.Line("%s%s", before, sentence(c.Cause))
	if c.Text != "" {
		times := ""
		if c.Times > 1 {
			times = fmt.Sprintf(", %d times", c.Times)
		}
		t.Line("%s  %s%s: %s", before, lineOf(c.Line), times, c.Text)
	}
	if c.Remedy != "" {
		t.Line("%s  %s", before, c.Remedy)
	}
}

// sentence begins a text with a capital letter, unless it begins with a name.
func sentence(s string) string {
	if len(s) > 1 && s[0] >= 'a' && s[0] <= 'z' && (s[1] >= 'a' && s[1] <= 'z' || s[1] == ' ') {
		return string(s[0]-'a'+'A') + s[1:] + "."
	}
	return s + "."
}

func (t *Text) unknownCause(r logs.Understood) {
	t.Line("  Cause unknown.")
	switch {
	case r.Decisive != nil:
		t.Line("  It says on line %d: %s", r.Decisive.Line, r.Decisive.Text)
		if r.Decisive.At != "" {
			t.Line("  in code of its own: %s", r.Decisive.At)
		}
	case r.First != nil:
		t.Line("  The first error, line %d: %s", r.First.Line, r.First.Text)
		if r.Frame != nil {
			t.Line("  in code of its own, line %d: %s", r.Frame.Line, r.Frame.Text)
		}
	}
	if len(r.Last) > 0 {
		t.Line("  The last lines:")
		for _, l := range r.Last {
			t.Line("    %d  %s", l.Line, l.Text)
		}
	}
}
