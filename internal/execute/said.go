package execute

import (
	"fmt"
	"strings"

	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/logs"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/stack"
)

// maxSaid is how many of its last lines are told of what has failed for an unknown reason.
const maxSaid = 3

// said is what a log says of a failure, to be put behind how it ended: the line that names the
// cause, and the cause; where none is known, the words that decide, or else the first line that
// speaks of an error and the last ones.
func (x *Executor) said(log *logs.Log) (string, record.Why) {
	r := x.readLog(log)
	if r == nil {
		return "", record.Why{}
	}
	if len(r.Causes) > 0 {
		c := r.Causes[0]
		return ": " + c.Cause + "; it said: " + c.Text + x.placeOf(r.Decisive, c.Text),
			record.Why{Code: c.Code, Cause: c.Cause, Remedy: c.Remedy, Of: c.Of}
	}
	if d := r.Decisive; d != nil {
		return "; it said: " + d.Text + x.placeOf(d, d.Text), record.Why{}
	}
	var lines []string
	if r.First != nil && !diagnose.Noise(r.First.Text) {
		lines = append(lines, r.First.Text)
	}
	for i := len(r.Last) - 1; i >= 0 && len(lines) < maxSaid; i-- {
		if t := r.Last[i].Text; !diagnose.Noise(t) && (len(lines) == 0 || lines[0] != t) {
			at := 0
			if r.First != nil && len(lines) > 0 && lines[0] == r.First.Text {
				at = 1
			}
			lines = append(lines[:at], append([]string{t}, lines[at:]...)...)
		}
	}
	if len(lines) == 0 {
		return "", record.Why{}
	}
	return "; it last said: " + strings.Join(lines, " | "), record.Why{}
}

// placeOf tells where in the code it happened that words speak of, if those that decide are among
// them: relative to the workspace where it lies there.
func (x *Executor) placeOf(d *diagnose.Decisive, text string) string {
	if d == nil || d.At == "" || !strings.Contains(text, d.Text) || strings.Contains(text, d.At) {
		return ""
	}
	at := d.At
	if rel, ok := strings.CutPrefix(at, x.Plan().Root+"/"); ok {
		at = rel
	}
	return " (" + at + ")"
}

func (x *Executor) readLog(log *logs.Log) *diagnose.Reading {
	in, err := log.Read()
	if err != nil {
		return nil
	}
	defer in.Close()
	own, _ := OwnRules(x.Plan().Causes)
	r, _ := diagnose.ReadLog(in, own...)
	return r
}

// OwnRules makes rules of the causes that a workspace knows of its own. Those that are wrong are
// left out; the fault, of the code corrections-wrong, tells of them.
func OwnRules(causes []stack.OwnCause) (out []diagnose.LogRule, err error) {
	var faults stack.Faults
	for _, c := range causes {
		r, err := diagnose.Own(c.Name, c.Line, c.Says, c.Do)
		if err != nil {
			faults = append(faults, &stack.Fault{Kind: stack.Unreadable,
				Code: stack.CodeCorrectionsWrong, At: c.At,
				Text: fmt.Sprintf("the line of the cause %s can't be used: %v", c.Name,
					err), Remedy: "Correct it.", Cause: err})
			continue
		}
		out = append(out, r)
	}
	if len(faults) > 0 {
		return out, faults
	}
	return out, nil
}
