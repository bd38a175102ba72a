package settings

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/tailscale/hujson"

	"nimbleharbor/internal/expr"
)

// jsonFormat is JSON (RFC 8259) with comments and trailing commas.
type jsonFormat struct{}

// listed finds the keys of a list's items.
var listed = expr.New(`\.\d+(\.|$)`)

var hujsonAt = expr.New(`^hujson: line (\d+), column (\d+): (.*)`)

func (jsonFormat) tree(name string, data []byte) (hujson.Value, error) {
	v, err := hujson.Parse(bytes.TrimPrefix(data, bom))
	if err == nil {
		if _, ok := v.Value.(*hujson.Object); !ok {
			return v, unreadable(name, "JSON settings", 1, 1, "an object in braces is expected")
		}
		return v, nil
	}
	line, column, why := 1, 1, err.Error()
	if m := hujsonAt.FindStringSubmatch(why); m != nil {
		line, _ = strconv.Atoi(m[1])
		column, _ = strconv.Atoi(m[2])
		why = m[3]
	}
	// The text behind a colon may quote the file.
	why, _, _ = strings.Cut(why, ":")
	return v, unreadable(name, "JSON", line, column, why)
}

var bom = []byte("\xef\xbb\xbf")

func (f jsonFormat) read(name string, data []byte) ([]Entry, error) {
	v, err := f.tree(name, data)
	if err != nil {
		return nil, err
	}
	shift := 0
	if bytes.HasPrefix(data, bom) {
		shift = len(bom)
	}
	var out []Entry
	var walk func(key, comment string, v *hujson.Value)
	walk = func(key, comment string, v *hujson.Value) {
		switch x := v.Value.(type) {
		case *hujson.Object:
			for i := range x.Members {
				m := &x.Members[i]
				behind := v.EndOffset
				if i+1 < len(x.Members) {
					behind = x.Members[i+1].Name.StartOffset
				}
				if comment != "" && bytes.ContainsRune(data[shift+v.StartOffset:shift+v.EndOffset],
					'\n') {
					comment = "" // what is said of several lines says little of each
				}
				note := comments(string(m.Name.BeforeExtra)) + "\n" +
					sameLine(data[shift+m.Value.EndOffset:shift+behind])
				if note = strings.TrimSpace(note); note == "" {
					note = comment
				}
				walk(join(key, m.Name.Value.(hujson.Literal).String()), note, &m.Value)
			}
		case *hujson.Array:
			for i := range x.Elements {
				walk(fmt.Sprintf("%s.%d", key, i), comment, &x.Elements[i])
			}
		case hujson.Literal:
			e := Entry{Key: key, Comment: comment, start: shift + v.StartOffset, end: shift +
				v.EndOffset, form: bare}
			switch x.Kind() {
			case '"':
				e.Value, e.form = x.String(), text
			case 'n':
			default:
				e.Value = string(x)
			}
			e.Line, _ = lineAt(data, e.start)
			out = append(out, e)
		}
	}
	walk("", "", &v)
	slices.SortStableFunc(out, func(a, b Entry) int { return a.start - b.start })
	return out, nil
}

func join(above, key string) string {
	if above == "" {
		return key
	}
	return above + "." + key
}

var jsonComment = expr.New(`(?s)//([^\n]*)|/\*(.*?)\*/`)

// comments are the last comments of what stands before a key, without those of the line before.
func comments(extra string) string {
	if i := strings.IndexByte(extra, '\n'); i >= 0 {
		extra = extra[i:]
	}
	if i := strings.LastIndex(strings.ReplaceAll(extra, "\r", ""), "\n\n"); i >= 0 {
		extra = strings.ReplaceAll(extra, "\r", "")[i:]
	}
	var out []string
	for _, m := range jsonComment.FindAllStringSubmatch(extra, -1) {
		out = append(out, strings.TrimSpace(m[1]+m[2]))
	}
	return strings.Join(out, "\n")
}

// sameLine is the comment behind a value.
func sameLine(after []byte) string {
	line, _, _ := strings.Cut(string(after), "\n")
	if m := jsonComment.FindStringSubmatch(line); m != nil {
		return strings.TrimSpace(m[1] + m[2])
	}
	return ""
}

var (
	number = expr.New(`^-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]+)?$`)
	truth  = expr.New(`^(true|false)$`)
)

func (jsonFormat) write(e *Entry, value string) (string, error) {
	if e.form == bare && (number.MatchString(value) || truth.MatchString(value)) {
		return value, nil
	}
	return quotedJSON(value), nil
}

