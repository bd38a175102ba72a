package compose

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"

	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/value"
)

// Limits on what a compose file may be, so that a hostile one costs no more than a large one.
const (
	maxBytes   = 32 << 20
	maxDepth   = 200
	maxAliased = 1 << 18 // values that aliases write out, beyond those that stand in the file
)

// document reads one YAML file into a Value: aliases written out, merge keys applied, duplicate
// keys reported. All its faults come back together.
func document(file string, data []byte) (*Value, error) {
	one := func(line, column int, text, remedy string) error {
		f := &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeComposeSyntax,
			At: stack.Place{File: file, Line: line}, Column: column, Text: text, Remedy: remedy}
		f.Line = excerpt(data, line)
		return f
	}
	switch {
	case bytes.HasPrefix(data, []byte("\xff\xfe")), bytes.HasPrefix(data, []byte("\xfe\xff")):
		return nil, one(1, 1, "the file is written in UTF-16, and a compose file is UTF-8",
			"Save it as UTF-8: iconv -f UTF-16 -t UTF-8.")
	case bytes.IndexByte(data, 0) >= 0:
		return nil, one(0, 0, "this is a binary file, not a compose file",
			"Move it away, or name it differently.")
	case !utf8.Valid(data):
		bad := firstInvalid(data)
		line := 1 + bytes.Count(data[:bad], []byte("\n"))
		return nil, one(line, bad-bytes.LastIndexByte(data[:bad], '\n'),
			"the file is not valid UTF-8 here", "Save it as UTF-8.")
	}
	if tree, ok := inPieces(file, data, largeFile, pieceSize); ok {
		return tree, nil
	}
	root, err := parseYAML(data)
	if err != nil {
		if strings.Contains(err.Error(), "no documents") {
			return &Value{Kind: Null, File: file, Line: 1, Column: 1}, nil
		}
		var le *yaml.LoadError
		if errors.As(err, &le) {
			if le.Mark.Line == 0 && strings.Contains(le.Message, "single document") {
				return nil, one(secondDocument(data), 0,
					"a second document begins here; a compose file is one",
					"Put it into a file of its own, and name both in COMPOSE_FILE.")
			}
			return nil, one(le.Mark.Line, le.Mark.Column,
				"not valid YAML: "+plainMessage(le.Message), syntaxRemedy(data, le.Mark.Line))
		}
		return nil, one(0, 0, "not valid YAML: "+err.Error(), "Correct the file.")
	}
	r := reader{file: file, data: data}
	if root == nil {
		return &Value{Kind: Null, File: file, Line: 1, Column: 1}, nil
	}
	v := r.value(root, 0)
	if len(r.faults) > 0 {
		return nil, r.faults
	}
	return v, nil
}

// parseYAML gives the top of a document; nil for an empty one.
func parseYAML(data []byte) (*yaml.Node, error) {
	var root yaml.Node
	if err := yaml.Load(data, &root, yaml.WithV3Defaults()); err != nil {
		return nil, err
	}
	if root.Kind == 0 || len(root.Content) == 0 {
		return nil, nil
	}
	return root.Content[0], nil
}

func firstInvalid(data []byte) int {
	for i := 0; i < len(data); {
		r, n := utf8.DecodeRune(data[i:])
		if r == utf8.RuneError && n == 1 {
			return i
		}
		i += n
	}
	return 0
}

// secondDocument is the line of the last mark between documents.
func secondDocument(data []byte) int {
	found := 0
	for i, line := range bytes.Split(data, []byte("\n")) {
		if bytes.HasPrefix(line, []byte("---")) {
			found = i + 1
		}
	}
	return found
}

func plainMessage(m string) string {
	m = strings.TrimPrefix(m, "yaml: ")
	return strings.TrimSpace(m)
}

func syntaxRemedy(data []byte, line int) string {
	lines := bytes.Split(data, []byte("\n"))
	for i := max(0, line-2); i < min(len(lines), line+1); i++ {
		indent := lines[i][:len(lines[i])-len(bytes.TrimLeft(lines[i], " \t"))]
		if bytes.IndexByte(indent, '\t') >= 0 {
			return fmt.Sprintf("Line %d is indented with a tab; YAML wants spaces.", i+1)
		}
	}
	return "Look at the indentation, quotes and colons of this line and the one above."
}

