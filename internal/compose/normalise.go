package compose

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"nimbleharbor/internal/spelling"
	"nimbleharbor/internal/stack"
)

// A rule turns a value, in whichever form the specification allows, into the canonical long form,
// or reports what was expected instead. where is the key's path, for messages.
type rule func(n *normaliser, where string, v *Value) *Value

// normaliser collects what is wrong with one file.
type normaliser struct {
	data   []byte
	dir    string // the project directory, relative to the workspace
	faults stack.Faults
	noted  []stack.Remark
}

func (n *normaliser) fault(v *Value, code stack.Code, text, remedy string) {
	n.faults = append(n.faults, &stack.Fault{Kind: stack.Unreadable, Code: code, At: v.At(),
		Column: v.Column, Text: text, Line: excerpt(n.data, v.Line), Remedy: remedy})
}

func (n *normaliser) wrong(where string, v *Value, expected string) *Value {
	n.fault(v, stack.CodeComposeType,
		fmt.Sprintf("%s is %s; expected is %s", where, v.Kind, expected),
		"Write it as "+expected+".")
	return v
}

// file normalises a whole document.
func (n *normaliser) file(v *Value) *Value {
	if v.Kind == Null {
		return v.like(Mapping, "")
	}
	if v.Kind != Mapping {
		return n.wrong("the file", v, "a mapping with a key services")
	}
	return object(topLevel)(n, "", v)
}

func join(where, key string) string {
	if where == "" {
		return key
	}
	return where + "." + key
}

// mapping begins the canonical form of a mapping; what stands for none, or is none, is complete
// already.
func (n *normaliser) mapping(where string, v *Value) (out *Value, ok bool) {
	switch v.Kind {
	case Null:
		return v.like(Mapping, ""), false
	case Mapping:
		out = v.like(Mapping, "")
		out.Members = make([]Member, 0, len(v.Members))
		out.withTag(v.tag())
		return out, true
	}
	return n.wrong(where, v, "a mapping"), false
}

// object is a mapping with known keys only, and x- ones.
func object(keys map[string]rule) rule {
	return func(n *normaliser, where string, v *Value) *Value {
		out, ok := n.mapping(where, v)
		if !ok {
			return out
		}
		for _, m := range v.Members {
			r, known := keys[m.Key]
			switch {
			case strings.HasPrefix(m.Key, "x-"):
				continue
			case !known:
				at := *m.Value
				at.Line, at.Column = m.Line, m.Column
				remedy := "Remove it, or begin its name with x- if it is for another program."
				if near := spelling.Nearest(m.Key, slices.Sorted(maps.Keys(keys)),
					len(m.Key)/3+2); near != "" {
					remedy = fmt.Sprintf("Did you mean %s?", near)
				}
				n.fault(&at, stack.CodeComposeUnknownKey,
					fmt.Sprintf("the key %s is not known here", join(where, m.Key)), remedy)
				continue
			case m.Value.tag() == "!reset":
				m.Value = m.Value.copy()
			case r != nil && m.Value.Kind != Null:
				tag := m.Value.tag()
				m.Value = r(n, join(where, m.Key), m.Value)
				m.Value.withTag(tag)
			}
			out.Members = append(out.Members, m)
		}
		return out
	}
}

// mapOf is a mapping with names of the person's choice.
func mapOf(r rule) rule {
	return func(n *normaliser, where string, v *Value) *Value {
		out, ok := n.mapping(where, v)
		if !ok {
			return out
		}
		for _, m := range v.Members {
			if m.Value.tag() != "!reset" {
				tag := m.Value.tag()
				m.Value = r(n, join(where, m.Key), m.Value)
				m.Value.withTag(tag)
			}
			out.Members = append(out.Members, m)
		}
		return out
	}
}

func listOf(r rule) rule {
	return func(n *normaliser, where string, v *Value) *Value {
		if v.Kind != Sequence {
			return n.wrong(where, v, "a list")
		}
		out := v.like(Sequence, "")
		for i, item := range v.Items {
			out.Items = append(out.Items, r(n, fmt.Sprintf("%s[%d]", where, i), item))
		}
		return out
	}
}

// oneOrMore takes a single value for a list of one.
func oneOrMore(r rule) rule {
	many := listOf(r)
	return func(n *normaliser, where string, v *Value) *Value {
		if v.Kind != Sequence {
			list := v.like(Sequence, "")
			list.Items = []*Value{v}
			v = list
		}
		return many(n, where, v)
	}
}

func text(n *normaliser, where string, v *Value) *Value {
	if !v.Scalar() {
		return n.wrong(where, v, "a string")
	}
	if v.Kind == String {
		return v
	}
	return v.like(String, v.Text)
}