func quotedJSON(value string) string {
	var out bytes.Buffer
	enc := json.NewEncoder(&out)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(strings.ToValidUTF8(value, "\uFFFD")); err != nil {
		return strconv.Quote(value)
	}
	return strings.TrimSuffix(out.String(), "\n")
}

// add inserts whole members, as they are written in the template, behind the one before them.
func (f jsonFormat) add(file, template []byte, missing []string) ([]byte, error) {
	t, err := f.tree("", template)
	if err != nil {
		return nil, err
	}
	tdata := bytes.TrimPrefix(template, bom)
	for _, key := range missing {
		v, err := f.tree("", file)
		if err != nil {
			return nil, err
		}
		shift := len(file) - len(bytes.TrimPrefix(file, bom))
		tail := file[shift:]
		if out, ok := f.member(tail, &v, &t, tdata, key); ok {
			file = slices.Concat(file[:shift], out)
		}
	}
	return file, nil
}

// member puts the outermost member of the template that holds the key and that the file lacks into
// the data.
func (f jsonFormat) member(data []byte, file, template *hujson.Value, tdata []byte,
	key string) ([]byte, bool) {
	have, want := file.Value.(*hujson.Object), template.Value.(*hujson.Object)
	for {
		i := slices.IndexFunc(want.Members, func(m hujson.ObjectMember) bool {
			name := m.Name.Value.(hujson.Literal).String()
			return key == name || strings.HasPrefix(key, name+".")
		})
		if i < 0 {
			return nil, false
		}
		name := want.Members[i].Name.Value.(hujson.Literal).String()
		k := slices.IndexFunc(have.Members,
			func(m hujson.ObjectMember) bool { return m.Name.Value.(hujson.Literal).String() == name })
		if k >= 0 {
			inner, isObject := want.Members[i].Value.Value.(*hujson.Object)
			own, same := have.Members[k].Value.Value.(*hujson.Object)
			if !isObject || !same {
				return nil, false
			}
			have, want, file = own, inner, &have.Members[k].Value
			key = strings.TrimPrefix(key, name+".")
			continue
		}
		before := string(want.Members[i].Name.BeforeExtra)
		if n := strings.IndexByte(before, '\n'); n > 0 && i > 0 {
			before = before[n:] // what stands behind the comma belongs to the member before
		}
		body := strings.TrimRight(before, " \t") + indentOf(before) +
			string(tdata[want.Members[i].Name.StartOffset:want.Members[i].Value.EndOffset])
		for p := i - 1; p >= 0; p-- {
			prior := want.Members[p].Name.Value.(hujson.Literal).String()
			if k := slices.IndexFunc(have.Members,
				func(m hujson.ObjectMember) bool { return m.Name.Value.(hujson.Literal).String() == prior }); k >= 0 {
				// Behind the comma and what is said behind it on the same line.
				end := have.Members[k].Value.EndOffset
				last := k == len(have.Members)-1
				comma := bytes.IndexByte(data[end:], ',')
				if last && (len(have.AfterExtra) == 0 || comma < 0 ||
					comma > len(have.Members[k].Value.AfterExtra)) {
					rest := endOfRemark(data, end)
					return slices.Concat(data[:end], []byte(","), data[end:rest], []byte(body),
						data[rest:]), true
				}
				rest := endOfRemark(data, end+len(have.Members[k].Value.AfterExtra)+1)
				return slices.Concat(data[:rest], []byte(body+","), data[rest:]), true
			}
		}
		at := file.StartOffset + 1
		if len(have.Members) == 0 {
			return slices.Concat(data[:at], []byte(body+"\n"), data[at:]), true
		}
		return slices.Concat(data[:at], []byte(body+","), data[at:]), true
	}
}

// endOfRemark is the end of the line from a place on, if nothing but a comment stands there; else
// the place itself.
func endOfRemark(data []byte, at int) int {
	line := data[at:]
	if i := bytes.IndexByte(line, '\n'); i >= 0 {
		line = line[:i]
	}
	if rest := strings.TrimSpace(string(line)); rest == "" || strings.HasPrefix(rest, "//") {
		return at + len(bytes.TrimRight(line, "\r"))
	}
	return at
}

func indentOf(before string) string {
	if i := strings.LastIndexByte(before, '\n'); i >= 0 {
		return strings.TrimLeft(before[i+1:], "\r")
	}
	return ""
}
