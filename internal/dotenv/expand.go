package dotenv

import (
	"fmt"
	"strings"
)

// Lookup gives a variable's value and whether it is set.
type Lookup func(name string) (string, bool)

// Use is one variable that an expansion asked for.
type Use struct {
	Name string
	Set  bool // the lookup knew it
	// a default, an alternative or an error message of the expression stands in when it is not set
	Backed bool
}

// ExpandError tells why a text could not be expanded. Offset is in bytes from the text's beginning.
type ExpandError struct {
	Offset   int
	Text     string
	Variable string         // the variable that is required and missing, if that is the reason
	Says     string         // what the text says of it
	More     []*ExpandError // further ones that are required and missing
}

func (e *ExpandError) Error() string { return e.Text }

// Bounds of an expansion: how deep ${a:-${b:-…}} goes, how long a value becomes in bytes, and how
// many variables are put into one text. A checkout of which nobody has read anything may hold
// anything.
const (
	maxNesting  = 64
	maxExpanded = 1 << 20
	maxUses     = 1 << 16
)

// Expand replaces $NAME and ${NAME} in text, in every form of the Compose Specification's chapter
// on interpolation: ${N:-default}, ${N-default}, ${N:?error}, ${N?error}, ${N:+other}, ${N+other},
// nested ones included; $$ stands for one dollar sign. A dollar sign that begins none of these
// stays as it is. It returns what was used, in order; the error is an *ExpandError.
func Expand(text string, lookup Lookup) (string, []Use, error) {
	if !strings.Contains(text, "$") {
		return text, nil, nil
	}
	x := expander{text: text, lookup: lookup}
	out, err := x.until(0, true)
	if err == nil && len(x.missing) > 0 {
		first := x.missing[0]
		first.More = x.missing[1:]
		return "", x.uses, first
	}
	return out, x.uses, err
}

type expander struct {
	text    string
	pos     int
	lookup  Lookup
	uses    []Use
	missing []*ExpandError // variables that are required
}

// until expands to the end of the text or, inside braces, to the closing one, which it leaves.
// Where live is false the part is not taken: nothing in it counts as used or as missing.
func (x *expander) until(depth int, live bool) (string, error) {
	if depth > maxNesting {
		return "", &ExpandError{Offset: x.pos,
			Text: fmt.Sprintf("variables are nested more than %d deep", maxNesting)}
	}
	var out strings.Builder
	for x.pos < len(x.text) {
		if out.Len() > maxExpanded || len(x.uses) > maxUses {
			return "", &ExpandError{Offset: x.pos,
				Text: fmt.Sprintf("the value grows beyond %d bytes or %d variables",
					maxExpanded, maxUses)}
		}
		c := x.text[x.pos]
		if c == '}' && depth > 0 {
			return out.String(), nil
		}
		if c != '$' || x.pos+1 >= len(x.text) {
			out.WriteByte(c)
			x.pos++
			continue
		}
		switch next := x.text[x.pos+1]; {
		case next == '$':
			out.WriteByte('$')
			x.pos += 2
		case next == '{':
			value, err := x.braces(depth, live)
			if err != nil {
				return "", err
			}
			out.WriteString(value)
		case nameStart(next):
			x.pos++
			name := x.name()
			value, set := x.lookup(name)
			if live {
				x.uses = append(x.uses, Use{Name: name, Set: set})
			}
			out.WriteString(value)
		default:
			out.WriteByte(c)
			x.pos++
		}
	}
	if out.Len() > maxExpanded {
		return "", &ExpandError{Offset: x.pos,
			Text: fmt.Sprintf("the value grows beyond %d bytes", maxExpanded)}
	}
	return out.String(), nil
}

func (x *expander) braces(depth int, live bool) (string, error) {
	open := x.pos
	unclosed := &ExpandError{Offset: open,
		Text: "the variable's closing brace is missing: ${NAME}; a dollar sign that is meant as " +
			"one is written $$"}
	x.pos += 2
	name := x.name()
	if name == "" {
		return "", &ExpandError{Offset: open,
			Text: "a variable's name is expected after ${; a dollar sign that is meant as one " +
				"is written $$"}
	}
	if x.pos >= len(x.text) {
		return "", unclosed
	}
	value, set := x.lookup(name)
	if x.text[x.pos] == '}' {
		x.pos++
		if live {
			x.uses = append(x.uses, Use{Name: name, Set: set})
		}
		return value, nil
	}
	colon := x.text[x.pos] == ':'
	if colon {
		x.pos++
	}
	if x.pos >= len(x.text) {
		return "", unclosed
	}
	op := x.text[x.pos]
	if !strings.ContainsRune("-?+", rune(op)) {
		return "", &ExpandError{Offset: x.pos,
			Text: fmt.Sprintf("after ${%s one of } :- - :? ? :+ + is expected", name)}
	}
	x.pos++
	there := set && (!colon || value != "")
	if live {
		x.uses = append(x.uses, Use{Name: name, Set: set, Backed: true})
	}
	word, err := x.until(depth+1, live && there == (op == '+'))
	if err != nil {
		return "", err
	}
	if x.pos >= len(x.text) {
		return "", unclosed
	}
	x.pos++
	switch {
	case op == '-' && !there, op == '+' && there:
		return word, nil
	case op == '+':
		return "", nil
	case op == '?' && !there && live:
		text := fmt.Sprintf("the variable %s is required", name)
		if word != "" {
			text += ": " + word
		}
		x.missing = append(x.missing,
			&ExpandError{Offset: open, Text: text, Variable: name, Says: word})
		return "", nil
	}
	return value, nil
}

func (x *expander) name() string {
	start := x.pos
	if start >= len(x.text) || !nameStart(x.text[start]) {
		return ""
	}
	for x.pos < len(x.text) && (nameStart(x.text[x.pos]) ||
		x.text[x.pos] >= '0' && x.text[x.pos] <= '9') {
		x.pos++
	}
	return x.text[start:x.pos]
}

func nameStart(c byte) bool {
	return c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
}
