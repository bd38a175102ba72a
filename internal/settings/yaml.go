package settings

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"nimbleharbor/internal/expr"
)

// yamlFormat is YAML 1.2, its first document.
type yamlFormat struct{}

func (yamlFormat) tree(name string, data []byte) (*yaml.Node, error) {
	var root yaml.Node
	err := yaml.Load(data, &root, yaml.WithV3Defaults())
	if err != nil && strings.Contains(err.Error(), "no documents") {
		return &yaml.Node{Kind: yaml.MappingNode}, nil
	}
	if err != nil {
		var le *yaml.LoadError
		line, why := 1, err.Error()
		if errors.As(err, &le) {
			line = le.Mark.Line
			why = le.Message
		}
		why, _, _ = strings.Cut(why, "'")
		return nil, unreadable(name, "YAML", line, 0, strings.TrimSpace(why))
	}
	if len(root.Content) == 0 {
		return &yaml.Node{Kind: yaml.MappingNode}, nil
	}
	if root.Content[0].Kind != yaml.MappingNode {
		return nil, unreadable(name, "YAML settings", root.Content[0].Line, 1,
			"keys with values are expected")
	}
	return root.Content[0], nil
}

func (f yamlFormat) read(name string, data []byte) ([]Entry, error) {
	root, err := f.tree(name, data)
	if err != nil {
		return nil, err
	}
	lines := lineStarts(data)
	var out []Entry
	var walk func(key, comment string, n *yaml.Node, depth int)
	walk = func(key, comment string, n *yaml.Node, depth int) {
		if depth > 100 {
			return
		}
		switch n.Kind {
		case yaml.MappingNode:
			for i := 0; i+1 < len(n.Content); i += 2 {
				k, v := n.Content[i], n.Content[i+1]
				if k.Tag == "!!merge" || v.Kind == yaml.AliasNode {
					continue
				}
				walk(join(key, k.Value), commentText(k.HeadComment, k.LineComment, v.LineComment),
					v, depth+1)
			}
		case yaml.SequenceNode:
			for i, v := range n.Content {
				walk(fmt.Sprintf("%s.%d", key, i), comment, v, depth+1)
			}
		case yaml.ScalarNode:
			e := Entry{Key: key, Value: n.Value, Line: n.Line, Comment: comment}
			if n.Tag == "!!null" {
				e.Value = ""
			}
			e.start = offset(data, lines, n.Line, n.Column)
			e.end, e.form = yamlEnd(data, e.start, n)
			out = append(out, e)
		}
	}
	walk("", "", root, 0)
	return out, nil
}

// commentText is what comments say; of what stands above a key only the last paragraph is about it.
func commentText(above string, behind ...string) string {
	above = strings.TrimSpace(above)
	if i := strings.LastIndex(above, "\n\n"); i >= 0 {
		above = above[i:]
	}
	var out []string
	for _, p := range append([]string{above}, behind...) {
		for line := range strings.Lines(p) {
			if line = strings.TrimSpace(strings.TrimLeft(line, "# \t")); line != "" {
				out = append(out, line)
			}
		}
	}
	return strings.Join(out, "\n")
}

// yamlEnd finds where a scalar ends, and how it is written.
func yamlEnd(data []byte, start int, n *yaml.Node) (int, form) {
	rest := data[start:]
	switch {
	case n.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0:
		return start, fixed
	case len(rest) > 0 && rest[0] == '"' && n.Style&yaml.DoubleQuotedStyle != 0:
		for i := 1; i < len(rest); i++ {
			if rest[i] == '\\' {
				i++
			} else if rest[i] == '"' {
				return start + i + 1, text
			}
		}
	case len(rest) > 0 && rest[0] == '\'' && n.Style&yaml.SingleQuotedStyle != 0:
		for i := 1; i < len(rest); i++ {
			if rest[i] == '\'' && i+1 < len(rest) && rest[i+1] == '\'' {
				i++
			} else if rest[i] == '\'' {
				return start + i + 1, text
			}
		}
	case n.Tag == "!!null" && n.Value == "" && start > 0 && data[start-1] == ':':
		return start, bare
	case n.Value != "" && n.Style == 0 && bytes.HasPrefix(rest, []byte(n.Value)):
		if n.Tag != "!!str" && n.Tag != "" || number.MatchString(n.Value) ||
			truth.MatchString(n.Value) {
			return start + len(n.Value), bare
		}
		return start + len(n.Value), text
	}
	return start, fixed
}

// yamlPlain are texts that need no quotes and are taken for nothing but text.
var (
	yamlPlain = expr.New(`^[A-Za-z_/][A-Za-z0-9_./@+=~-]*(:[A-Za-z0-9_./@+=~-]+)*$`)
	yamlWord  = expr.New(`(?i)^(true|false|yes|no|on|off|null|y|n|~|\.inf|\.nan)$`)
)

func (yamlFormat) write(e *Entry, value string) (string, error) {
	gap := ""
	if e.start == e.end {
		gap = " "
	}
	switch {
	case e.form == bare && (number.MatchString(value) ||
		truth.MatchString(value)), yamlPlain.MatchString(value) && !yamlWord.MatchString(value):
		return gap + value, nil
	}
	return gap + quotedJSON(value), nil
}

