package stack

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"
)

// Kind groups faults by what they mean for the person, and with that for the exit code.
type Kind int

// The kinds.
const (
	NotSo       Kind = 1   // a need unmet, a port silent, a service failed
	WrongCall   Kind = 2   // the call is wrong
	Unreadable  Kind = 3   // an input can't be read
	Missing     Kind = 4   // settings are missing
	Interrupted Kind = 130 // the person interrupted
)

// Fault is an error a person can act on: what happened, where, what to do next.
type Fault struct {
	Kind   Kind
	Code   Code
	Text   string // what happened, without a full stop
	At     Place
	Column int    // counted in bytes from 1; 0 if unknown
	Line   string // the line of the file, as it stands there; never one that may hold a secret
	Remedy string // what to do next
	Cause  error  `json:"-"`
}

// Error gives what happened and where, in one line.
func (f *Fault) Error() string {
	if where := f.Where(); where != "" {
		return where + ": " + f.Text
	}
	return f.Text
}

// Unwrap returns the cause.
func (f *Fault) Unwrap() error { return f.Cause }

// Where gives file:line:column as far as known.
func (f *Fault) Where() string {
	switch {
	case f.At.File == "":
		return ""
	case f.At.Line == 0:
		return f.At.File
	case f.Column == 0:
		return fmt.Sprintf("%s:%d", f.At.File, f.At.Line)
	}
	return fmt.Sprintf("%s:%d:%d", f.At.File, f.At.Line, f.Column)
}

// Faults are several faults found at once; it is never empty.
type Faults []*Fault

// Error joins the faults' own texts, a line each.
func (fs Faults) Error() string {
	lines := make([]string, len(fs))
	for i, f := range fs {
		lines[i] = f.Error()
	}
	return strings.Join(lines, "\n")
}

// AllFaults lists the faults in err: several, one, or, for any other error, one made of it.
func AllFaults(err error) Faults {
	if err == nil {
		return nil
	}
	var many Faults
	if errors.As(err, &many) {
		return many
	}
	var one *Fault
	if errors.As(err, &one) {
		return Faults{one}
	}
	return Faults{{Kind: NotSo, Code: CodeUnexpected, Text: err.Error(), Cause: err}}
}

// Reason is why an operation on a file failed, without the path, which the fault names by itself.
func Reason(err error) string {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err.Error()
	}
	return err.Error()
}
