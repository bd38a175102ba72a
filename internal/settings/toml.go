package settings

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"

	"nimbleharbor/internal/reading"
)

// tomlFormat is TOML 1.0.
type tomlFormat struct{}

func (tomlFormat) read(name string, data []byte) ([]Entry, error) {
	if err := reading.TOML(data); err != nil {
		return nil, unreadable(name, "TOML", 1, 1, err.Error())
	}
	if err := toml.Unmarshal(data, &map[string]any{}); err != nil {
		line, column := 1, 1
		if de, ok := err.(*toml.DecodeError); ok {
			line, column = de.Position()
		}
		return nil, unreadable(name, "TOML", line, column, "the line can't be understood")
	}
	shift := len(data) - len(bytes.TrimPrefix(data, bom))
	var p unstable.Parser
	p.KeepComments = true
	p.Reset(data[shift:])
	var out []Entry
	table, note, noteLine := "", []string{}, 0
	tables := map[string]int{}
	for p.NextExpression() {
		x := p.Expression()
		switch x.Kind {
		case unstable.Comment:
			line, _ := lineAt(data, shift+int(x.Raw.Offset))
			comment := strings.TrimSpace(strings.TrimLeft(string(x.Data), "#"))
			if len(out) > 0 && out[len(out)-1].Line == line { // it stands behind the value
				last := &out[len(out)-1]
				last.Comment = strings.TrimSpace(last.Comment + "\n" + comment)
				continue
			}
			if line != noteLine+1 {
				note = nil
			}
			note, noteLine = append(note, comment), line
			continue
		case unstable.Table, unstable.ArrayTable:
			table = tomlKey(x.Key())
			if x.Kind == unstable.ArrayTable {
				table, tables[table] = fmt.Sprintf("%s.%d", table, tables[table]), tables[table]+1
			}
		case unstable.KeyValue:
			from := len(out)
			tomlValue(&p, data, shift, join(table, tomlKey(x.Key())), x.Value(), &out)
			if from < len(out) && noteLine > 0 && out[from].Line == noteLine+1 {
				out[from].Comment = strings.Join(note, "\n")
			}
		}
		note, noteLine = nil, 0
	}
	return out, nil
}

func tomlKey(it unstable.Iterator) string {
	var parts []string
	for it.Next() {
		parts = append(parts, string(it.Node().Data))
	}
	return strings.Join(parts, ".")
}

func tomlValue(p *unstable.Parser, data []byte, shift int, key string, v *unstable.Node,
	out *[]Entry) {
	switch v.Kind {
	case unstable.Array:
		it := v.Children()
		for i := 0; it.Next(); i++ {
			tomlValue(p, data, shift, fmt.Sprintf("%s.%d", key, i), it.Node(), out)
		}
		return
	case unstable.InlineTable:
		it := v.Children()
		for it.Next() {
			tomlValue(p, data, shift, join(key, tomlKey(it.Node().Key())), it.Node().Value(), out)
		}
		return
	case unstable.Comment:
		return
	}
	raw := v.Raw
	if raw.Length == 0 && len(v.Data) > 0 {
		raw = p.Range(v.Data)
	}
	e := Entry{Key: key, Value: string(v.Data), start: shift + int(raw.Offset), end: shift +
		int(raw.Offset+raw.Length), form: bare}
	if v.Kind == unstable.String {
		e.form = text
		if bytes.HasPrefix(data[e.start:], []byte(`"""`)) ||
			bytes.HasPrefix(data[e.start:], []byte("'''")) || e.start == e.end {
			e.form = fixed
		}
	}
	e.Line, _ = lineAt(data, e.start)
	*out = append(*out, e)
}

func (tomlFormat) write(e *Entry, value string) (string, error) {
	if e.form == bare && (number.MatchString(value) || truth.MatchString(value)) {
		return value, nil
	}
	return strings.ReplaceAll(quotedJSON(value), "\x7f", `\u007F`), nil
}

// add inserts lines behind the nearest entry above them in their table, and whole tables at the
// end.
func (f tomlFormat) add(file, template []byte, missing []string) ([]byte, error) {
	want, err := f.read("", template)
	if err != nil {
		return nil, err
	}
	lines := strings.SplitAfter(string(template), "\n")
	for _, key := range missing {
		own, err := f.read("", file)
		if err != nil {
			return nil, err
		}
		i := slices.IndexFunc(want, func(e Entry) bool { return list(e.Key) == key })
		first, last := want[i].Line, want[i].Line
		if i > 0 && want[i-1].Line == first {
			continue // one of several on a line
		}
		first = withComment(lines, first)
		for k := i; k < len(want) && list(want[k].Key) == key; k++ {
			last, _ = lineAt(template, want[k].end)
		}
		block := strings.TrimRight(strings.Join(lines[first-1:last], ""), "\r\n") + lineEnd(file)
		if at := tomlPlace(file, own, want[:i], tomlTable(template, want[i].start), key); at >= 0 {
			head := ended(slices.Clone(file[:at]))
			file = slices.Concat(head, []byte(block), file[at:])
		} else {
			file = ended(slices.Clone(file))
			file = append(file, lineEnd(file)+tomlTable(template,
				want[i].start)+lineEnd(file)+block...)
		}
	}
	return file, nil
}

// tomlTable is the header of the table that a place in the text lies in, empty at the top.
func tomlTable(data []byte, at int) string {
	header := ""
	for line := range strings.Lines(string(data[:at])) {
		if line = strings.TrimSpace(line); strings.HasPrefix(line, "[") {
			line, _, _ = strings.Cut(line, "#")
			header = strings.TrimSpace(line)
		}
	}
	return header
}

// tomlPlace is where in the file a setting of a table goes, or -1 if the file lacks the table.
func tomlPlace(file []byte, own, above []Entry, header, key string) int {
	for _, e := range slices.Backward(above) {
		i := slices.IndexFunc(own, func(o Entry) bool { return o.Key == e.Key })
		if i >= 0 && tomlTable(file, own[i].start) == header {
			return nextLine(file, own[i].end)
		}
	}
	if header == "" {
		return 0
	}
	at := 0
	for line := range strings.Lines(string(file)) {
		at += len(line)
		line, _, _ = strings.Cut(line, "#")
		if strings.TrimSpace(line) == header {
			return at
		}
	}
	return -1
}

func nextLine(data []byte, at int) int {
	if i := bytes.IndexByte(data[at:], '\n'); i >= 0 {
		return at + i + 1
	}
	return len(data)
}