func lineStarts(data []byte) []int {
	out := []int{0}
	for i, c := range data {
		if c == '\n' {
			out = append(out, i+1)
		}
	}
	return out
}

// offset is the place in bytes of a line and a column that counts characters, both from 1.
func offset(data []byte, lines []int, line, column int) int {
	if line < 1 || line > len(lines) {
		return len(data)
	}
	at := lines[line-1]
	if line == 1 && bytes.HasPrefix(data, bom) {
		at += len(bom)
	}
	for ; column > 1 && at < len(data); column-- {
		at++
		for at < len(data) && data[at]&0xC0 == 0x80 {
			at++
		}
	}
	return at
}

// add inserts whole blocks of lines, indented as the file's own are. It leaves out what would go
// into a mapping that is written in braces.
func (f yamlFormat) add(file, template []byte, missing []string) ([]byte, error) {
	t, err := f.tree("", template)
	if err != nil {
		return nil, err
	}
	for _, key := range missing {
		own, err := f.tree("", file)
		if err != nil {
			return nil, err
		}
		if yamlHas(own, key) {
			continue
		}
		if at, block, ok := f.block(file, template, own, t, key); ok {
			head := ended(slices.Clone(file[:at]))
			file = slices.Concat(head, []byte(block), file[at:])
		}
	}
	return file, nil
}

func yamlGet(n *yaml.Node, key string) (name string, k, v *yaml.Node) {
	for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
		if name := n.Content[i].Value; name == key || strings.HasPrefix(key, name+".") {
			return name, n.Content[i], n.Content[i+1]
		}
	}
	return "", nil, nil
}

func yamlHas(n *yaml.Node, key string) bool {
	for {
		name, _, v := yamlGet(n, key)
		if v == nil || name == key {
			return v != nil
		}
		n, key = v, strings.TrimPrefix(key, name+".")
	}
}

func (yamlFormat) block(file, template []byte, own, want *yaml.Node,
	key string) (at int, block string, ok bool) {
	ownLines, wantLines := strings.SplitAfter(string(file),
		"\n"), strings.SplitAfter(string(template), "\n")
	for {
		name, k, v := yamlGet(want, key)
		if k == nil || own.Style&yaml.FlowStyle != 0 {
			return 0, "", false
		}
		if _, ownKey, ownValue := yamlGet(own, name); ownKey != nil {
			if v.Kind != yaml.MappingNode || ownValue.Kind != yaml.MappingNode {
				return 0, "", false
			}
			own, want, key = ownValue, v, strings.TrimPrefix(key, name+".")
			continue
		}
		first, last := withComment(wantLines, k.Line), blockEnd(wantLines, k.Line)
		indent := 0
		if len(own.Content) > 0 {
			indent = own.Content[0].Column - 1
		}
		// Behind the nearest key above it that both have, else before the first.
		at, found := 0, false
		for i := 0; i < len(want.Content) && want.Content[i] != k; i += 2 {
			if _, prior, _ := yamlGet(own, want.Content[i].Value); prior != nil &&
				prior.Value == want.Content[i].Value {
				at, found = len(strings.Join(ownLines[:blockEnd(ownLines, prior.Line)], "")), true
			}
		}
		if !found && len(own.Content) > 0 {
			at = len(strings.Join(ownLines[:withComment(ownLines, own.Content[0].Line)-1], ""))
		} else if !found {
			at = len(file)
		}
		return at, moved(wantLines[first-1:last], k.Column-1, indent, lineEnd(file)), true
	}
}

// moved are lines with another indentation, and ends of their own.
func moved(lines []string, from, to int, end string) string {
	var out strings.Builder
	for _, line := range lines {
		line = strings.TrimRight(line, "\r\n")
		if len(line) >= from && strings.TrimSpace(line) != "" {
			line = strings.Repeat(" ", to) + line[from:]
		}
		out.WriteString(line + end)
	}
	return out.String()
}

// blockEnd is the last line, counted from 1, of the block that a key begins on its line.
func blockEnd(lines []string, line int) int {
	indent := len(lines[line-1]) - len(strings.TrimLeft(lines[line-1], " "))
	for i := line; i < len(lines); i++ {
		trimmed := strings.TrimSpace(lines[i])
		own := len(lines[i]) - len(strings.TrimLeft(lines[i], " "))
		if trimmed != "" && trimmed[0] != '#' && own <= indent &&
			!(own == indent && strings.HasPrefix(trimmed, "- ")) {
			return lastFull(lines, line, i)
		}
	}
	return lastFull(lines, line, len(lines))
}

// lastFull is the last line up to end that is neither empty nor a comment, or line.
func lastFull(lines []string, line, end int) int {
	for end > line && (strings.TrimSpace(lines[end-1]) == "" ||
		strings.HasPrefix(strings.TrimSpace(lines[end-1]), "#")) {
		end--
	}
	return end
}
