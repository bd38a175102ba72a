package settings

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// propertiesFormat is the line-oriented format of java.util.Properties, as its method load
// describes it.
type propertiesFormat struct{}

func (propertiesFormat) read(name string, data []byte) ([]Entry, error) {
	var out []Entry
	var note []string
	line := 1
	for at := 0; at < len(data); {
		begin, first := at, line
		at, line = nextLine(data, at), line+1
		raw := strings.TrimLeft(strings.TrimPrefix(strings.TrimRight(string(data[begin:at]),
			"\r\n"), "\xef\xbb\xbf"), " \t\f")
		if raw == "" {
			note = nil
			continue
		}
		if raw[0] == '#' || raw[0] == '!' {
			note = append(note, strings.TrimSpace(strings.TrimLeft(raw, "#!")))
			continue
		}
		for at < len(data) && oddBackslashes(strings.TrimRight(string(data[begin:at]), "\r\n")) {
			at, line = nextLine(data, at), line+1
		}
		start := begin + strings.Index(string(data[begin:at]), raw[:1])
		e := Entry{Line: first, Comment: strings.Join(note, "\n")}
		note = nil
		end := begin + len(strings.TrimRight(string(data[begin:at]), "\r\n"))
		i := start
		for i < end && !strings.ContainsRune("=: \t\f", rune(data[i])) {
			if data[i] == '\\' {
				i++
			}
			i++
		}
		i = min(i, end)
		afterKey := i
		var err error
		if e.Key, err = propertiesText(string(data[start:i])); err != nil {
			return nil, unreadable(name, "properties", first, i-begin, err.Error())
		}
		for seen := false; i < end; i++ {
			if c := data[i]; c == '=' || c == ':' {
				if seen {
					break
				}
				seen = true
			} else if c != ' ' && c != '\t' && c != '\f' {
				break
			}
		}
		e.start, e.end = i, end
		if e.Value, err = propertiesText(string(data[i:end])); err != nil {
			return nil, unreadable(name, "properties", first, i-begin+1, err.Error())
		}
		if i == end && !strings.ContainsAny(string(data[afterKey:end]), "=: \t\f") {
			e.form = fixed
		}
		out = append(out, e)
	}
	return out, nil
}

func oddBackslashes(s string) bool {
	n := len(s) - len(strings.TrimRight(s, `\`))
	return n%2 == 1
}

// propertiesText takes the escapes out of a key or value.
func propertiesText(s string) (string, error) {
	if !strings.Contains(s, `\`) {
		return s, nil
	}
	var out []rune
	for i := 0; i < len(s); {
		c, size := utf8.DecodeRuneInString(s[i:])
		i += size
		if c != '\\' || i >= len(s) {
			if c != '\\' {
				out = append(out, c)
			}
			continue
		}
		c, size = utf8.DecodeRuneInString(s[i:])
		i += size
		switch c {
		case 'n':
			c = '\n'
		case 't':
			c = '\t'
		case 'r', 'f':
			if c == 'f' {
				c = '\f'
				break
			}
			c = '\r'
		case 'u':
			if i+4 > len(s) {
				return "", fmt.Errorf(`four digits are expected behind \u`)
			}
			n, err := strconv.ParseUint(s[i:i+4], 16, 16)
			if err != nil {
				return "", fmt.Errorf(`four digits are expected behind \u`)
			}
			c, i = rune(n), i+4
			if last := len(out) - 1; last >= 0 && utf16.IsSurrogate(out[last]) {
				if whole := utf16.DecodeRune(out[last], c); whole != utf8.RuneError {
					out, c = out[:last], whole
				}
			}
		case '\r', '\n': // the line goes on
			for i < len(s) && strings.ContainsRune(" \t\f\r\n", rune(s[i])) {
				i++
			}
			continue
		}
		out = append(out, c)
	}
	return string(out), nil
}

func (propertiesFormat) write(_ *Entry, value string) (string, error) {
	return propertiesQuoted(value, false), nil
}

func propertiesQuoted(s string, key bool) string {
	var out strings.Builder
	for i, c := range s {
		switch {
		case c == '\\':
			out.WriteString(`\\`)
		case c == '\n':
			out.WriteString(`\n`)
		case c == '\r':
			out.WriteString(`\r`)
		case c == '\t':
			out.WriteString(`\t`)
		case c == '\f':
			out.WriteString(`\f`)
		case c == ' ' && (i == 0 || key), key && strings.ContainsRune("=:#!", c),
			(c == '=' || c == ':' || c == '#' || c == '!') && i == 0:
			out.WriteString(`\` + string(c))
		case c < 0x20 || c > 0x7e:
			for _, u := range utf16.Encode([]rune{c}) {
				fmt.Fprintf(&out, `\u%04X`, u)
			}
		default:
			out.WriteRune(c)
		}
	}
	return out.String()
}

func (propertiesFormat) line(key, value string) string {
	return propertiesQuoted(key, true) + "=" + propertiesQuoted(value, false) + "\n"
}

// add inserts each key with the comment above it behind the nearest one above it that both have.
func (f propertiesFormat) add(file, template []byte, missing []string) ([]byte, error) {
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
		i := slices.IndexFunc(want, func(e Entry) bool { return e.Key == key })
		first := withComment(lines, want[i].Line)
		last, _ := lineAt(template, max(want[i].start, want[i].end-1))
		block := strings.TrimRight(strings.Join(lines[first-1:last], ""), "\r\n") + lineEnd(file)
		if oddBackslashes(strings.TrimRight(block, "\r\n")) {
			continue // its end is open, and what follows would become a part of it
		}
		at := 0
		for _, e := range slices.Backward(want[:i]) {
			if k := slices.IndexFunc(own, func(o Entry) bool { return o.Key == e.Key }); k >= 0 {
				at = nextLine(file, own[k].end)
				break
			}
		}
		file = slices.Concat(ended(slices.Clone(file[:at])), []byte(block), file[at:])
	}
	return file, nil
}
