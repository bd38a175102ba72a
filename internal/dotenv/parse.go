package dotenv

import (
	"bytes"
	"fmt"
	"strings"

	"nimbleharbor/internal/stack"
)

type parser struct {
	file    *File
	text    string // the file's data; keys and values are parts of it
	pos     int
	line    int
	comment []string
	from    int // where the comment begins, if there is one
	faults  stack.Faults
}

func (p *parser) parse() {
	data := p.file.data
	p.text = string(data)
	p.file.Settings = make([]Setting, 0, min(1+bytes.Count(data, []byte("=")), 1<<14))
	if bytes.HasPrefix(data, []byte("\xef\xbb\xbf")) {
		p.pos = 3
	}
	for p.pos < len(data) {
		p.readLine()
	}
}

// readLine reads one line, or the several lines of a quoted value.
func (p *parser) readLine() {
	data := p.file.data
	start, end := p.pos, p.lineEnd(p.pos)
	text := strings.TrimRight(p.text[start:end], "\r\n")
	trimmed := strings.TrimLeft(text, " \t")
	at := start + len(text) - len(trimmed)
	switch {
	case trimmed == "":
		p.comment = p.comment[:0]
		p.next(end)
		return
	case trimmed[0] == '#':
		if len(p.comment) == 0 {
			p.from = start
		}
		p.comment = append(p.comment, strings.TrimSpace(strings.TrimLeft(trimmed, "#")))
		p.next(end)
		return
	}
	if rest, ok := strings.CutPrefix(trimmed, "export"); ok && strings.IndexAny(rest, " \t") == 0 {
		trimmed = strings.TrimLeft(rest, " \t")
		at = start + len(text) - len(trimmed)
	}
	key, _, hasValue := strings.Cut(trimmed, "=")
	s := Setting{Key: strings.TrimRight(key, " \t"), Line: p.line, HasValue: hasValue, from: start}
	if len(p.comment) > 0 {
		s.from = p.from
	}
	if !hasValue {
		// A comment may follow a bare key.
		if i := strings.Index(s.Key, " #"); i >= 0 {
			p.comment = append(p.comment, strings.TrimSpace(s.Key[i+2:]))
			s.Key = strings.TrimRight(s.Key[:i], " \t")
		}
	}
	if !validKey(s.Key) {
		text := "a setting's name has letters, digits and _ only"
		if !hasValue {
			text = "a line is KEY=VALUE, or a comment behind #"
		}
		p.fault(at-start+1, text, "Correct the line, or put # before it.")
		p.comment = p.comment[:0]
		p.next(end)
		return
	}
	s.start = at + len(s.Key)
	s.end = s.start
	if hasValue {
		s.start = at + len(key) + 1
		for s.start < end && (data[s.start] == ' ' || data[s.start] == '\t') {
			s.start++
		}
		end = p.value(&s, start, end)
		if end < 0 {
			p.comment = p.comment[:0]
			return
		}
	}
	s.Comment = strings.Join(p.comment, "\n")
	p.comment = p.comment[:0]
	s.next = end
	p.file.Settings = append(p.file.Settings, s)
	p.next(end)
}

// value reads the value that begins at s.start and returns where the next line begins, or -1 after
// a fault.
func (p *parser) value(s *Setting, lineStart, lineEnd int) int {
	data := p.file.data
	if s.start < lineEnd && (data[s.start] == '"' || data[s.start] == '\'') {
		s.quote = data[s.start]
		i := s.start + 1
		for i < len(data) && data[i] != s.quote {
			if data[i] == '\\' && (s.quote == '"' || p.escapes(i)) {
				i++
			}
			i++
		}
		if i >= len(data) {
			p.fault(s.start-lineStart+1,
				fmt.Sprintf("the value of %s begins with %c and the closing one is missing",
					s.Key, s.quote), "Close the quote at the value's end.")
			p.next(lineEnd)
			return -1
		}
		s.end = i + 1
		s.Literal = s.quote == '\''
		s.Value = p.text[s.start+1 : i]
		if s.Literal {
			s.Value = strings.ReplaceAll(s.Value, `\'`, "'")
		} else {
			s.Value = unescape(s.Value)
		}
		end := p.lineEnd(s.end)
		rest := strings.TrimSpace(p.text[s.end:end])
		if rest != "" && rest[0] != '#' {
			p.fault(s.end-lineStart+1, fmt.Sprintf("text follows the closing quote of %s", s.Key),
				"Put the whole value in quotes, or write # before what is a comment.")
			p.next(end)
			return -1
		}
		if rest != "" {
			p.comment = append(p.comment, strings.TrimSpace(strings.TrimLeft(rest, "#")))
		}
		return end
	}
	raw := strings.TrimRight(p.text[s.start:lineEnd], "\r\n")
	value := raw
	if strings.HasPrefix(raw, "#") && s.start > 0 &&
		(data[s.start-1] == ' ' || data[s.start-1] == '\t') {
		value = ""
		for data[s.start-1] != '=' { // a value to come goes before the blanks in front of the comment
			s.start--
		}
		raw = strings.TrimRight(p.text[s.start:lineEnd], "\r\n")
	} else if i := inlineComment(raw); i >= 0 {
		value = raw[:i]
	}
	if comment := strings.TrimSpace(raw[len(value):]); comment != "" {
		p.comment = append(p.comment, strings.TrimSpace(strings.TrimLeft(comment, "#")))
	}
	s.Value = strings.TrimRight(value, " \t")
	s.end = s.start + len(s.Value)
	return lineEnd
}

// escapes reports whether a backslash between single quotes stands before a quote that is a part of
// the value: one that does not end the line, as that of a folder of Windows would.
func (p *parser) escapes(at int) bool {
	if at+1 >= len(p.text) || p.text[at+1] != '\'' {
		return false
	}
	rest := strings.TrimSpace(p.text[at+2 : p.lineEnd(at)])
	return rest != "" && rest[0] != '#'
}

// inlineComment finds where white space and # begin a comment, or gives -1.
func inlineComment(s string) int {
	for i := 1; i < len(s); i++ {
		if s[i] == '#' && (s[i-1] == ' ' || s[i-1] == '\t') {
			return i - 1
		}
	}
	return -1
}

func (p *parser) lineEnd(from int) int {
	if i := bytes.IndexByte(p.file.data[from:], '\n'); i >= 0 {
		return from + i + 1
	}
	return len(p.file.data)
}

func (p *parser) next(end int) {
	p.line += bytes.Count(p.file.data[p.pos:end], []byte("\n"))
	p.pos = end
}

func (p *parser) fault(column int, text, remedy string) {
	p.faults = append(p.faults, &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeEnvLine,
		At: stack.Place{File: p.file.Name,
			Line: p.line}, Column: column, Text: text, Remedy: remedy})
}

func unescape(s string) string {
	if !strings.Contains(s, `\`) {
		return s
	}
	var out strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '\\' || i+1 == len(s) {
			out.WriteByte(s[i])
			continue
		}
		i++
		switch s[i] {
		case 'n':
			out.WriteByte('\n')
		case 'r':
			out.WriteByte('\r')
		case 't':
			out.WriteByte('\t')
		case '"', '\\', '`':
			out.WriteByte(s[i])
		case '$':
			out.WriteString("$$") // an escaped dollar sign begins no variable
		default:
			out.WriteByte('\\')
			out.WriteByte(s[i])
		}
	}
	return out.String()
}