func truthOf(n *normaliser, where string, v *Value) *Value {
	switch strings.ToLower(v.Text) {
	case "true", "yes", "on", "1", "y":
		return v.like(Bool, "true")
	case "false", "no", "off", "0", "n":
		return v.like(Bool, "false")
	}
	return n.wrong(where, v, "true or false")
}

func number(n *normaliser, where string, v *Value) *Value {
	if _, err := strconv.ParseFloat(v.Text, 64); !v.Scalar() || err != nil {
		return n.wrong(where, v, "a number")
	}
	return v.like(Number, v.Text)
}

func scalar(n *normaliser, where string, v *Value) *Value {
	if !v.Scalar() {
		return n.wrong(where, v, "a single value")
	}
	return v
}

func anything(_ *normaliser, _ string, v *Value) *Value { return v }

func choice(options ...string) rule {
	return func(n *normaliser, where string, v *Value) *Value {
		if !v.Scalar() || !slices.Contains(options, v.Text) {
			n.fault(v, stack.CodeComposeValue,
				fmt.Sprintf("%s is %q; possible are %s", where, v.Text,
					strings.Join(options, ", ")), "Write one of these.")
		}
		return v.like(String, v.Text)
	}
}

// duration follows the specification's chapter "Specifying durations": 1m30s, 500ms, 2h.
func duration(n *normaliser, where string, v *Value) *Value {
	if _, err := ParseDuration(v.Text); !v.Scalar() || err != nil {
		n.fault(v, stack.CodeComposeValue,
			fmt.Sprintf("%s is %q, which is no duration", where, v.Text),
			"Write it like 1m30s, with the units us, ms, s, m and h.")
	}
	return v.like(String, v.Text)
}

// ParseDuration reads a duration of the specification: numbers with the units us, ms, s, m, h.
func ParseDuration(s string) (time.Duration, error) {
	d, err := time.ParseDuration(s)
	if err == nil && d < 0 {
		return 0, fmt.Errorf("the duration %q is negative", s)
	}
	return d, err
}

// pairs takes a mapping, or a list of KEY=VALUE, for a mapping of strings; a key without a value
// keeps none, and takes it from the environment.
func pairs(n *normaliser, where string, v *Value) *Value {
	out := v.like(Mapping, "")
	out.Members = make([]Member, 0, len(v.Members)+len(v.Items))
	add := func(key string, at, value *Value) {
		if v.Kind == Sequence { // which may name a key twice
			out.Remove(key)
		}
		out.add(Member{Key: key, Line: at.Line, Column: at.Column, Value: value})
	}
	switch v.Kind {
	case Null:
	case Mapping:
		for _, m := range v.Members {
			value := m.Value
			if value.Kind != Null && value.tag() == "" {
				value = text(n, join(where, m.Key), value)
			}
			add(m.Key, &Value{Line: m.Line, Column: m.Column}, value)
		}
	case Sequence:
		for i, item := range v.Items {
			if !item.Scalar() {
				n.wrong(fmt.Sprintf("%s[%d]", where, i), item, "KEY=VALUE")
				continue
			}
			key, value, has := strings.Cut(item.Text, "=")
			if has {
				member := item.like(String, value)
				if item.rare != nil && item.rare.behind != "" {
					member.set(func(r *rare) { r.variable = item.rare.behind })
				}
				add(key, item, member)
			} else {
				add(key, item, item.like(Null, ""))
			}
		}
	default:
		n.wrong(where, v, "a mapping, or a list of KEY=VALUE")
	}
	return out
}

// labels are pairs, in which a key without a value has the empty text.
func labels(n *normaliser, where string, v *Value) *Value {
	out := pairs(n, where, v)
	for i := range out.Members {
		if m := &out.Members[i]; m.Value.Kind == Null && m.Value.tag() == "" {
			m.Value = m.Value.like(String, "")
		}
	}
	return out
}

// words takes a command as one line, split as a shell would, or as a list.
func words(n *normaliser, where string, v *Value) *Value {
	if v.Kind == Sequence {
		return listOf(text)(n, where, v)
	}
	if !v.Scalar() {
		return n.wrong(where, v, "a command line, or a list of words")
	}
	fields, err := SplitCommand(v.Text)
	if err != nil {
		n.fault(v, stack.CodeComposeValue, fmt.Sprintf("%s: %v", where, err),
			"Close the quote, or write the command as a list.")
	}
	out := v.like(Sequence, "")
	for _, f := range fields {
		out.Items = append(out.Items, v.like(String, f))
	}
	return out
}