// excerpt gives a line of the file as it stands there, but nothing of a value that may be a secret.
func excerpt(data []byte, line int) string {
	lines := bytes.SplitN(data, []byte("\n"), line+1)
	if line < 1 || line > len(lines) {
		return ""
	}
	return value.Excerpt(strings.TrimRight(string(lines[line-1]), "\r"))
}

type reader struct {
	file    string
	data    []byte
	before  int // lines of the file before data
	faults  stack.Faults
	aliased int
	open    []*yaml.Node // anchors being written out
	stop    bool
}

func (r *reader) fault(n *yaml.Node, text, remedy string) {
	r.faults = append(r.faults, &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeComposeSyntax,
		At:     stack.Place{File: r.file, Line: n.Line},
		Column: n.Column, Text: text, Line: excerpt(r.data, n.Line), Remedy: remedy})
}

func (r *reader) value(n *yaml.Node, depth int) *Value {
	v := &Value{File: r.file, Line: n.Line + r.before, Column: n.Column}
	if r.stop {
		return v
	}
	if len(r.open) > 0 {
		r.aliased++
	}
	if r.aliased > maxAliased {
		r.stop = true
		r.fault(n, "the aliases in this file write out to more than 262144 values",
			"Remove the nested aliases; a stack needs none of this size.")
		return v
	}
	if depth > maxDepth {
		r.stop = true
		r.fault(n, fmt.Sprintf("values are nested more than %d deep", maxDepth),
			"Flatten the file.")
		return v
	}
	if n.Tag == "!reset" || n.Tag == "!override" {
		v.withTag(n.Tag)
	}
	switch n.Kind {
	case yaml.AliasNode:
		if slices.Contains(r.open, n.Alias) {
			r.fault(n, fmt.Sprintf("the alias *%s stands inside what it stands for", n.Value),
				"Give the inner place a value of its own.")
			return v
		}
		r.open = append(r.open, n.Alias)
		v = r.value(n.Alias, depth+1)
		r.open = r.open[:len(r.open)-1]
	case yaml.ScalarNode:
		r.scalar(v, n)
	case yaml.SequenceNode:
		v.Kind = Sequence
		v.Items = make([]*Value, 0, len(n.Content))
		for _, c := range n.Content {
			v.Items = append(v.Items, r.value(c, depth+1))
		}
	case yaml.MappingNode:
		r.mapping(v, n, depth)
	}
	return v
}

func (r *reader) scalar(v *Value, n *yaml.Node) {
	v.Kind, v.Text = String, n.Value
	if v.tag() != "" {
		if n.Value == "" || n.Value == "null" || n.Value == "~" {
			v.Kind = Null
		}
		return
	}
	switch n.ShortTag() {
	case "!!null":
		v.Kind, v.Text = Null, ""
	case "!!bool":
		v.Kind, v.Text = Bool, strings.ToLower(n.Value)
	case "!!int", "!!float":
		v.Kind = Number
	}
}

func (r *reader) mapping(v *Value, n *yaml.Node, depth int) {
	v.Kind = Mapping
	v.Members = make([]Member, 0, len(n.Content)/2)
	var merges []*Value
	for i := 0; i+1 < len(n.Content); i += 2 {
		k, c := n.Content[i], n.Content[i+1]
		if k.Kind == yaml.ScalarNode && k.Tag == "!!merge" || k.Value == "<<" && k.Style == 0 {
			m := r.value(c, depth+1)
			switch {
			case m.Kind == Mapping:
				merges = append(merges, m)
			case m.Kind == Null:
			case m.Kind == Sequence:
				merges = append(merges, m.Items...)
			case !r.stop:
				r.fault(c, "<< merges mappings, and this is "+m.Kind.String(),
					"Name an anchor of a mapping behind it.")
			}
			continue
		}
		if k.Kind == yaml.AliasNode {
			k = k.Alias
		}
		if k.Kind != yaml.ScalarNode {
			r.fault(k, "a key is a plain word, not a mapping or a list", "Write the key as a word.")
			continue
		}
		if first := v.find(k.Value); first >= 0 {
			r.fault(k, fmt.Sprintf("the key %q stands here a second time; the first is on line %d",
				k.Value, v.Members[first].Line), "Keep one of the two.")
			continue
		}
		v.add(Member{Key: k.Value, Line: k.Line + r.before, Column: k.Column,
			Value: r.value(c, depth+1)})
	}
	for _, m := range merges {
		for _, member := range m.Members {
			if v.find(member.Key) < 0 {
				member.Value = member.Value.copy()
				v.add(member)
			}
		}
	}
}