// SplitCommand splits a command line into words: white space separates, single quotes keep all,
// double quotes and backslashes protect as in a POSIX shell. Nothing is expanded.
func SplitCommand(line string) ([]string, error) {
	var words []string
	var word strings.Builder
	var quote byte
	in := false
	for i := 0; i < len(line); i++ {
		c := line[i]
		switch {
		case quote == '\'' && c != '\'', quote == '"' && c != '"' && c != '\\':
			word.WriteByte(c)
		case quote != 0 && c == quote:
			quote = 0
		case c == '\\' && i+1 < len(line):
			i++
			if quote == '"' && !strings.ContainsRune("\"\\$`\n", rune(line[i])) {
				word.WriteByte('\\')
			}
			if line[i] != '\n' {
				word.WriteByte(line[i])
			}
			in = true
		case c == '\'' || c == '"':
			quote, in = c, true
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			if in {
				words = append(words, word.String())
				word.Reset()
				in = false
			}
		default:
			word.WriteByte(c)
			in = true
		}
	}
	if quote != 0 {
		return words, fmt.Errorf("the quote %c is not closed", quote)
	}
	if in {
		words = append(words, word.String())
	}
	return words, nil
}

// named takes a list of names for a mapping of them.
func named(r rule) rule {
	return func(n *normaliser, where string, v *Value) *Value {
		if v.Scalar() {
			return n.wrong(where, v, "a list of names, or a mapping")
		}
		if v.Kind != Sequence {
			return mapOf(r)(n, where, v)
		}
		out := v.like(Mapping, "")
		for i, item := range v.Items {
			if !item.Scalar() {
				n.wrong(fmt.Sprintf("%s[%d]", where, i), item, "a name")
				continue
			}
			out.Members = append(out.Members, Member{Key: item.Text, Line: item.Line, Column: item.Column,
				Value: item.like(Mapping, "")})
		}
		return out
	}
}

func dependsOn(n *normaliser, where string, v *Value) *Value {
	out := named(object(map[string]rule{
		"condition": choice("service_started", "service_healthy", "service_completed_successfully"),
		"restart":   truthOf,
		"required":  truthOf,
	}))(n, where, v)
	for i := range out.Members {
		m := &out.Members[i]
		if m.Value.Kind == Null {
			m.Value = m.Value.like(Mapping, "")
			m.Value.Line, m.Value.Column = m.Line, m.Column
		}
	}
	return out
}

// orLong takes a string, through short, or a mapping with the given keys.
func orLong(short func(n *normaliser, where string, v *Value) *Value, keys map[string]rule) rule {
	long := object(keys)
	return func(n *normaliser, where string, v *Value) *Value {
		switch {
		case v.Kind == Mapping:
			return long(n, where, v)
		case v.Scalar():
			return short(n, where, v)
		}
		return n.wrong(where, v, "a string or a mapping")
	}
}

// asMember makes a mapping with one member of a string.
func asMember(key string, more ...string) func(*normaliser, string, *Value) *Value {
	return func(_ *normaliser, _ string, v *Value) *Value {
		out := v.like(Mapping, "")
		out.Set(key, v.like(String, v.Text))
		for i := 0; i+1 < len(more); i += 2 {
			kind := String
			if more[i+1] == "true" {
				kind = Bool
			}
			out.Set(more[i], v.like(kind, more[i+1]))
		}
		return out
	}
}

// within puts a path of the file into the project directory; ~ and absolute paths stay.
func (n *normaliser) within(p string) string {
	if p == "" || path.IsAbs(p) || strings.HasPrefix(p, "~") || drive(p) || strings.Contains(p, "://") {
		return p
	}
	return path.Join(n.dir, strings.ReplaceAll(p, `\`, "/"))
}

// drive reports whether a path begins with a drive of Windows. With a slash behind the colon only a
// capital counts, since a:/b is the volume a at /b.
func drive(p string) bool {
	return len(p) > 2 && p[1] == ':' && (p[2] == '\\' || p[2] == '/' && p[0] >= 'A' && p[0] <= 'Z')
}

func filePath(n *normaliser, where string, v *Value) *Value {
	v = text(n, where, v)
	return v.like(String, n.within(v.Text))
}

func build(n *normaliser, where string, v *Value) *Value {
	out := orLong(asMember("context"), buildKeys)(n, where, v)
	if out.Kind != Mapping {
		return out
	}
	if context := out.Get("context"); context != nil && !Remote(context.Text) {
		out.Set("context", context.like(String, n.within(context.Text)))
	}
	return out
}

func healthTest(n *normaliser, where string, v *Value) *Value {
	if v.Scalar() {
		out := v.like(Sequence, "")
		out.Items = []*Value{v.like(String, "CMD-SHELL"), v.like(String, v.Text)}
		return out
	}
	out := listOf(text)(n, where, v)
	if len(out.Items) > 0 && !slices.Contains([]string{"NONE", "CMD", "CMD-SHELL"}, out.Items[0].Text) {
		n.fault(out.Items[0], stack.CodeComposeValue,
			fmt.Sprintf("%s begins with %q; possible are CMD, CMD-SHELL and NONE",
				where, out.Items[0].Text), "Put CMD before the words of the command.")
	}
	return out
}
